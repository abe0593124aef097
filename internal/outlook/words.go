package outlook

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file records what people state: that a step is done, what they saw, what they
// did. When a method returns nil, the statement is on disk.

// Said says who states something about which device, and on which of its revisions that
// was decided (0: on none in particular).
type Said struct {
	Of       *keeper.Keeper
	By       string
	Revision int64
}

// say records a person's statement.
func (o *Outlook) say(ctx context.Context, s Said, key fact.Key, v fact.Value, scoped bool) error {
	if err := o.Check(s.Of, s.Revision); err != nil {
		return err
	}
	f := s.Of.Told(key, v, s.By, scoped)
	if err := s.Of.Facts().View().Registry().Check(f); err != nil {
		return problem.Errorf(problem.Invalid, "%w", err)
	}
	return o.Stating(s.Of, func() error { return s.Of.Facts().Observe(ctx, f) })
}

// Tell records that a person says that a step is done.
func (o *Outlook) Tell(ctx context.Context, s Said, step string) error {
	if cause, ok := strings.CutPrefix(step, remedies); ok {
		return o.Remedied(ctx, s, cause)
	}
	st := o.sheet(s.Of).Step(step)
	if st == nil {
		return fmt.Errorf("step %.60q: %w", step, store.ErrNotFound)
	}
	if !Confirmable(st) {
		return problem.Errorf(problem.Invalid, "step %s cannot be confirmed: the bench observes whether it is done", step)
	}
	if st.Tells != "" {
		if err := o.say(ctx, s, st.Tells, fact.Of(true), false); err != nil {
			return err
		}
		s.Revision = 0 // that word itself may have raised it
	}
	return o.say(ctx, s, sheet.Told(step), fact.Of(true), !st.Lasts)
}

// Confirmable reports whether people say of a step that it is done: it is not the bench's own,
// and the bench does not see its end for sure.
func Confirmable(s *sheet.Step) bool {
	return (s.Who == sheet.Hands || s.Means != "" || strings.HasPrefix(s.ID, remedies) && s.Who != sheet.Automatic) && !s.Sure && (s.Action == "" || s.Action == sheet.Register || s.Action == sheet.PutStatement)
}

// WantsAccount reports whether a step wants an account at an authority and none is in use: the
// step registers, or it shows the crew's number.
func (s *Standing) WantsAccount(step *sheet.Step) bool {
	in, ok := s.View.Get(fact.AccountState, s.Now)
	signedIn := ok && in.Value.Text() == "in"
	return !signedIn && (step.Means == "account" || strings.Contains(step.Note+step.Text, "{crew}"))
}

// sheet returns the sheet that applies to a device now.
func (o *Outlook) sheet(k *keeper.Keeper) *sheet.Sheet {
	f, _ := k.Facts().View().Get(fact.OSRelease, o.cfg.Clock.Now())
	return k.Series().At(fact.Release(f.Value.Text()))
}

// TellFact records a fact as a person states it.
func (o *Outlook) TellFact(ctx context.Context, s Said, key, value string) error {
	registry := s.Of.Facts().View().Registry()
	spec, ok := registry.Lookup(fact.Key(key))
	if !ok || !slices.Contains(spec.Sources, fact.Person) {
		var may []string
		for _, s := range Tellable(registry) {
			may = append(may, string(s.Key))
		}
		return problem.Errorf(problem.Invalid, "fact %.60q cannot be stated by a person; people can state %s", key, strings.Join(may, ", "))
	}
	v, err := parseWord(spec.Type, value)
	if err != nil {
		return problem.Errorf(problem.Invalid, "fact %s: %w", key, err)
	}
	return o.say(ctx, s, spec.Key, v, spec.Ends == fact.EndsUnplug)
}

// Tellable are the facts that a person may state.
func Tellable(registry *fact.Registry) (out []fact.Spec) {
	for _, s := range registry.All() {
		if slices.Contains(s.Sources, fact.Person) && !strings.ContainsAny(string(s.Key), "-") && !isWord(s.Key) {
			out = append(out, s)
		}
	}
	return out
}

func isWord(k fact.Key) bool {
	for _, p := range []string{"told.", "said.", "did."} {
		if strings.HasPrefix(string(k), p) {
			return true
		}
	}
	return false
}

// parseWord reads a value as people write it.
func parseWord(t fact.Type, s string) (fact.Value, error) {
	switch t {
	case fact.Bool:
		switch s {
		case "yes", "true":
			return fact.Of(true), nil
		case "no", "false":
			return fact.Of(false), nil
		}
		return fact.Value{}, fmt.Errorf("write yes or no, not %.60q", s)
	case fact.Int:
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil {
			return fact.Value{}, fmt.Errorf("write a whole number, not %.60q", s)
		}
		return fact.Of(n), nil
	case fact.Text:
		return fact.Of(s), nil
	}
	return fact.ParseValue(t, []byte(strconv.Quote(s)))
}

// Answer records a person's answer to a check.
func (o *Outlook) Answer(ctx context.Context, s Said, check, answer string) error {
	c, err := o.check(s.Of, check)
	if err != nil {
		return err
	}
	var ids []string
	for _, a := range c.Answers {
		ids = append(ids, a.ID)
	}
	if !slices.Contains(ids, answer) {
		return problem.Errorf(problem.Invalid, "check %s has no answer %.60q; there are %s", check, answer, strings.Join(ids, ", "))
	}
	return o.say(ctx, s, sheet.Said(check), fact.Of(answer), false)
}

func (o *Outlook) check(k *keeper.Keeper, id string) (*sheet.Check, error) {
	s := o.sheet(k)
	if c := s.Check(id); c != nil {
		return c, nil
	}
	var there []string
	for _, c := range s.Checks {
		there = append(there, c.ID)
	}
	return nil, fmt.Errorf("check %.60q: %w; its sheet has %s", id, store.ErrNotFound, strings.Join(there, ", "))
}

// TakeBack takes an answer back.
func (o *Outlook) TakeBack(ctx context.Context, s Said, check string) error {
	if _, err := o.check(s.Of, check); err != nil {
		return err
	}
	if err := o.Check(s.Of, s.Revision); err != nil {
		return err
	}
	return s.Of.Facts().Forget(ctx, fact.Person, sheet.Said(check))
}

// Remedied records that a person applied the remedy of a cause.
func (o *Outlook) Remedied(ctx context.Context, s Said, causeID string) error {
	if o.sheet(s.Of).Cause(causeID) == nil {
		var there []string
		for _, c := range o.Look(s.Of, "").Why.Causes {
			there = append(there, c.ID)
		}
		return fmt.Errorf("cause %.60q: %w; it may be %s", causeID, store.ErrNotFound, strings.Join(there, ", "))
	}
	return o.say(ctx, s, sheet.Did(causeID), fact.Of(true), false)
}

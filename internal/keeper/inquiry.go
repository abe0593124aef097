package keeper

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds what people say: that a step is done, what they saw, what
// they did; and what is learned from it once a gate opens.

// word keeps what a person says of a key, with who and when.
func (k *Keeper) word(key fact.Key, v fact.Value, by string, scoped bool) error {
	k.mu.Lock()
	f := k.seen(key, v, fact.Person, "")
	if f.By = by; scoped && k.at != nil {
		f.Scope = k.at.scope()
	}
	registry := k.series.Registry
	k.mu.Unlock()
	if err := registry.Check(f); err != nil {
		return fmt.Errorf("%w: %w", ErrBad, err)
	}
	k.observe(f)
	return nil
}

// Tell keeps a person's word that a step is done.
func (k *Keeper) Tell(step, by string) error {
	k.mu.Lock()
	st := k.sheet(k.rack.cfg.Clock.Now()).Step(step)
	k.mu.Unlock()
	if st == nil {
		return fmt.Errorf("step %q: %w", step, store.ErrNotFound)
	}
	if st.Who != sheet.Hands || st.Sure || st.Action != "" {
		return fmt.Errorf("step %s: %w: the bench sees for itself whether it is done", step, ErrBad)
	}
	if st.Tells != "" {
		if err := k.word(st.Tells, fact.Of(true), by, false); err != nil {
			return err
		}
	}
	return k.word(sheet.Told(step), fact.Of(true), by, true)
}

// TellFact keeps a person's word for a fact that people may tell.
func (k *Keeper) TellFact(key, value, by string) error {
	spec, ok := k.registry().Lookup(fact.Key(key))
	if !ok || !slices.Contains(spec.Sources, fact.Person) {
		var may []string
		for _, s := range k.registry().All() {
			if slices.Contains(s.Sources, fact.Person) && !strings.ContainsAny(string(s.Key), "-") && !isWord(s.Key) {
				may = append(may, string(s.Key))
			}
		}
		return fmt.Errorf("fact %.60q: %w: people may tell %s", key, ErrBad, strings.Join(may, ", "))
	}
	v, err := parseWord(spec.Type, value)
	if err != nil {
		return fmt.Errorf("fact %s: %w: %w", key, ErrBad, err)
	}
	return k.word(spec.Key, v, by, spec.Ends == fact.EndsUnplug)
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
		return fact.Value{}, fmt.Errorf("write yes or no, not %q", s)
	case fact.Int:
		n, err := strconv.ParseInt(s, 10, 64)
		return fact.Of(n), err
	case fact.Text:
		return fact.Of(s), nil
	}
	return fact.ParseValue(t, []byte(strconv.Quote(s)))
}

// Answer keeps a person's answer to a check.
func (k *Keeper) Answer(check, answer, by string) error {
	c, err := k.check(check)
	if err != nil {
		return err
	}
	var ids []string
	for _, a := range c.Answers {
		ids = append(ids, a.ID)
	}
	if !slices.Contains(ids, answer) {
		return fmt.Errorf("check %s has no answer %.60q: %w; there are %s", check, answer, ErrBad, strings.Join(ids, ", "))
	}
	return k.word(sheet.Said(check), fact.Of(answer), by, false)
}

func (k *Keeper) check(id string) (*sheet.Check, error) {
	s := k.Sheet()
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
func (k *Keeper) TakeBack(ctx context.Context, check string) error {
	if _, err := k.check(check); err != nil {
		return err
	}
	return k.forget(ctx, []fact.Key{sheet.Said(check)})
}

// forget drops people's words.
func (k *Keeper) forget(ctx context.Context, keys []fact.Key) error {
	k.mu.Lock()
	k.view = k.view.Without(fact.Person, keys...)
	k.count()
	d := k.device
	k.mu.Unlock()
	return k.rack.cfg.Store.DropFacts(ctx, d.ID, d.Handle, fact.Person, keys)
}

// Remedied keeps a person's word that what helps against a cause was done.
func (k *Keeper) Remedied(causeID, by string) error {
	if s := k.Sheet(); s.Cause(causeID) == nil {
		var there []string
		for _, c := range k.Look(context.Background(), "").Why.Causes {
			there = append(there, c.ID)
		}
		return fmt.Errorf("cause %.60q: %w; it may be %s", causeID, store.ErrNotFound, strings.Join(there, ", "))
	}
	return k.word(sheet.Did(causeID), fact.Of(true), by, false)
}

// finding is what was found out by a gate's opening.
type finding struct {
	cause string // "" where nobody can tell
	over  []fact.Key
}

// telling tells whether an explanation will teach something once its gate opens:
// somebody answered, did something, or it names a cause.
func telling(e cause.Explanation) bool {
	return len(e.Answers) > 0 || len(e.Causes) > 0 && e.Causes[0].Probability >= cause.Named ||
		slices.ContainsFunc(e.Causes, func(c cause.Ranked) bool { return c.Done })
}

// found tells what was found out if the gate that was asked about has opened.
// The lock is held.
func (k *Keeper) found(r *ready.Readiness) *finding {
	asked := k.asked
	if asked.Gate == "" || r.Gate(asked.Gate).State != ready.Open {
		return nil
	}
	k.asked = cause.Explanation{}
	return k.finding(asked)
}

// finding is what an inquiry came to. The lock is held.
func (k *Keeper) finding(asked cause.Explanation) *finding {
	var words []fact.Fact
	for _, f := range k.view.All() {
		if f.Source == fact.Person && isWord(f.Key) && !strings.HasPrefix(string(f.Key), "told.") {
			words = append(words, f)
		}
	}
	f := &finding{cause: cause.Turned(asked, words)}
	for _, w := range words {
		f.over = append(f.over, w.Key)
	}
	return f
}

// learn counts what was found out, and ends the inquiry that led to it.
func (k *Keeper) learn(ctx context.Context, f *finding) {
	if f == nil {
		return
	}
	if f.cause != "" {
		k.mu.Lock()
		family, host := k.series.Family, k.host
		k.mu.Unlock()
		if err := k.rack.learn(ctx, family, host, f.cause); err != nil {
			k.rack.cfg.Log.Error("count a cause", "cause", f.cause, "error", err)
		}
	}
	if len(f.over) > 0 {
		if err := k.forget(ctx, f.over); err != nil {
			k.rack.cfg.Log.Error("end an inquiry", "error", err)
		}
	}
}

// History returns what was known of the device at any time, the newest first.
func (k *Keeper) History(ctx context.Context, limit int) ([]fact.Fact, error) {
	r := k.registry()
	return k.rack.cfg.Store.History(ctx, k.Device().ID, func(key fact.Key) (fact.Type, bool) {
		s, ok := r.Lookup(key)
		return s.Type, ok
	}, limit)
}

// unseenID is the subject of what is said of a device that does not show up.
const unseenID = "unseen"

// unseen makes the keeper of the device that does not show up at all.
func (r *Rack) makeUnseen(ctx context.Context) (*Keeper, error) {
	base := r.library().Base("any")
	if base == nil {
		return nil, fmt.Errorf("there is no sheet %q for devices that do not show up", "any")
	}
	return r.keeperBy(ctx, &sheet.Series{Registry: base.Registry, Sheets: []*sheet.Sheet{base}}, store.Device{ID: unseenID, Handle: unseenID})
}

// Unseen is the keeper of a device that does not show up at all: it only knows
// what people say.
func (r *Rack) Unseen() *Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.unseen
}

// appeared takes that a device has shown up: what people said of one that did
// not is over, and what helped is counted.
func (r *Rack) appeared(ctx context.Context, host string) {
	k := r.Unseen()
	k.mu.Lock()
	k.host = host
	f := k.finding(k.asked)
	k.asked = cause.Explanation{}
	k.mu.Unlock()
	if len(f.over) > 0 {
		k.learn(ctx, f)
	}
}

// Weights of what was learned elsewhere, beside one case of the same family and
// host.
const (
	otherHost = 0.25
	anyFamily = 0.5
)

// learned is what was learned for a family on a host: its own cases whole, what
// was learned on other hosts and of devices that did not show up in part.
func (r *Rack) learned(family, host string) cause.Learned {
	r.learning.Lock()
	defer r.learning.Unlock()
	key := place{family, host}
	if got, ok := r.reckoned[key]; ok {
		return got
	}
	out := cause.Learned{}
	for _, l := range r.cases {
		switch {
		case l.Family == family && l.Host == host:
			out[l.Cause] += float64(l.Cases)
		case l.Family == family:
			out[l.Cause] += otherHost * float64(l.Cases)
		case l.Family == "":
			out[l.Cause] += anyFamily * float64(l.Cases)
		}
	}
	r.reckoned[key] = out
	return out
}

func (r *Rack) learn(ctx context.Context, family, host, causeID string) error {
	if err := r.cfg.Store.Learn(ctx, family, host, causeID, r.cfg.Clock.Now()); err != nil {
		return err
	}
	return r.readLearned(ctx)
}

// Unlearn forgets all cases, or those of one family, and tells how many.
func (r *Rack) Unlearn(ctx context.Context, family string, all bool) (int64, error) {
	n, err := r.cfg.Store.Unlearn(ctx, family, all)
	if err != nil {
		return 0, err
	}
	return n, r.readLearned(ctx)
}

func (r *Rack) readLearned(ctx context.Context) error {
	cases, err := r.cfg.Store.Learned(ctx)
	if err != nil {
		return fmt.Errorf("read what was learned: %w", err)
	}
	r.learning.Lock()
	defer r.learning.Unlock()
	r.cases, r.reckoned = cases, map[place]cause.Learned{}
	return nil
}

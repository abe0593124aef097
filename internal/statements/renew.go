package statements

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
)

// renewAhead is how long before its end a statement is renewed, but not before two thirds of its
// term have passed.
const renewAhead = 14 * 24 * time.Hour

// notice is how long before its end one is told of, if it was not renewed by then.
const notice = 5 * 24 * time.Hour

// due is when a statement is renewed automatically.
func due(s *statement.Statement) time.Time {
	return s.End().Add(-min(renewAhead, s.End().Sub(s.Begin())/3))
}

// renews reports whether the bench renews a statement by itself: it has asked for it, and nobody
// has withdrawn it.
func (s *Statements) renews(st Statement) bool {
	return st.Asked && !st.Withdrawn && s.Mine(st.Confirmation.Thumbprint)
}

// successor is the statement of the bench that lasts longest in the place of another; nil if that
// lasts longest itself.
func (s *Statements) successor(old *statement.Statement) *Statement {
	var best *Statement
	all := s.All()
	for i := range all {
		st := &all[i]
		// Devices that have left the register meanwhile are not named any more.
		same := st.Kind == old.Kind && st.Confirmation == old.Confirmation && st.Subject == old.Subject && st.App == old.App && (st.Debug || !old.Debug)
		if !same || st.Withdrawn || !st.Asked || st.Ends <= old.Ends || !covers(st.Features, old.Features) || !covers(st.Devices, s.stillIn(old.Devices)) {
			continue
		}
		best = st // those that end last come last
	}
	return best
}

func covers(all, some []string) bool {
	return !slices.ContainsFunc(some, func(s string) bool { return !slices.Contains(all, s) && !slices.Equal(all, []string{statement.Any}) })
}

// stillIn are those of some serials that are in the register, as far as that is known.
func (s *Statements) stillIn(serials []string) (out []string) {
	in := s.cfg.Registered()
	for _, serial := range serials {
		if in == nil || in[serial] || serial == statement.Any {
			out = append(out, serial)
		}
	}
	return out
}

// renewDue renews what ends soon, if no person is needed for it.
func (s *Statements) renewDue(ctx context.Context) {
	acc, err := s.cfg.Account()
	if err != nil {
		return
	}
	now := s.cfg.Clock.Now()
	for _, st := range s.All() {
		if !s.renews(st) || st.Authority != acc.Authority || st.Crew() != acc.Crew || now.Before(due(st.Statement)) || s.successor(st.Statement) != nil {
			continue
		}
		devices := s.stillIn(st.Devices)
		if len(devices) == 0 {
			continue // all have left the register
		}
		ask := Ask{Kind: st.Kind, Key: st.Confirmation.Thumbprint, App: strings.TrimPrefix(st.App, statement.Any), Devices: devices, Debug: st.Debug, Features: st.Features}
		if slices.Equal(st.Devices, []string{statement.Any}) {
			ask.Any, ask.Devices = true, nil
		}
		if _, err := s.Issue(ctx, ask); err != nil && ctx.Err() == nil && problem.KindOf(err) != problem.Person {
			s.cfg.Log.Warn("renew a statement", "id", st.ID, "error", err)
		}
	}
}

// forget drops statements of the bench that have ended and in whose place another has come.
func (s *Statements) forget(ctx context.Context) {
	now, dropped := s.cfg.Clock.Now(), false
	var failed error
	for _, st := range s.All() {
		if st.Asked && now.After(st.End()) && s.successor(st.Statement) != nil {
			failed, dropped = errors.Join(failed, s.cfg.Store.DropStatement(ctx, st.ID)), true
		}
	}
	if dropped {
		failed = errors.Join(failed, s.again(ctx))
	}
	if failed != nil && ctx.Err() == nil {
		s.cfg.Log.Warn("forget statements that have ended", "error", failed)
	}
}

// Terms are the grants and debug tokens of the bench, and those of others on its devices, as things
// that end. One in whose place another has come is left out.
func (s *Statements) Terms(context.Context) ([]ending.Term, error) {
	var out []ending.Term
	at := map[string]int{}
	add := func(st Statement, handle string) {
		i, known := at[st.ID]
		if !known {
			i, at[st.ID] = len(out), len(out)
			out = append(out, s.term(st))
		}
		if handle != "" && !slices.Contains(out[i].Devices, handle) {
			out[i].Devices = append(out[i].Devices, handle)
		}
	}
	for _, st := range s.All() {
		if !st.Withdrawn && s.successor(st.Statement) == nil {
			add(st, "")
		}
	}
	for _, k := range s.cfg.Rack.All() {
		held, _ := s.onDevice(k)
		for _, st := range held {
			if !st.Withdrawn && s.successor(st.Statement) == nil {
				add(st, k.Device().Handle)
			}
		}
	}
	for i := range out {
		slices.Sort(out[i].Devices)
	}
	return out, nil
}

func (s *Statements) term(st Statement) ending.Term {
	kind := ending.Token
	if st.Kind == statement.Grant {
		kind = ending.Grant
	}
	apps := "every app"
	if st.App != statement.Any {
		apps = st.App
	}
	t := ending.Term{ID: st.ID, Kind: kind, Name: st.ID[:8], Holder: st.Subject, Begins: st.Begin(), Ends: st.End(), Notice: notice, Mine: s.Mine(st.Confirmation.Thumbprint), Stops: fmt.Sprintf("%s of %s no longer starts.", apps, st.Subject)}
	for _, a := range s.All() {
		t.Alone = t.Alone || a.ID == st.ID && s.renews(a)
	}
	if t.Mine && !t.Alone {
		t.Step, t.Command = "Get a new one, and put it on the device.", fmt.Sprintf("earlybench %s new DEVICE", word(st.Kind))
	}
	if !t.Mine {
		t.Stops = fmt.Sprintf("It is %s's; your apps do not need it.", st.Subject)
	}
	return t
}

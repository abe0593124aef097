package statements

import (
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
)

// On returns the grants and debug tokens that a device was seen to hold, in its order.
func (s *Statements) On(handle string) ([]Statement, error) {
	k, err := s.cfg.Rack.Find(handle)
	if err != nil {
		return nil, err
	}
	all, known := s.onDevice(k)
	if !known && kindFor(k, false) == "" {
		return nil, problem.Errorf(problem.Unsupported, "%s uses neither grants nor debug tokens", handle)
	}
	return all, nil
}

// Mine reports whether a developer's key is one of this bench's.
func (s *Statements) Mine(thumbprint string) bool {
	return thumbprint != "" && thumbprint == s.cfg.Developer() || slices.Contains(s.cfg.Identities(), thumbprint)
}

// onDevice are the statements that a device was seen to hold, in its order; ok is false if that is
// not known.
func (s *Statements) onDevice(k *keeper.Keeper) (out []Statement, ok bool) {
	f, ok := k.Facts().View().Get(fact.Statements, s.cfg.Clock.Now())
	if !ok {
		return nil, false
	}
	checkers := s.cfg.Authorities.Checkers()
	withdrawn := s.withdrawn()
	for _, text := range bounded(f.Value.Texts()) {
		for name, c := range checkers {
			if st, err := c.Read(text); err == nil {
				out = append(out, Statement{Statement: st, Authority: name, Withdrawn: slices.Contains(withdrawn, st.ID)})
				break
			}
		}
	}
	return out, true
}

// kindFor is the kind of statement that must cover an app on a device; "" for none. signed says that
// an identity has signed it.
func kindFor(k *keeper.Keeper, signed bool) statement.Kind {
	switch series := k.Series(); {
	case series.Needs("token") && !signed:
		return statement.DebugToken
	case series.Needs("granted"):
		return statement.Grant
	}
	return ""
}

// at fills in where and when an app is started: by the device's clock, as far as that is known.
func (s *Statements) at(k *keeper.Keeper, w statement.Start) statement.Start {
	now := s.cfg.Clock.Now()
	w.Serial, w.At, w.Withdrawn = k.Device().Serial, now, s.withdrawn()
	if f, ok := k.Facts().View().Get(fact.DeviceClock, now); ok {
		w.At = now.Add(time.Duration(f.Value.Int()) * time.Second)
	}
	return w
}

// start is the start of an app on a device, signed as its project or the last app file says.
func (s *Statements) start(k *keeper.Keeper, app string) statement.Start {
	now := s.cfg.Clock.Now()
	w := s.at(k, statement.Start{App: app, Developer: s.cfg.Developer()})
	of := s.cfg.Book.Of(facts.Subject{Kind: facts.App, ID: app}).View()
	if f, ok := of.Get(fact.AppDeveloper, now); ok && f.Value.Text() != "" {
		w.Developer = f.Value.Text()
	}
	if f, ok := of.Get(fact.AppSigned, now); ok {
		w.Signed = f.Value.IsTrue()
	}
	if f, ok := of.Get(fact.AppDebug, now); ok {
		w.Debug = f.Value.IsTrue()
	}
	if f, ok := of.Get(fact.AppFeatures, now); ok {
		w.Features = f.Value.Texts()
	}
	return w
}

// states are how the lines of a statement are told as facts.
var states = map[statement.Line]string{
	statement.LineType: "unsigned", statement.LineKey: "other", statement.LineSubject: "other", statement.LineApp: "other", statement.LineDevices: "unnamed",
	statement.LineBegins: "ended", statement.LineEnds: "ended", statement.LineID: "withdrawn", statement.LineFeatures: "lacking", statement.LineDebug: "lacking",
}

// Facts are what is known of the statements that cover an app on a device.
func (s *Statements) Facts(k *keeper.Keeper, app string) []fact.Fact {
	if app == "" {
		return nil
	}
	w := s.start(k, app)
	kind := kindFor(k, w.Signed)
	if kind == "" {
		return nil
	}
	held, known := s.onDevice(k)
	if !known {
		return nil
	}
	state, ends := fact.TokenState, fact.TokenEnds
	if kind == statement.Grant {
		state, ends = fact.GrantState, fact.GrantEnds
	}
	seen := func(key fact.Key, v fact.Value) fact.Fact {
		return fact.Fact{Key: key, Value: v, Source: fact.Device, At: s.cfg.Clock.Now()}
	}
	st, objection := statement.Best(signed(held), w)
	switch {
	case kind == statement.Grant && !w.Signed: // no grant could cover it
		return []fact.Fact{seen(state, fact.Of(states[statement.LineType]))}
	case st == nil:
		return []fact.Fact{seen(state, fact.Of("none"))}
	case objection != nil:
		return []fact.Fact{seen(state, fact.Of(states[objection.Line]))}
	}
	end := st.End()
	if off := w.At.Sub(s.cfg.Clock.Now()); off.Abs() > clockOff { // when this computer's clock will say that the device's has come to it
		end = end.Add(-off)
	}
	return []fact.Fact{seen(state, fact.Of("good")), seen(ends, fact.Of(end))}
}

// mostHeld is how many statements of one device are looked at: what a device says is not trusted.
const mostHeld = 64

func bounded(texts []string) []string { return texts[:min(len(texts), mostHeld)] }

// signed are the statements alone.
func signed(all []Statement) (out []*statement.Statement) {
	for _, st := range all {
		out = append(out, st.Statement)
	}
	return out
}

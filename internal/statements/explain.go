package statements

import (
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Explanation is why an app may run on a device, or why not.
type Explanation struct {
	Cell
	App  string
	Text string
	// Statement is the one that covers it, or the one that comes nearest; nil for none.
	Statement *Statement
	Line      statement.Line // that refuses; "" for none
	Remedy    string
}

// Allowed reports whether nothing stands against it: what it needs is there, or it needs nothing.
func (e Explanation) Allowed() bool { return e.State == ready.Open || e.State == ready.NotNeeded }

// Cell is whether an app may run on a device.
type Cell struct {
	Device string // handle
	State  ready.State
	Gate   string    // that decides; "" if none is needed
	Unfit  bool      // the app is not made for the device's family, so that it is shut whatever else there is
	Ends   time.Time // when that ends, if it is soon; zero else
}

// MayRun is on which devices of the rack each of some apps may run, in the rack's order. Devices
// that have been retired are left out.
func (s *Statements) MayRun(apps []string) map[string][]Cell {
	out := make(map[string][]Cell, len(apps))
	for _, app := range apps {
		out[app] = []Cell{}
	}
	for _, k := range s.cfg.Rack.All() {
		if k.Device().Retirement != nil {
			continue
		}
		held, known := s.onDevice(k)
		for _, app := range apps {
			out[app] = append(out[app], s.explain(k, s.start(k, app), held, known).Cell)
		}
	}
	return out
}

// signRemedy is what to do about an app that only a bare key has signed.
const signRemedy = "Choose an identity for it: earlybench app set DIRECTORY --identity NAME. To make one first: earlybench identity new NAME"

// Explain says whether an app may run on a device, or what stands against it: which line of which
// statement, or which other gate. It is the build of the app's project that is explained; build is nil
// for the project itself.
func (s *Statements) Explain(k *keeper.Keeper, app string, build *Build) Explanation {
	held, known := s.onDevice(k)
	e := s.explain(k, s.startOf(k, app, build), held, known)
	if e.Gate == "accepted" {
		s.acceptance(&e, k)
	}
	return e
}

// explain is Explain without words where the gate accepted decides.
func (s *Statements) explain(k *keeper.Keeper, w statement.Start, held []Statement, known bool) Explanation {
	e := Explanation{Cell: Cell{Device: k.Device().Handle, State: ready.NotNeeded}, App: w.App}
	app, series := w.App, k.Series()
	of := s.cfg.Book.Of(facts.Subject{Kind: facts.App, ID: app}).View()
	if f, ok := of.Get(fact.AppFamilies, s.cfg.Clock.Now()); ok && !f.Value.Has(series.Family) {
		e.State, e.Unfit = ready.Shut, true
		e.Text, e.Remedy = fmt.Sprintf("%s is made for %s, and %s is of the family %s.", app, f.Value, e.Device, series.Family), "Use a device of a family that it is made for."
		return e
	}
	switch kind := kindFor(k, w.Signed); {
	case kind != "":
		s.lines(&e, k, kind, w, held, known)
	case series.Needs("accepted"):
		e.Gate, e.State = "accepted", s.cfg.Outlook().Glance(k, app).Readiness.Gate("accepted").State
	default:
		e.Text = fmt.Sprintf("%s needs neither a grant nor a debug token for %s.", e.Device, app)
	}
	return e
}

// Covers returns the problem that stands in the way of starting an app that is signed as w says. What
// is not known of a device stands in nobody's way.
func (s *Statements) Covers(k *keeper.Keeper, w statement.Start) error {
	held, known := s.onDevice(k)
	e := s.explain(k, s.at(k, w), held, known)
	if e.State != ready.Shut || e.Gate == "accepted" || e.Unfit {
		return nil
	}
	p := &problem.Problem{Kind: problem.Blocked, Gate: e.Gate, Text: e.Text, Remedy: e.Remedy}
	if e.Line != statement.LineType && e.Gate != "registered" {
		word := word(kindFor(k, w.Signed))
		p.Remedy = fmt.Sprintf("Get a %[1]s for the key that signs it, and put it on the device: earlybench %[1]s new %[2]s, then earlybench %[1]s put ID %[2]s", word, e.Device)
	}
	return p
}

// acceptance explains by what the device's owner has answered.
func (s *Statements) acceptance(e *Explanation, k *keeper.Keeper) {
	now := s.cfg.Outlook().Look(k, e.App)
	switch e.State {
	case ready.Open:
		e.Text = fmt.Sprintf("The owner of %s has accepted the developer of %s.", e.Device, e.App)
	case ready.NotNeeded:
		e.Gate, e.Text = "", fmt.Sprintf("%s needs neither a grant nor a debug token for %s, and nobody has to accept its developer.", e.Device, e.App)
	case ready.Unknown:
		e.Text, e.Remedy = fmt.Sprintf("%s has not been linked yet, so it is not known whether its owner has accepted the developer.", e.Device), "Link it: earlybench prep "+e.Device
	default:
		p := now.BlockedAt(e.Gate)
		e.Text, e.Remedy = p.Text, p.Remedy
	}
}

// lines explains by the lines of the statements on a device.
func (s *Statements) lines(e *Explanation, k *keeper.Keeper, kind statement.Kind, w statement.Start, held []Statement, known bool) {
	e.Gate, e.State = gateOf(kind), ready.Shut
	if kind == statement.Grant && !w.Signed { // whatever is on it
		e.Line, e.Text = statement.LineType, fmt.Sprintf("%s only runs apps signed with a signing identity, and %s is signed with a bare key.", e.Device, e.App)
		e.Remedy = signRemedy
		return
	}
	if !known {
		e.State, e.Text = ready.Unknown, fmt.Sprintf("%s has not been linked yet, so its grants and debug tokens are not known.", e.Device)
		e.Remedy = "Link it: earlybench prep " + e.Device
		return
	}
	st, objection := statement.Best(signed(held), w)
	for i := range held {
		if held[i].Statement == st {
			e.Statement = &held[i]
		}
	}
	switch {
	case objection != nil:
		e.Line, e.Text = objection.Line, fmt.Sprintf("On %s: %s.", e.Device, objection.Text)
		e.Remedy = s.remedy(k, e.App, st, objection.Line, w)
	case st == nil:
		e.Text = fmt.Sprintf("%s has no %s that this bench can read.", e.Device, kind.Noun())
		e.Remedy = fmt.Sprintf("Put one on it: earlybench prep %s --app %s", e.Device, e.App)
	default:
		e.State = ready.Open
		if !w.At.Before(st.End().Add(-notice)) {
			e.Ends = st.End()
		}
		e.Text = fmt.Sprintf("%s may run %s until %s, under the %s %s of %s.", e.Device, e.App, st.End().Local().Format("2 January 2006"), kind.Noun(), st.ID, st.Issuer)
		return
	}
	if in := s.cfg.Registered(); in != nil && !in[w.Serial] { // no statement can name it before it is
		e.Gate = "registered"
		e.Remedy = fmt.Sprintf("%s is not in the register of your crew, so no %s can name it. Register it: earlybench register add %[1]s", e.Device, kind.Noun())
	}
}

// gateOf is the gate that a kind of statement opens.
func gateOf(k statement.Kind) string {
	if k == statement.Grant {
		return "granted"
	}
	return "token"
}

// clockOff is by how much two clocks may differ before that is taken for the cause.
const clockOff = 10 * time.Minute

func (s *Statements) remedy(k *keeper.Keeper, app string, st *statement.Statement, line statement.Line, w statement.Start) string {
	d := k.Device()
	anew := fmt.Sprintf("Get a new one and put it on the device: earlybench prep %s --app %s", d.Handle, app)
	switch line {
	case statement.LineBegins, statement.LineEnds:
		if off := w.At.Sub(s.cfg.Clock.Now()); off.Abs() > clockOff && st.Cover(withTime(w, s.cfg.Clock.Now())) == nil {
			return fmt.Sprintf("The clock of %s is off by %s; by the clock of this computer it is valid. Set the clock of %[1]s.", d.Handle, off.Round(time.Minute))
		}
	case statement.LineID:
		return "Ask your crew who withdrew it. " + anew
	case statement.LineSubject, statement.LineKey:
		return "It is somebody else's. Put your own on it: earlybench prep " + d.Handle + " --app " + app
	}
	return anew
}

func withTime(w statement.Start, at time.Time) statement.Start {
	w.At = at
	return w
}

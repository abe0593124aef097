// Package ready computes a device's readiness: from its prep sheet, what is
// known of it, and the time, to the state of every gate, the first that is not
// open, and the one thing to do next. It is pure: the same input gives the same
// answer, and nothing of it is stored.
package ready

import (
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
)

// State is the state of a gate.
type State string

// The states of design's words: holds, observed not to hold, a person was
// asked, nothing good observed, and not needed.
const (
	Open      State = "open"
	Shut      State = "shut"
	Waiting   State = "waiting"
	Unknown   State = "unknown"
	NotNeeded State = "not needed"
)

// Summary is readiness in a word.
type Summary string

// The summaries.
const (
	Unseen   Summary = "unseen"
	Blocked  Summary = "blocked"
	Readying Summary = "readying"
	Ready    Summary = "ready"
	Lapsing  Summary = "lapsing"
)

// Subject is whom the readiness is of. With an app the gates per app count too.
type Subject struct {
	Attributes sheet.Attributes
	WithApp    bool
	Busy       bool // a job works on it
}

// Gate is one gate's state, with the facts by which it was decided.
type Gate struct {
	Name     string
	State    State
	Evidence []fact.Fact
}

// Step is one step of the prep.
type Step struct {
	*sheet.Step
	Done bool
	Told bool // done only because somebody said so
}

// Readiness is the answer.
type Readiness struct {
	Gates      []Gate // in the order of sheet.Order
	First      string // in the sheet's walk, the first neither open nor not needed; "" if none
	Steps      []Step // those that count for the gates walked
	Next       *Step  // nil when there is nothing to do
	Summary    Summary
	NextChange time.Time // when time alone would alter this; zero: never
}

// Gate returns a gate by name; the zero Gate if it is not among them.
func (r Readiness) Gate(name string) Gate {
	for _, g := range r.Gates {
		if g.Name == name {
			return g
		}
	}
	return Gate{}
}

// Evaluate computes the readiness of a subject at now.
func Evaluate(s *sheet.Sheet, subject Subject, v fact.View, now time.Time) Readiness {
	var r Readiness
	states := make(map[string]State, len(sheet.Order))
	var read []fact.Key
	for _, name := range sheet.Order {
		if sheet.PerApp(name) && !subject.WithApp {
			continue
		}
		g := evaluateGate(s.Gates[name], subject, v, now)
		if gate := s.Gates[name]; gate.Open != nil {
			read = append(read, gate.Open.Facts...)
			if gate.Waiting != nil {
				read = append(read, gate.Waiting.Facts...)
			}
		}
		states[name] = g.State
		r.Gates = append(r.Gates, g)
	}
	for _, name := range s.Walk {
		if st, shown := states[name]; shown && st != Open && st != NotNeeded {
			r.First = name
			break
		}
	}
	read = append(read, r.steps(s, subject, v, now, states)...)
	r.Summary = summary(states, r.First, subject.Busy)
	r.NextChange = v.NextChange(read, now)
	return r
}

func evaluateGate(g *sheet.Gate, subject Subject, v fact.View, now time.Time) Gate {
	out := Gate{Name: g.Name, State: NotNeeded}
	if g.NotNeeded {
		return out
	}
	switch g.Open.Eval(subject.Attributes, v, now) {
	case sheet.True:
		out.State = Open
	case sheet.False:
		out.State = Shut
	default:
		out.State = Unknown
	}
	if out.State != Open && g.Waiting != nil && g.Waiting.Eval(subject.Attributes, v, now) == sheet.True {
		out.State = Waiting
	}
	for _, k := range g.Open.Facts {
		if f, ok := v.Get(k, now); ok {
			out.Evidence = append(out.Evidence, f)
		}
	}
	return out
}

// steps marks each step done, told or open, picks the next one, and returns the
// facts that it read.
func (r *Readiness) steps(s *sheet.Sheet, subject Subject, v fact.View, now time.Time, states map[string]State) []fact.Key {
	var read []fact.Key
	for _, st := range s.Steps {
		state, shown := states[st.Gate]
		if !shown || st.When != nil && st.When.Eval(subject.Attributes, v, now) != sheet.True {
			continue
		}
		read = append(read, sheet.Told(st.ID))
		step := Step{Step: st, Done: state == Open}
		if !step.Done && st.Done != nil {
			read = append(read, st.Done.Facts...)
			step.Done = st.Done.Eval(subject.Attributes, v, now) == sheet.True
		}
		if f, ok := v.Get(sheet.Told(st.ID), now); !step.Done && ok && f.Value.IsTrue() {
			step.Done, step.Told = true, true
		}
		r.Steps = append(r.Steps, step)
	}
	for i := range r.Steps {
		if r.Steps[i].Gate == r.First && !r.Steps[i].Done {
			r.Next = &r.Steps[i]
			break
		}
	}
	if r.Next == nil {
		if i := slices.IndexFunc(r.Steps, func(s Step) bool { return s.Gate == r.First }); r.First != "" && i >= 0 {
			r.Next = r.lastOf(r.First)
		}
	}
	return read
}

// lastOf returns a gate's last step: where all are done and the gate is still
// not open, it is the one to look at again.
func (r *Readiness) lastOf(gate string) *Step {
	var last *Step
	for i := range r.Steps {
		if r.Steps[i].Gate == gate {
			last = &r.Steps[i]
		}
	}
	return last
}

func summary(states map[string]State, first string, busy bool) Summary {
	switch {
	case states["seen"] != Open && states["seen"] != NotNeeded:
		return Unseen
	case first == "":
		return Ready
	case states[first] == Waiting || busy:
		return Readying
	}
	return Blocked
}

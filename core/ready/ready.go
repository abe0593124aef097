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

// The states: the condition holds, was observed not to hold, waits for a person's
// answer, nothing good is known, and the gate is not needed.
const (
	Open      State = "open"
	Shut      State = "shut"
	Waiting   State = "waiting"
	Unknown   State = "unknown"
	NotNeeded State = "not needed"
)

// passes reports whether a gate in this state can be passed.
func (s State) passes() bool { return s == Open || s == NotNeeded }

// Summary is readiness in a word.
type Summary string

// The summaries.
const (
	Unseen    Summary = "unseen"
	Blocked   Summary = "blocked"
	Preparing Summary = "preparing"
	Ready     Summary = "ready"
	Expiring  Summary = "expiring"
	Retiring  Summary = "retiring"
	Retired   Summary = "retired"
)

// Subject is what is evaluated: a device, the computer it is connected to, and, with
// Attributes.App, an app, whose gates then count too.
type Subject struct {
	Attributes sheet.Attributes
	Busy       bool // a job works on it
	// Ends is [Retiring] or [Retired] for a device on its way out, for which nothing is
	// prepared any more; "" for others.
	Ends Summary
}

// Gate is one gate's state, with the facts by which it was decided.
type Gate struct {
	Name     string
	State    State
	Evidence []*fact.Fact // not to be changed
	Waits    []string     // gates that it needs, and that are not open yet
}

// Step is one step of the prep.
type Step struct {
	*sheet.Step
	Done   bool
	Told   bool       // done only because somebody said so
	Denied *fact.Fact // somebody said that it is done, and what is seen says it is not
	// Missing says that the bench lacks the means for it, and Lacking what to do then.
	Missing bool
}

// Ending is a gate that is open, and when it will shut.
type Ending struct {
	Gate string
	At   time.Time
	Soon bool // within the gate's notice
}

// Readiness is the answer.
type Readiness struct {
	Path       *sheet.Path // by which it is computed: the one on which it is furthest
	Gates      []Gate      // in the order of sheet.Order
	Host       []Gate      // the computer's, in the order of sheet.HostOrder
	First      string      // in the sheet's walk, the first neither open nor not needed; "" if none
	Steps      []Step      // those that count for the gates walked
	Next       *Step       // nil when there is nothing to do
	Ending     []Ending    // by time
	Unfit      bool        // the app is not made for the device's family, so that no step helps
	Summary    Summary
	NextChange time.Time // when time alone would alter this; zero: never
}

// Gate returns a gate by name, the computer's too; the zero Gate if it is not
// among them.
func (r Readiness) Gate(name string) Gate {
	if g := r.gate(name); g != nil {
		return *g
	}
	return Gate{}
}

func (r *Readiness) gate(name string) *Gate {
	for i := range r.Gates {
		if r.Gates[i].Name == name {
			return &r.Gates[i]
		}
	}
	for i := range r.Host {
		if r.Host[i].Name == name {
			return &r.Host[i]
		}
	}
	return nil
}

// Evaluate computes the readiness of a subject at now.
func Evaluate(s *sheet.Sheet, subject Subject, v fact.View, now time.Time) Readiness {
	e := evaluation{subject: &subject, known: v.At(now)}
	var best Readiness
	furthest := -1
	for _, p := range s.Paths {
		r := Readiness{Path: p}
		got := e.walk(&r)
		if got > furthest {
			best, furthest = r, got
		}
		e.before = &r
	}
	switch {
	case subject.Ends != "":
		best.First, best.Steps = "", []Step{}
	case e.unfit():
		best.unfit()
	default:
		e.steps(&best)
	}
	best.Summary = e.summary(&best)
	for _, p := range s.Paths { // another path may become the better one
		if at := e.nextChange(p); !at.IsZero() && (best.NextChange.IsZero() || at.Before(best.NextChange)) {
			best.NextChange = at
		}
	}
	return best
}

// unfit reports whether the app is made for other families only.
func (e *evaluation) unfit() bool {
	a := &e.subject.Attributes
	return a.App != "" && a.MadeFor.Type() == fact.Texts && !a.MadeFor.Has(a.Family)
}

// unfit shuts the gate tried, whatever else is open: this is to be said before anybody is
// asked to do anything.
func (r *Readiness) unfit() {
	r.Unfit, r.First, r.Steps = true, "tried", []Step{}
	if g := r.gate("tried"); g != nil {
		g.State, g.Waits = Shut, nil
	}
}

// evaluation is one computation; gates that paths share are evaluated once.
type evaluation struct {
	subject *Subject
	known   fact.Known
	before  *Readiness // of the path before

	evidence []*fact.Fact // of all gates of a path, one after the other
}

// walk evaluates the gates of a path and returns how many can be passed before the
// first that cannot.
func (e *evaluation) walk(r *Readiness) int {
	r.Gates = make([]Gate, 0, len(r.Path.Shown))
	e.evidence = make([]*fact.Fact, 0, 2*len(r.Path.Shown))
	for _, g := range r.Path.Shown {
		if !e.shown(g.Name) {
			continue
		}
		out := e.gate(g)
		if sheet.OfHost(g.Name) {
			r.Host = append(r.Host, out)
		} else {
			r.Gates = append(r.Gates, out)
		}
		if out.State == Open && g.Ends != "" {
			e.ending(r, g)
		}
	}
	slices.SortStableFunc(r.Ending, func(a, b Ending) int { return a.At.Compare(b.At) })
	for _, gates := range [][]Gate{r.Gates, r.Host} {
		for i := range gates {
			if !gates[i].State.passes() {
				gates[i].Waits = waits(r, r.Path.Gates[gates[i].Name].Needs)
			}
		}
	}
	for i, name := range r.Path.Walk {
		if g := r.gate(name); g != nil && !g.State.passes() {
			r.First = name
			return i
		}
	}
	return len(r.Path.Walk)
}

func (e *evaluation) shown(gate string) bool {
	return e.subject.Attributes.App != "" || !sheet.PerApp(gate)
}

func waits(r *Readiness, needs []string) []string {
	var out []string
	for _, n := range needs {
		if g := r.gate(n); g != nil && !g.State.passes() {
			out = append(out, n)
		}
	}
	return out
}

func (e *evaluation) ending(r *Readiness, g *sheet.Gate) {
	if f, ok := e.known.Get(g.Ends); ok && f.Value.Time().After(e.known.At) {
		r.Ending = append(r.Ending, Ending{Gate: g.Name, At: f.Value.Time(), Soon: !e.known.At.Before(f.Value.Time().Add(-g.Notice))})
	}
}

// gate evaluates a gate, unless an earlier path has the same gate.
func (e *evaluation) gate(g *sheet.Gate) Gate {
	if e.before != nil && e.before.Path.Gates[g.Name] == g {
		if got := e.before.gate(g.Name); got != nil {
			return *got
		}
	}
	out := Gate{Name: g.Name, State: NotNeeded}
	if !g.NotNeeded {
		e.decide(g, &out)
	}
	return out
}

// decide returns a gate's state. A gate without a good fact is never open, whatever the
// result of its condition.
func (e *evaluation) decide(g *sheet.Gate, out *Gate) {
	if g.Needed != nil && g.Needed.Eval(&e.subject.Attributes, e.known) == sheet.False {
		return
	}
	from := len(e.evidence)
	for _, number := range g.Open.Numbers() {
		if f := e.known.Number(number); f != nil {
			e.evidence = append(e.evidence, f)
		}
	}
	out.Evidence = e.evidence[from:len(e.evidence):len(e.evidence)]
	switch g.Open.Eval(&e.subject.Attributes, e.known) {
	case sheet.True:
		if out.State = Open; len(out.Evidence) == 0 {
			out.State = Unknown
		}
	case sheet.False:
		out.State = Shut
	default:
		out.State = Unknown
	}
	if out.State != Open && g.Waiting != nil && g.Waiting.Eval(&e.subject.Attributes, e.known) == sheet.True {
		out.State = Waiting
	}
}

// steps marks each step done, told or open, and picks the next one.
func (e *evaluation) steps(r *Readiness) {
	r.Steps = make([]Step, 0, len(r.Path.Steps))
	for _, st := range r.Path.Steps {
		g := r.gate(st.Gate)
		if g == nil || g.State == NotNeeded || st.When != nil && st.When.Eval(&e.subject.Attributes, e.known) != sheet.True {
			continue
		}
		r.Steps = append(r.Steps, e.step(st, g.State))
	}
	if r.First != "" {
		r.Next = r.next()
	}
}

// next returns the step to do next. Gates whose steps people have confirmed are passed, and
// a step whose means are missing is returned only if no other step helps.
func (r *Readiness) next() *Step {
	var missing *Step
	for _, gate := range r.Path.Walk[slices.Index(r.Path.Walk, r.First):] {
		g := r.gate(gate)
		if g == nil || g.State.passes() {
			continue
		}
		st, confirmed := r.nextFor(gate)
		switch {
		case confirmed:
		case st == nil, gate != r.First && len(g.Waits) > 0 && (st.Action != "" || st.Who == sheet.Automatic):
			return missing
		case !st.Missing:
			return st
		case missing == nil:
			missing = st
		}
	}
	return missing
}

// nextFor returns the first step of a gate that is not done. If all are done and the gate is
// still not open, it is the last one, to be looked at again, or none if people have confirmed
// what the bench cannot see.
func (r *Readiness) nextFor(gate string) (st *Step, confirmed bool) {
	for i := range r.Steps {
		if r.Steps[i].Gate != gate {
			continue
		}
		if st = &r.Steps[i]; !st.Done {
			return st, false
		}
		confirmed = confirmed || st.Told
	}
	return st, confirmed
}

// step marks one step. An observation overrides a person's statement.
func (e *evaluation) step(st *sheet.Step, gate State) Step {
	out := Step{Step: st, Done: gate == Open, Missing: st.Means != "" && !slices.Contains(e.subject.Attributes.Means, st.Means)}
	if out.Done {
		return out
	}
	seen := sheet.Unknown
	if st.Done != nil {
		seen = st.Done.Eval(&e.subject.Attributes, e.known)
	}
	told := e.known.Number(st.Word)
	said := told != nil && told.Value.IsTrue()
	switch {
	case seen == sheet.True:
		out.Done = true
	case said && seen == sheet.False && !st.Later:
		out.Denied = told
	case said:
		out.Done, out.Told = true, true
	}
	return out
}

func (e *evaluation) summary(r *Readiness) Summary {
	switch g := r.Gate("seen"); {
	case e.subject.Ends != "":
		return e.subject.Ends
	case r.Unfit:
		return Blocked
	case !g.State.passes():
		// A device on the bus that something else holds cannot be examined, but it is
		// not unseen.
		if f, ok := e.known.Get(fact.USBPresent); ok && f.Value.IsTrue() {
			return Blocked
		}
		if g.State == Waiting {
			return Preparing
		}
		return Unseen
	case r.First == "" && slices.ContainsFunc(r.Ending, func(e Ending) bool { return e.Soon }):
		return Expiring
	case r.First == "":
		return Ready
	case r.Gate(r.First).State == Waiting || e.subject.Busy:
		return Preparing
	}
	return Blocked
}

// nextChange returns when a fact that was read expires, or when a condition's own time
// is reached.
func (e *evaluation) nextChange(p *sheet.Path) time.Time {
	next := e.known.NextChange(p.Timed)
	for _, f := range p.Flips {
		states, ok := e.known.Get(f.Fact)
		if !ok {
			continue
		}
		if at := states.Value.Time().Add(-f.Before); at.After(e.known.At) && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	return next
}

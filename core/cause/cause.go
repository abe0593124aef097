// Package cause says why a device is not ready: the first gate that is not
// open, the evidence, the causes that may be behind it in the order of their
// probability, and the one thing to do next. It is pure.
//
// It assumes a single fault and uses Bayes' rule: the weights of the sheet and what was
// learned give the prior; facts prove, exclude or weight causes; answers to checks and
// remedies that did not help do the rest. The next move is the check or remedy that is
// expected to yield the most information per second.
package cause

import (
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
)

// Explanation answers why.
type Explanation struct {
	Gate           string // "" when nothing is shut
	State          ready.State
	Text           string // one sentence: what is wrong
	Remedy         string // what to do about it, in general
	Evidence       []fact.Fact
	Contradictions []fact.Contradiction // people's words that observation stands against
	Causes         []Ranked             // the most probable first; the probabilities sum to 1
	Answers        []Given              // what was answered, by whom and when

	belief belief
	open   []*sheet.Check // not answered yet
}

// Ranked is a cause with its probability.
type Ranked struct {
	ID          string
	Text        string
	Probability float64
	Remedy      sheet.Remedy
	Done        bool        // somebody tried its remedy, and that did not help
	Because     []fact.Fact // what speaks for it or proves it
}

// Given is an answer to a check.
type Given struct {
	Check  *sheet.Check
	Answer sheet.Answer
	Fact   fact.Fact // who said it, or what was seen
	Seen   bool      // the bench saw it for itself
}

// Kind is what a move is.
type Kind string

// The kinds of moves. A step is the next one of the prep, if the sheet has no causes.
const (
	AsCheck  Kind = "check"
	AsRemedy Kind = "remedy"
	AsStep   Kind = "step"
)

// Move is the one thing to do next.
type Move struct {
	Kind    Kind
	ID      string // of the check, the cause, or the step
	Who     sheet.Who
	Seconds float64
	Text    string
	Note    string
	Sight   string         // what should be seen after
	Answers []sheet.Answer // of a check
	Step    *ready.Step    // that leads through it; may be nil
	Action  string         // what the bench itself can do for a remedy; may be ""
}

// Question is the input of this package.
type Question struct {
	Sheet     *sheet.Sheet
	Subject   ready.Subject
	Readiness *ready.Readiness
	View      fact.View
	Now       time.Time
	Words     map[string]string // for the sheet's texts
	Learned   Learned           // for this family and host; may be nil
}

// Weighed is a question whose causes were weighed. The zero value is not useful; [Weigh]
// makes it.
type Weighed struct {
	q      Question
	known  fact.Known
	belief belief
	open   []*sheet.Check // not answered yet
	given  []Given
}

// Weigh weighs the causes of the first gate of a readiness.
func Weigh(q Question) Weighed {
	w := Weighed{q: q, known: q.View.At(q.Now)}
	if w.weighs() {
		w.belief, w.open, w.given = q.believe(w.known)
	}
	return w
}

// weighs reports whether there is a gate whose causes can be weighed.
func (w *Weighed) weighs() bool {
	r := w.q.Readiness
	return r.Path.Gates[r.First] != nil && !r.Unfit
}

// Explain is [Weighed.Explain] of a question that is weighed for that alone.
func Explain(q Question) Explanation {
	w := Weigh(q)
	return w.Explain()
}

// Explain explains the first gate of the readiness.
func (w *Weighed) Explain() Explanation {
	q := &w.q
	e := say(q, q.Readiness.First, w.known)
	e.Evidence, e.Contradictions = q.evidence(), q.View.Contradictions(q.Now)
	if !w.weighs() {
		return e
	}
	e.belief, e.open, e.Answers = w.belief, w.open, w.given
	e.Causes = q.rank(w.belief, w.known)
	if len(e.Causes) > 0 { // what speaks for the first cause comes first
		e.Evidence = first(e.Causes[0].Because, e.Evidence)
	}
	return e
}

// first returns all facts, those of the first list before the others, each once.
func first(some, all []fact.Fact) []fact.Fact {
	out := slices.Clone(some)
	for _, f := range all {
		if !slices.Contains(some, f) {
			out = append(out, f)
		}
	}
	return out
}

// Say returns what is wrong with the first gate and its remedy, in a sentence each, without
// computing causes.
func Say(q Question) Explanation { return say(&q, q.Readiness.First, q.View.At(q.Now)) }

// SayOf is [Say] for any gate.
func SayOf(q Question, gate string) Explanation { return say(&q, gate, q.View.At(q.Now)) }

func say(q *Question, gate string, known fact.Known) Explanation {
	var e Explanation
	r := q.Readiness
	if gate == "" || r.Path.Gates[gate] == nil {
		return e
	}
	g := r.Gate(gate)
	e.Gate, e.State = g.Name, g.State
	if r.Unfit && gate == r.First {
		e.Text, e.Remedy = q.unfit()
		return e
	}
	for _, say := range r.Path.Gates[gate].Says {
		if say.When == nil || say.When.Eval(&q.Subject.Attributes, known) == sheet.True {
			e.Text, e.Remedy = q.fill(say.Text), q.fill(say.Remedy)
			break
		}
	}
	return e
}

// unfit says that the app is not made for the device's family, and what to do.
func (q *Question) unfit() (text, remedy string) {
	a := &q.Subject.Attributes
	families := a.MadeFor.String()
	return fmt.Sprintf("%s is not made for %s.", q.Words["app"], a.Family),
		fmt.Sprintf("It is made for %s: use such a device. If it also runs on %s, add %[2]s to families in its .earlybench.yaml.", families, a.Family)
}

// Certain returns the cause of the first gate that counts as named, unless its remedy was
// tried already; nil if there is none. It also reports whether facts prove it, so that the
// bench sees by itself when it is gone.
func (w *Weighed) Certain() (c *sheet.Cause, proved bool) {
	if !w.weighs() {
		return nil, false
	}
	i, ok := w.belief.named()
	if !ok {
		return nil, false
	}
	c = w.belief.causes[i]
	return c, c.Proved != nil && c.Proved.Eval(&w.q.Subject.Attributes, w.known) == sheet.True
}

// Next returns the one thing to do next; nil if nothing is shut. Since it looks ahead, it is
// computed only when it is needed.
func Next(q Question, e Explanation) *Move {
	if e.Gate == "" {
		return nil
	}
	if q.Readiness.Unfit {
		return &Move{Kind: AsStep, Text: e.Remedy, Who: sheet.Computer}
	}
	return q.move(e.belief, e.open, &e)
}

func (q *Question) fill(s string) string { return sheet.Fill(s, q.Words) }

// causesOf returns the causes in the sheet that a gate may have.
func causesOf(s *sheet.Sheet, gate string) []*sheet.Cause {
	var out []*sheet.Cause
	for _, c := range s.Causes {
		if slices.Contains(c.Gates, gate) {
			out = append(out, c)
		}
	}
	return out
}

// believe computes the belief from the facts and answers, and returns it with the checks
// that were not answered, and the answers.
func (q *Question) believe(k fact.Known) (b belief, open []*sheet.Check, answers []Given) {
	b = prior(causesOf(q.Sheet, q.Readiness.First), q.Learned)
	b.see(&q.Subject.Attributes, k)
	for _, c := range q.Sheet.Checks {
		if !concerns(c, b) {
			continue
		}
		given, answer := q.given(c, k)
		if answer >= 0 {
			b.answer(c, answer)
			answers = append(answers, given)
		} else if c.When == nil || c.When.Eval(&q.Subject.Attributes, k) == sheet.True {
			open = append(open, c)
		}
	}
	return b, open, answers
}

// concerns reports whether a check distinguishes a possible cause from others.
func concerns(c *sheet.Check, b belief) bool {
	for i, x := range b.causes {
		if x != nil && b.p[i] > 0 && !slices.Equal(c.Share(x.ID), c.Share("")) {
			return true
		}
	}
	return false
}

// given finds the answer to a check: what the bench observes takes precedence over what a
// person said. -1 means that there is none.
func (q *Question) given(c *sheet.Check, k fact.Known) (Given, int) {
	for i, a := range c.Answers {
		if a.Seen == nil || a.Seen.Eval(&q.Subject.Attributes, k) != sheet.True {
			continue
		}
		g := Given{Check: c, Answer: a, Seen: true}
		for _, n := range a.Seen.Numbers() {
			if f := k.Number(n); f != nil {
				g.Fact = *f
			}
		}
		return g, i
	}
	f, ok := k.Get(sheet.Said(c.ID))
	if !ok {
		return Given{}, -1
	}
	i := slices.IndexFunc(c.Answers, func(a sheet.Answer) bool { return a.ID == f.Value.Text() })
	if i < 0 { // the sheet has changed since
		return Given{}, -1
	}
	return Given{Check: c, Answer: c.Answers[i], Fact: f}, i
}

// rank sorts the causes and adds their texts.
func (q *Question) rank(b belief, k fact.Known) []Ranked {
	if len(b.causes) == 1 {
		return nil
	}
	var out []Ranked
	for i, c := range b.causes {
		if b.p[i] == 0 {
			continue
		}
		if c == nil {
			out = append(out, Ranked{ID: Other, Text: "Something that the prep sheet does not know.", Probability: b.p[i]})
			continue
		}
		r := Ranked{ID: c.ID, Text: q.fill(c.Text), Probability: b.p[i], Remedy: c.Remedy, Because: q.because(c, k)}
		r.Remedy.Text, r.Remedy.Sight = q.fill(r.Remedy.Text), q.fill(r.Remedy.Sight)
		if f, ok := k.Get(sheet.Did(c.ID)); ok {
			r.Done = f.Value.IsTrue()
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b Ranked) int {
		switch {
		case a.Probability > b.Probability:
			return -1
		case a.Probability < b.Probability:
			return 1
		}
		return 0
	})
	return out
}

// because collects the facts that prove a cause or make it more likely.
func (q *Question) because(c *sheet.Cause, k fact.Known) []fact.Fact {
	var out []fact.Fact
	add := func(cond *sheet.Condition) {
		if cond == nil || cond.Eval(&q.Subject.Attributes, k) != sheet.True {
			return
		}
		for _, n := range cond.Numbers() {
			if f := k.Number(n); f != nil && !slices.Contains(out, *f) {
				out = append(out, *f)
			}
		}
	}
	add(c.Proved)
	for _, l := range c.Likely {
		if l.Times > 1 {
			add(l.When)
		}
	}
	return out
}

// move is the one thing to do next.
func (q *Question) move(b belief, open []*sheet.Check, e *Explanation) *Move {
	m, ok := next(b, open)
	if !ok || len(b.causes) == 1 {
		return q.stepMove(e)
	}
	if c := m.check; c != nil {
		out := &Move{Kind: AsCheck, ID: c.ID, Who: c.Who, Seconds: c.Seconds, Text: q.fill(c.Text), Note: q.fill(c.Note)}
		for _, a := range c.Answers {
			out.Answers = append(out.Answers, sheet.Answer{ID: a.ID, Text: q.fill(a.Text)})
		}
		return out
	}
	c := b.causes[m.remedy]
	out := &Move{Kind: AsRemedy, ID: c.ID, Who: c.Remedy.Who, Seconds: c.Remedy.Seconds, Text: q.fill(c.Remedy.Text), Sight: q.fill(c.Remedy.Sight), Action: c.Remedy.Action}
	for i := range q.Readiness.Steps {
		if q.Readiness.Steps[i].ID == c.Remedy.Step {
			out.Step = &q.Readiness.Steps[i]
		}
	}
	return out
}

// stepMove returns the next step of the prep, or the remedy of the gate, as a move.
func (q *Question) stepMove(e *Explanation) *Move {
	n := q.Readiness.Next
	if n == nil {
		return &Move{Kind: AsStep, Text: e.Remedy, Who: sheet.Hands}
	}
	return &Move{Kind: AsStep, ID: n.ID, Who: n.Who, Seconds: float64(n.Minutes * 60), Text: q.fill(n.Text), Note: q.fill(n.Note), Sight: q.fill(n.Sight), Step: n}
}

// evidence collects the facts behind the gates up to the first that is not
// open, in the sheet's walk, the first gate's own before the others', each
// once; what the bus showed last of all is always among them.
func (q *Question) evidence() []fact.Fact {
	var out []fact.Fact
	seen := map[fact.Key]bool{}
	add := func(f fact.Fact) {
		if !seen[f.Key] {
			seen[f.Key] = true
			out = append(out, f)
		}
	}
	gate := func(name string) {
		for _, f := range q.Readiness.Gate(name).Evidence {
			add(*f)
		}
	}
	known := func(k fact.Key) {
		if f, ok := q.View.Get(k, q.Now); ok {
			add(f)
		}
	}
	gate(q.Readiness.First)
	known(fact.USBInterfaces)
	if f, ok := q.View.Get(fact.USBPresent, q.Now); !ok || !f.Value.IsTrue() {
		known(fact.USBLeft) // what just happened
		known(fact.AppFailed)
	}
	for _, name := range q.Readiness.Path.Walk {
		if name == q.Readiness.First {
			break
		}
		gate(name)
	}
	for _, k := range []fact.Key{fact.LinkKey, fact.LinkTrouble, fact.OSRelease} {
		known(k)
	}
	for _, st := range q.Readiness.Path.Steps {
		known(sheet.Told(st.ID))
	}
	return out
}

// Turned returns the cause that is confirmed by the opening of a gate: the one whose remedy
// was applied last, or the one that was named. before is the explanation before the gate
// opened. "" means that the cause is not known.
func Turned(before Explanation, did []fact.Fact) string {
	var last fact.Fact
	for _, f := range did {
		for _, c := range before.Causes {
			if f.Key == sheet.Did(c.ID) && f.Value.IsTrue() && f.At.After(last.At) {
				last = f
			}
		}
	}
	if last.Key != "" {
		return string(last.Key)[len(sheet.Did("")):]
	}
	if len(before.Causes) > 0 && before.Causes[0].Probability >= Named && before.Causes[0].ID != Other {
		return before.Causes[0].ID
	}
	return ""
}

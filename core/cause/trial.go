package cause

import (
	"hash/fnv"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/sheet"
)

// Way is a way of choosing what to do next, to hold the engine's against.
type Way string

// The ways. Exact is the best there is by the belief; it can be had for small
// sets of causes and checks only.
const (
	Engine   Way = "engine"              // as the engine chooses
	Greedy   Way = "greedy"              // the most gain a second, without looking ahead
	Exact    Way = "exact search"        // the fewest expected seconds
	Checks   Way = "checks as written"   // then the remedies as written
	Remedies Way = "remedies as written" // one after the other
	Random   Way = "random order"
)

// exactMoves bounds exact search: more moves take too long.
const exactMoves = 10

// Trial is how one gate of a sheet is found out about when nothing can be
// observed: only people answer.
type Trial struct {
	start  belief
	checks []*sheet.Check
	exact  map[string]value
}

type value struct {
	seconds float64
	move    int
}

// NewTrial makes the trial of a gate. learned may be nil.
func NewTrial(s *sheet.Sheet, gate string, learned Learned) *Trial {
	t := &Trial{start: prior(causesOf(s, gate), learned), exact: map[string]value{}}
	for _, c := range s.Checks {
		if concerns(c, t.start) {
			t.checks = append(t.checks, c)
		}
	}
	t.start.p[len(t.start.p)-1] = 0 // a trial is of causes that the sheet knows
	t.start.norm()
	return t
}

// Case is one case of a trial: what is true, and how people would answer each
// check. Different ways are held against each other on the same cases.
type Case struct {
	Truth string // id of the cause
	Seed  uint64
}

// chance is a number from 0 to 1 for one thing that happens in the case.
func (c Case) chance(what string) float64 {
	h := fnv.New64a()
	h.Write([]byte(what))
	return rand.New(rand.NewPCG(c.Seed, h.Sum64())).Float64()
}

// Causes are the ids of the causes that may be behind the gate, with what the
// sheet and what was learned say of their probability.
func (t *Trial) Causes() (ids []string, p []float64) {
	for i, c := range t.start.causes {
		if c != nil {
			ids, p = append(ids, c.ID), append(p, t.start.p[i])
		}
	}
	return ids, p
}

// Small reports whether the set is small enough for exact search.
func (t *Trial) Small() bool { return len(t.checks)+len(t.start.causes)-1 <= exactMoves }

// Seconds tells how many seconds it takes in one case until the cause that is
// true is named. People answer as the sheet says that they do. What is named
// wrongly is remedied without effect, and then it goes on.
func (t *Trial) Seconds(w Way, c Case) float64 {
	b, left, order := t.start, slices.Clone(t.checks), t.order(w, c.Seed)
	actual := slices.IndexFunc(b.causes, func(x *sheet.Cause) bool { return x != nil && x.ID == c.Truth })
	var seconds float64
	var done []string // of what was done, for exact search
	for {
		if i, p := b.top(); p >= Named && i == actual {
			return seconds
		}
		m, ok := t.choose(w, b, left, &order, done)
		if i, named := b.named(); named { // whatever the way: what is named is remedied, here without effect
			seconds += b.causes[i].Remedy.Seconds
			b = b.excluding(i)
			done = append(done, "named "+strconv.Itoa(i))
			continue
		}
		if !ok {
			return seconds + GivenUp
		}
		seconds += m.seconds(b)
		if m.check == nil {
			if m.remedy == actual && c.chance(remedied(m.remedy)) < b.cures(m.remedy) {
				return seconds
			}
			b = b.without(m.remedy)
			done = append(done, remedied(m.remedy))
			continue
		}
		answer := draw(m.check, b.causes[actual], c.chance(m.check.ID))
		b, _ = b.after(m.check, answer)
		left = slices.DeleteFunc(left, func(c *sheet.Check) bool { return c == m.check })
		done = append(done, m.check.ID+"="+strconv.Itoa(answer))
	}
}

func remedied(cause int) string { return "remedy " + strconv.Itoa(cause) }

// draw answers a check as somebody does in whose case a cause is true.
func draw(c *sheet.Check, truth *sheet.Cause, x float64) int {
	for i := range c.Answers {
		if x -= likelihood(c, truth, i); x < 0 {
			return i
		}
	}
	return len(c.Answers) - 1
}

// order is the moves of a way that does not look at what was answered.
func (t *Trial) order(w Way, seed uint64) []move {
	var checks, remedies []move
	for _, c := range t.checks {
		checks = append(checks, move{check: c})
	}
	for i, c := range t.start.causes {
		if c != nil {
			remedies = append(remedies, move{remedy: i})
		}
	}
	switch w {
	case Checks:
		return append(checks, remedies...)
	case Remedies:
		return remedies
	case Random:
		all := append(checks, remedies...)
		rand.New(rand.NewPCG(seed, 0)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		return all
	}
	return nil
}

func (t *Trial) choose(w Way, b belief, left []*sheet.Check, order *[]move, done []string) (move, bool) {
	switch w {
	case Engine:
		return next(b, left)
	case Greedy:
		m, _, ok := greedy(b, left)
		return m, ok
	case Exact:
		all := t.all(b, left)
		v := t.best(b, left, done)
		if v.move < 0 {
			return move{}, false
		}
		return all[v.move], true
	}
	if len(*order) == 0 {
		return move{}, false
	}
	m := (*order)[0]
	*order = (*order)[1:]
	return m, true
}

// all are the moves that exact search looks at.
func (t *Trial) all(b belief, left []*sheet.Check) []move {
	var out []move
	for _, c := range left {
		out = append(out, move{check: c})
	}
	for i, c := range b.causes {
		if c != nil && !b.tried[i] {
			out = append(out, move{remedy: i})
		}
	}
	return out
}

// best finds the move with the fewest expected seconds, by looking at all that
// may follow. Once a cause is named nothing more is needed if it is the true
// one; if it is not, its remedy did not help, and it goes on.
func (t *Trial) best(b belief, left []*sheet.Check, done []string) value {
	key := strings.Join(slices.Sorted(slices.Values(done)), " ")
	if v, ok := t.exact[key]; ok {
		return v
	}
	best := value{GivenUp, -1}
	if i, ok := b.named(); ok {
		p := b.p[i]
		wrong := t.best(b.excluding(i), left, append(slices.Clone(done), "named "+strconv.Itoa(i)))
		best = value{(1 - p) * (b.causes[i].Remedy.Seconds + wrong.seconds), -1}
	} else {
		for i, m := range t.all(b, left) {
			if s := m.seconds(b) + t.after(m, b, left, done, best.seconds-m.seconds(b)); s < best.seconds {
				best = value{s, i}
			}
		}
	}
	t.exact[key] = best
	return best
}

// after is the expected seconds after a move; it stops once they are no less
// than bound.
func (t *Trial) after(m move, b belief, left []*sheet.Check, done []string, bound float64) float64 {
	if m.check == nil {
		fails := 1 - b.cures(m.remedy)*b.p[m.remedy]
		return fails * t.best(b.without(m.remedy), left, append(slices.Clone(done), remedied(m.remedy))).seconds
	}
	rest := slices.DeleteFunc(slices.Clone(left), func(c *sheet.Check) bool { return c == m.check })
	var sum float64
	for i := range m.check.Answers {
		then, p := b.after(m.check, i)
		if p > 0 {
			sum += p * t.best(then, rest, append(slices.Clone(done), m.check.ID+"="+strconv.Itoa(i))).seconds
		}
		if sum >= bound {
			return sum
		}
	}
	return sum
}

package cause

import (
	"math"

	"earlybench.invalid/earlybench/core/sheet"
)

// A move is something that can be done to find the cause: a check that distinguishes causes,
// or the remedy of a cause, which helps or excludes it.
type move struct {
	check  *sheet.Check // nil: a remedy
	remedy int          // which cause's
}

func (m move) seconds(b belief) float64 {
	if m.check != nil {
		return m.check.Seconds
	}
	return b.causes[m.remedy].Remedy.Seconds
}

// worth is the information that is still missing, in bits: none once a cause is named.
func worth(b belief) float64 {
	if _, ok := b.named(); ok {
		return 0
	}
	return b.entropy()
}

// gain is the expected information of a move, in bits.
func (m move) gain(b belief) float64 {
	before := worth(b)
	if m.check == nil {
		helps := b.cures(m.remedy) * b.p[m.remedy]
		return before - (1-helps)*worth(b.without(m.remedy))
	}
	var after float64
	for i := range m.check.Answers {
		then, p := b.after(m.check, i)
		if p > 0 {
			after += p * worth(then)
		}
	}
	return before - after
}

// moves returns all moves: checks that were not answered, and remedies that were not applied
// of causes that are still possible.
func moves(b belief, checks []*sheet.Check) []move {
	var out []move
	for _, c := range checks {
		out = append(out, move{check: c})
	}
	for i, c := range b.causes {
		if c != nil && !b.tried[i] && b.p[i] > 1e-6 {
			out = append(out, move{remedy: i})
		}
	}
	return out
}

// greedy returns the move with the most gain per second, and that gain; once a cause is named,
// its remedy. ok is false if no move is useful any more.
func greedy(b belief, checks []*sheet.Check) (m move, rate float64, ok bool) {
	if i, ok := b.named(); ok {
		return move{remedy: i}, 0, true
	}
	for _, c := range moves(b, checks) {
		if r := c.gain(b) / c.seconds(b); r > rate+1e-12 {
			m, ok, rate = c, true, r
		}
	}
	if !ok {
		m, ok = likeliest(b)
	}
	return m, rate, ok
}

// likeliest returns the remedy, not applied yet, of the cause with the most probability per
// second. It is used when no move distinguishes causes.
func likeliest(b belief) (m move, ok bool) {
	best := 0.0
	for i, c := range b.causes {
		if c != nil && !b.tried[i] && b.p[i]/c.Remedy.Seconds > best {
			m, ok, best = move{remedy: i}, true, b.p[i]/c.Remedy.Seconds
		}
	}
	return m, ok
}

// next returns the move with the fewest expected seconds until the cause is named, if the
// search continues greedily after it. This is better than a greedy choice alone, which does
// not see what a check makes possible.
func next(b belief, checks []*sheet.Check) (m move, ok bool) {
	if i, ok := b.named(); ok {
		return move{remedy: i}, true
	}
	best := math.Inf(1)
	for _, c := range moves(b, checks) {
		if c.gain(b) <= 1e-9 {
			continue
		}
		if s := c.seconds(b) + c.then(b, checks, 1, best-c.seconds(b)); s < best {
			m, ok, best = c, true, s
		}
	}
	if !ok {
		return likeliest(b)
	}
	return m, ok
}

// Bounds of the lookahead: branches that are less probable count as solved; deeper branches
// are estimated by the best gain per second there.
const (
	rare  = 0.01
	ahead = 4
)

// GivenUp is the cost, in seconds, if everything was done and no cause is named.
const GivenUp = 1800

// then is the expected seconds after a move, reached with a probability; it
// stops once they are no less than bound.
func (m move) then(b belief, checks []*sheet.Check, reach, bound float64) float64 {
	return m.ahead(b, checks, reach, bound, ahead)
}

func (m move) ahead(b belief, checks []*sheet.Check, reach, bound float64, left int) float64 {
	if m.check == nil {
		fails := 1 - b.cures(m.remedy)*b.p[m.remedy]
		return fails * remaining(b.without(m.remedy), checks, reach*fails, left-1)
	}
	rest := make([]*sheet.Check, 0, len(checks))
	for _, c := range checks {
		if c != m.check {
			rest = append(rest, c)
		}
	}
	var sum float64
	for i := range m.check.Answers {
		then, p := b.after(m.check, i)
		sum += p * remaining(then, rest, reach*p, left-1)
		if sum >= bound {
			break
		}
	}
	return sum
}

// remaining is the expected seconds until the cause is named, going on greedily.
func remaining(b belief, checks []*sheet.Check, reach float64, left int) float64 {
	if i, ok := b.named(); ok {
		wrong := 1 - b.p[i]
		if wrong*reach < rare {
			return wrong * b.causes[i].Remedy.Seconds
		}
		return wrong * (b.causes[i].Remedy.Seconds + remaining(b.excluding(i), checks, reach*wrong, left))
	}
	if reach < rare {
		return 0
	}
	m, rate, ok := greedy(b, checks)
	if !ok {
		return GivenUp
	}
	if left <= 0 {
		return min(worth(b)/max(rate, 1e-9), GivenUp)
	}
	return m.seconds(b) + m.ahead(b, checks, reach, math.Inf(1), left)
}

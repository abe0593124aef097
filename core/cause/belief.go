package cause

import (
	"math"
	"slices"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
)

// Other is the id of the cause that the sheet does not contain. It always has a small
// probability, since a sheet may be incomplete.
const Other = "something-else"

// Parameters of the belief.
const (
	otherShare = 0.02 // of the belief, before anything is seen
	caseWeight = 12   // cases that a sheet's weights count for, beside learned ones
	Named      = 0.90 // the probability from which a cause counts as named
)

// Learned is how often each cause was found, by its id.
type Learned map[string]float64

// belief holds the probabilities of some causes, of which exactly one is assumed to be true.
// The zero value is empty.
type belief struct {
	causes []*sheet.Cause // the last is nil: something else
	p      []float64
	tried  []bool // its remedy was tried and did not help
}

// prior makes the belief before anything was observed: the weights of the sheet count as
// cases, together with the cases that were learned.
func prior(causes []*sheet.Cause, learned Learned) belief {
	b := belief{causes: append(slices.Clone(causes), nil), p: make([]float64, len(causes)+1), tried: make([]bool, len(causes)+1)}
	var weights float64
	for _, c := range causes {
		weights += c.Weight
	}
	if len(causes) == 0 {
		b.p[0] = 1
		return b
	}
	for i, c := range causes {
		b.p[i] = caseWeight*(1-otherShare)*c.Weight/weights + learned[c.ID]
	}
	b.p[len(causes)] = caseWeight*otherShare + learned[Other]
	b.norm()
	return b
}

func (b *belief) norm() bool {
	var sum float64
	for _, p := range b.p {
		sum += p
	}
	if sum <= 0 {
		return false
	}
	for i := range b.p {
		b.p[i] /= sum
	}
	return true
}

// see updates the belief by what is known: proofs, exclusions, and conditions that make a
// cause more or less likely. Proved causes share the whole belief.
func (b *belief) see(a *sheet.Attributes, k fact.Known) {
	proved := false
	for i, c := range b.causes {
		if c == nil {
			continue
		}
		if c.Proved != nil && c.Proved.Eval(a, k) == sheet.True {
			proved = true
			b.p[i] *= proof
			continue
		}
		if c.Excluded != nil && c.Excluded.Eval(a, k) == sheet.True {
			b.p[i] = 0
		}
		for _, f := range c.Likely {
			if f.When.Eval(a, k) == sheet.True {
				b.p[i] *= f.Times
			}
		}
		if f, ok := k.Get(sheet.Did(c.ID)); ok && f.Value.IsTrue() {
			b.p[i] *= 1 - c.Remedy.Cures // its remedy was done, and the gate is still not open
			b.tried[i] = true
		}
	}
	if !b.norm() {
		b.p[len(b.p)-1] = 1
	}
	if proved && len(b.p) > 1 { // what a proof leaves to something else is nothing
		b.p[len(b.p)-1] /= proof
		b.norm()
	}
}

// proof is how much more probable a proved cause is than another one of the same weight. It
// is finite, so that after proofs that contradict a remedy that did not help, the other
// causes become probable again.
const proof = 1e6

// answer updates the belief by an answer to a check.
func (b *belief) answer(c *sheet.Check, answer int) {
	for i := range b.p {
		b.p[i] *= likelihood(c, b.causes[i], answer)
	}
	if !b.norm() { // an answer that no cause can give says nothing
		for i := range b.p {
			b.p[i] = 1
		}
		b.norm()
	}
}

// noise is how often a person gives a wrong answer.
const noise = 0.02

func likelihood(c *sheet.Check, cause *sheet.Cause, answer int) float64 {
	even := 1 / float64(len(c.Answers))
	if cause == nil { // of something else nobody knows how it would be answered
		return even
	}
	return (1-noise)*c.Share(cause.ID)[answer] + noise*even
}

// without returns the belief after the remedy of a cause was tried and did not help.
func (b belief) without(cause int) belief {
	out := belief{causes: b.causes, p: slices.Clone(b.p), tried: slices.Clone(b.tried)}
	out.p[cause] *= 1 - b.cures(cause)
	out.tried[cause] = true
	out.norm()
	return out
}

// cures is how often the remedy of a cause helps, if it is that cause.
func (b belief) cures(cause int) float64 { return b.causes[cause].Remedy.Cures }

// excluding returns the belief after a cause was excluded.
func (b belief) excluding(cause int) belief {
	out := b.without(cause)
	out.p[cause] = 0
	out.norm()
	return out
}

// after returns the belief after an answer, and how probable that answer is.
func (b belief) after(c *sheet.Check, answer int) (belief, float64) {
	out := belief{causes: b.causes, p: make([]float64, len(b.p)), tried: b.tried}
	var sum float64
	for i, p := range b.p {
		out.p[i] = p * likelihood(c, b.causes[i], answer)
		sum += out.p[i]
	}
	if sum > 0 {
		for i := range out.p {
			out.p[i] /= sum
		}
	}
	return out, sum
}

// top returns the most probable cause.
func (b belief) top() (int, float64) {
	best := 0
	for i, p := range b.p {
		if p > b.p[best] {
			best = i
		}
	}
	return best, b.p[best]
}

// named returns the cause that is probable enough to apply its remedy, unless that was done
// already.
func (b belief) named() (cause int, ok bool) {
	i, p := b.top()
	return i, p >= Named && b.causes[i] != nil && !b.tried[i]
}

// entropy is the entropy of the belief, in bits.
func (b belief) entropy() float64 {
	var h float64
	for _, p := range b.p {
		if p > 0 {
			h -= p * math.Log2(p)
		}
	}
	return h
}

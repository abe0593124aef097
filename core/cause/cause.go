// Package cause says why a device is not ready: the first gate that is not
// open, the evidence, what it means in the sheet's words, and the remedy. It is
// pure.
package cause

import (
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
)

// Explanation answers why.
type Explanation struct {
	Gate     string // "" when nothing is shut
	State    ready.State
	Text     string // one sentence: what is wrong
	Remedy   string // what to do now
	Evidence []fact.Fact
	Next     *ready.Step
}

// Explain explains the first gate of a readiness. words are what only this
// device knows, for [sheet.Fill].
func Explain(s *sheet.Sheet, subject ready.Subject, r ready.Readiness, v fact.View, now time.Time, words map[string]string) Explanation {
	if r.First == "" {
		return Explanation{Evidence: evidence(s, r, v, now)}
	}
	g := r.Gate(r.First)
	e := Explanation{Gate: g.Name, State: g.State, Next: r.Next}
	for _, say := range s.Gates[r.First].Says {
		if say.When == nil || say.When.Eval(subject.Attributes, v, now) == sheet.True {
			e.Text, e.Remedy = sheet.Fill(say.Text, words), sheet.Fill(say.Remedy, words)
			break
		}
	}
	e.Evidence = evidence(s, r, v, now)
	return e
}

// evidence collects the facts behind the gates up to the first that is not
// open, in the sheet's walk, the first gate's own before the others', each
// once; what the bus showed last of all is always among them.
func evidence(s *sheet.Sheet, r ready.Readiness, v fact.View, now time.Time) []fact.Fact {
	var out []fact.Fact
	seen := map[fact.Key]bool{}
	add := func(fs ...fact.Fact) {
		for _, f := range fs {
			if !seen[f.Key] {
				seen[f.Key] = true
				out = append(out, f)
			}
		}
	}
	add(r.Gate(r.First).Evidence...)
	if f, ok := v.Get(fact.USBInterfaces, now); ok {
		add(f)
	}
	for _, name := range s.Walk {
		if name == r.First {
			break
		}
		add(r.Gate(name).Evidence...)
	}
	for _, k := range []fact.Key{fact.LinkKey, fact.LinkTrouble, fact.OSRelease} {
		if f, ok := v.Get(k, now); ok && !f.At.IsZero() {
			add(f)
		}
	}
	for _, st := range s.Steps {
		if f, ok := v.Get(sheet.Told(st.ID), now); ok {
			add(f)
		}
	}
	return out
}

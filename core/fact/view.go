package fact

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// View is what is known of one subject. It holds the latest fact for each key, source and
// scope, and returns the strongest one that is still good. A View is immutable: With, Without
// and Live return a new one.
type View struct {
	registry *Registry
	slots    []slot   // by the key's number
	live     []string // scopes that last
}

// slot holds the facts of one key, one for each source and scope.
type slot struct {
	number int
	facts  []Fact
}

// NewView makes a view of facts; those that do not fit the registry are left
// out. live names the scopes that last.
func NewView(r *Registry, live []string, facts ...Fact) View {
	v := View{registry: r, slots: make([]slot, 0, len(facts)), live: slices.Clone(live)}
	v.take(facts)
	v.pack()
	return v
}

// pack stores the facts of all slots in one array, since they are read together.
func (v *View) pack() {
	n := 0
	for i := range v.slots {
		n += len(v.slots[i].facts)
	}
	all := make([]Fact, 0, n)
	for i := range v.slots {
		from := len(all)
		all = append(all, v.slots[i].facts...)
		v.slots[i].facts = all[from:len(all):len(all)]
	}
}

func (v *View) take(facts []Fact) {
	for _, f := range facts {
		if v.registry.Check(f) != nil {
			continue
		}
		number := v.registry.index[f.Key]
		i, ok := v.find(number)
		if !ok {
			v.slots = slices.Insert(v.slots, i, slot{number: number})
		}
		v.slots[i].facts = v.keep(v.slots[i].facts, f)
	}
}

// find returns the index of a key's slot, or where it would be inserted.
func (v *View) find(number int) (int, bool) {
	return slices.BinarySearchFunc(v.slots, number, func(s slot, n int) int { return s.number - n })
}

// of returns the facts of a key.
func (v *View) of(k Key) []Fact {
	if i, ok := v.find(v.registry.Index(k)); ok {
		return v.slots[i].facts
	}
	return nil
}

// keep adds a fact to the facts of its key. Of one source and scope the later fact is
// kept: by sequence number, then by time, then by the text that sorts last, so that the
// order of arrival never matters. A fact whose scope has ended is kept only until
// something later is known.
func (v *View) keep(have []Fact, f Fact) []Fact {
	out := make([]Fact, 0, len(have)+1)
	for _, old := range have {
		switch {
		case old.Source != f.Source:
			out = append(out, old)
		case old.Scope == f.Scope:
			if later(old, f) > 0 {
				f = old
			}
		default:
			out = append(out, old)
		}
	}
	return v.tidy(append(out, f))
}

// later compares which of two facts is the later one.
func later(a, b Fact) int {
	return cmp.Or(cmp.Compare(a.Seq, b.Seq), a.At.Compare(b.At), cmp.Compare(a.Value.String(), b.Value.String()))
}

// tidy removes facts whose scope has ended and for which the same source has something
// later.
func (v *View) tidy(facts []Fact) []Fact {
	return slices.DeleteFunc(facts, func(f Fact) bool {
		return !v.lasts(f.Scope) && slices.ContainsFunc(facts, func(o Fact) bool {
			return o.Source == f.Source && o.Scope != f.Scope && o.Key == f.Key && later(o, f) > 0
		})
	})
}

// lasts reports whether a scope lasts; "" always does.
func (v *View) lasts(scope string) bool { return scope == "" || slices.Contains(v.live, scope) }

// With returns the view with more facts.
func (v View) With(facts ...Fact) View {
	v.slots = append(make([]slot, 0, len(v.slots)+len(facts)), v.slots...)
	v.take(facts)
	return v
}

// Without returns the view without a source's facts for some keys.
func (v View) Without(source Source, keys ...Key) View {
	v.slots = slices.Clone(v.slots)
	for _, k := range keys {
		i, ok := v.find(v.registry.Index(k))
		if !ok {
			continue
		}
		left := slices.DeleteFunc(slices.Clone(v.slots[i].facts), func(f Fact) bool { return f.Source == source })
		if v.slots[i].facts = left; len(left) == 0 {
			v.slots = slices.Delete(v.slots, i, i+1)
		}
	}
	return v
}

// Live returns the view with another set of live scopes.
func (v View) Live(scopes ...string) View {
	v.live = slices.Clone(scopes)
	v.slots = slices.Clone(v.slots)
	for i := range v.slots {
		if len(v.slots[i].facts) > 1 {
			v.slots[i].facts = v.tidy(slices.Clone(v.slots[i].facts))
		}
	}
	return v
}

// By returns the view under another registry; facts that do not fit it are left out.
func (v View) By(r *Registry) View { return NewView(r, v.live, v.All()...) }

// All returns every fact held, good or not, by key and source.
func (v View) All() []Fact {
	out := make([]Fact, 0, len(v.slots))
	for _, s := range v.slots {
		out = append(out, s.facts...)
	}
	slices.SortFunc(out, func(a, b Fact) int {
		if a.Key != b.Key {
			return strings.Compare(string(a.Key), string(b.Key))
		}
		return strings.Compare(string(a.Source), string(b.Source))
	})
	return out
}

// Get returns the strongest fact of a key that is good at now.
func (v View) Get(k Key, now time.Time) (Fact, bool) {
	spec, ok := v.registry.Lookup(k)
	if !ok {
		return Fact{}, false
	}
	if f := v.strongest(&spec, v.of(k), now); f != nil {
		return *f, true
	}
	return Fact{}, false
}

// strongest picks from the facts of one key; nil where none is good.
func (v *View) strongest(spec *Spec, facts []Fact, now time.Time) *Fact {
	var best *Fact
	rank := len(spec.Sources)
	for i := range facts {
		r := slices.Index(spec.Sources, facts[i].Source)
		if r < 0 || r > rank || !v.good(spec, &facts[i], now) {
			continue
		}
		if r < rank || later(facts[i], *best) > 0 { // the same source, by another way
			best, rank = &facts[i], r
		}
	}
	return best
}

// Good reports whether one fact is good at now.
func (v View) Good(f Fact, now time.Time) bool {
	spec, ok := v.registry.Lookup(f.Key)
	return ok && v.good(&spec, &f, now)
}

func (v *View) good(s *Spec, f *Fact, now time.Time) bool {
	if s.Good > 0 && !now.Before(f.At.Add(s.Good)) {
		return false
	}
	return v.lasts(f.Scope)
}

// Registry returns the registry of the view.
func (v View) Registry() *Registry { return v.registry }

// Contradiction is a statement of a person that contradicts an observation. The observation
// counts.
type Contradiction struct {
	Told, Observed Fact
}

// Contradictions returns the statements of people that are still good but contradicted
// by a stronger good fact, by key.
func (v View) Contradictions(now time.Time) []Contradiction {
	var out []Contradiction
	for _, f := range v.All() {
		if f.Source != Person || !v.Good(f, now) {
			continue
		}
		if best, ok := v.Get(f.Key, now); ok && best.Source != Person && best.Value != f.Value {
			out = append(out, Contradiction{Told: f, Observed: best})
		}
	}
	return out
}

// Known is a view at one moment: the strongest good fact for every key. It is computed once
// for many queries.
type Known struct {
	At       time.Time
	registry *Registry
	facts    []*Fact // by the key's number; nil: not known
}

// At returns the view at a moment.
func (v View) At(now time.Time) Known {
	k := Known{At: now, registry: v.registry, facts: make([]*Fact, len(v.registry.list))}
	for i := range v.slots {
		n := v.slots[i].number
		k.facts[n] = v.strongest(&v.registry.list[n], v.slots[i].facts, now)
	}
	return k
}

// Get returns the strongest good fact of a key.
func (k Known) Get(key Key) (Fact, bool) {
	if f := k.Number(k.registry.Index(key)); f != nil {
		return *f, true
	}
	return Fact{}, false
}

// Number returns the fact of the key with a number of [Registry.Index]; nil if nothing good is
// known. It must not be changed.
func (k Known) Number(i int) *Fact {
	if i < 0 || i >= len(k.facts) {
		return nil
	}
	return k.facts[i]
}

// NextChange returns when the next of the known facts of some keys, given by their
// numbers, expires; zero if none does.
func (k Known) NextChange(numbers []int) time.Time {
	var next time.Time
	for _, n := range numbers {
		f := k.Number(n)
		if f == nil || k.registry.list[n].Good == 0 {
			continue
		}
		if end := f.At.Add(k.registry.list[n].Good); next.IsZero() || end.Before(next) {
			next = end
		}
	}
	return next
}

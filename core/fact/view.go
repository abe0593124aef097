package fact

import (
	"slices"
	"time"
)

// View is what is known of one subject. It keeps one fact a key and source, the
// latest, and answers with the strongest that is still good. A View is not
// changed once it is handed out: With and Without return another.
type View struct {
	registry *Registry
	facts    map[Key][]Fact // a source once
	live     []string       // scopes that last
}

// NewView makes a view of facts; those that do not fit the registry are left
// out. live names the scopes that last.
func NewView(r *Registry, live []string, facts ...Fact) View {
	v := View{registry: r, facts: make(map[Key][]Fact, len(facts)), live: slices.Clone(live)}
	for _, f := range facts {
		if r.Check(f) == nil {
			v.facts[f.Key] = latest(v.facts[f.Key], f)
		}
	}
	return v
}

// latest keeps the newer of two facts of the same source; of the same instant
// it keeps the one whose text sorts last, so that the order of arrival never
// matters.
func latest(have []Fact, f Fact) []Fact {
	for i, old := range have {
		if old.Source != f.Source {
			continue
		}
		if f.At.After(old.At) || f.At.Equal(old.At) && f.Value.String() > old.Value.String() {
			have = slices.Clone(have)
			have[i] = f
		}
		return have
	}
	return append(slices.Clone(have), f)
}

// With returns the view with more facts.
func (v View) With(facts ...Fact) View {
	return NewView(v.registry, v.live, append(v.All(), facts...)...)
}

// Live returns the view with other scopes that last.
func (v View) Live(scopes ...string) View {
	v.live = slices.Clone(scopes)
	return v
}

// All returns every fact held, good or not, by key and source.
func (v View) All() []Fact {
	var out []Fact
	for _, fs := range v.facts {
		out = append(out, fs...)
	}
	slices.SortFunc(out, func(a, b Fact) int {
		if a.Key != b.Key {
			if a.Key < b.Key {
				return -1
			}
			return 1
		}
		if a.Source < b.Source {
			return -1
		}
		return 1
	})
	return out
}

// Get returns the strongest fact of a key that is good at now.
func (v View) Get(k Key, now time.Time) (Fact, bool) {
	spec, ok := v.registry.Lookup(k)
	if !ok {
		return Fact{}, false
	}
	best, rank := Fact{}, len(spec.Sources)
	for _, f := range v.facts[k] {
		if r := slices.Index(spec.Sources, f.Source); r >= 0 && r < rank && v.good(spec, f, now) {
			best, rank = f, r
		}
	}
	return best, rank < len(spec.Sources)
}

// Good tells whether one fact is good at now.
func (v View) Good(f Fact, now time.Time) bool {
	spec, ok := v.registry.Lookup(f.Key)
	return ok && v.good(spec, f, now)
}

func (v View) good(s Spec, f Fact, now time.Time) bool {
	if s.Good > 0 && !now.Before(f.At.Add(s.Good)) {
		return false
	}
	return f.Scope == "" || slices.Contains(v.live, f.Scope)
}

// NextChange tells when age alone next ends one of the facts of keys; zero if
// none has an end.
func (v View) NextChange(keys []Key, now time.Time) time.Time {
	var next time.Time
	for _, k := range keys {
		spec, ok := v.registry.Lookup(k)
		if !ok || spec.Good == 0 {
			continue
		}
		for _, f := range v.facts[k] {
			if end := f.At.Add(spec.Good); v.good(spec, f, now) && (next.IsZero() || end.Before(next)) {
				next = end
			}
		}
	}
	return next
}

// Registry returns the registry that the view goes by.
func (v View) Registry() *Registry { return v.registry }

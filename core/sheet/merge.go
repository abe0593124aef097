package sheet

import "slices"

// merged is the result of several layers; more specific layers are applied later.
type merged struct {
	words   map[string]map[string]text // by language
	walk    []text
	gates   map[string]gateFile
	steps   []stepFile
	paths   []pathFile
	causes  []causeFile
	checks  []checkFile
	unknown []text // what was to be left out and is not there
}

// take applies a layer over the earlier ones.
func (m *merged) take(l *layer) {
	m.leave(l.Without)
	m.name("", l.Words)
	for lang, words := range l.Languages {
		m.name(lang, words)
	}
	if len(l.Walk) > 0 {
		m.walk = l.Walk
	}
	m.put(l.Gates)
	m.steps = over(m.steps, l.Steps, func(s stepFile) string { return s.ID.S })
	m.causes = over(m.causes, l.Causes, func(c causeFile) string { return c.ID.S })
	m.checks = over(m.checks, l.Checks, func(c checkFile) string { return c.ID.S })
	for _, p := range l.Paths {
		m.path(p)
	}
}

// path merges a path into the one of the same name, part by part.
func (m *merged) path(p pathFile) {
	name := func(p pathFile) string { return p.Name.S }
	if i := slices.IndexFunc(m.paths, func(have pathFile) bool { return name(have) == name(p) }); i >= 0 {
		have := m.paths[i]
		if len(p.Walk) == 0 {
			p.Walk = have.Walk
		}
		p.Gates = over(have.Gates, p.Gates, func(g gateFile) string { return g.Name.S })
		p.Steps = over(have.Steps, p.Steps, func(s stepFile) string { return s.ID.S })
	}
	m.paths = over(m.paths, []pathFile{p}, name)
}

func (m *merged) name(lang string, words map[string]text) {
	if m.words == nil {
		m.words = map[string]map[string]text{"": {}}
	}
	if m.words[lang] == nil {
		m.words[lang] = map[string]text{}
	}
	for k, w := range words {
		m.words[lang][k] = w
	}
}

func (m *merged) put(gates []gateFile) {
	if m.gates == nil {
		m.gates = map[string]gateFile{}
	}
	for _, g := range gates {
		m.gates[g.Name.S] = g
	}
}

// leave removes the steps, causes and checks with some ids.
func (m *merged) leave(ids []text) {
	for _, id := range ids {
		before := len(m.steps) + len(m.causes) + len(m.checks)
		m.steps = slices.DeleteFunc(slices.Clone(m.steps), func(s stepFile) bool { return s.ID.S == id.S })
		m.causes = slices.DeleteFunc(slices.Clone(m.causes), func(c causeFile) bool { return c.ID.S == id.S })
		m.checks = slices.DeleteFunc(slices.Clone(m.checks), func(c checkFile) bool { return c.ID.S == id.S })
		if len(m.steps)+len(m.causes)+len(m.checks) == before {
			m.unknown = append(m.unknown, id)
		}
	}
}

// over replaces items that have the same id in place, and appends new ones.
func over[T any](have, more []T, id func(T) string) []T {
	have = slices.Clone(have)
	for _, v := range more {
		if i := slices.IndexFunc(have, func(h T) bool { return id(h) == id(v) }); i >= 0 {
			have[i] = v
		} else {
			have = append(have, v)
		}
	}
	return have
}

// first is the path that gates and steps are written for where no path is named.
const first = "cable"

// last is the path to a device that a peer lends.
const last = "remote"

// pathNames returns the paths: the sheet's own first, unless it has no walk of
// its own, then the others in the order in which they are written; the one by a peer, which any
// family may have, comes last.
func (m *merged) pathNames() []string {
	var names []string
	if len(m.walk) > 0 || len(m.paths) == 0 {
		names = append(names, first)
	}
	lent := false
	for _, p := range m.paths {
		switch p.Name.S {
		case first:
		case last:
			lent = true
		default:
			names = append(names, p.Name.S)
		}
	}
	if lent {
		names = append(names, last)
	}
	return names
}

// forPath returns what counts on one path.
func (m *merged) forPath(name string) merged {
	out := merged{walk: m.walk, steps: m.steps}
	for _, g := range m.gates {
		out.put([]gateFile{g})
	}
	for _, p := range m.paths {
		if p.Name.S != name {
			continue
		}
		if len(p.Walk) > 0 {
			out.walk = p.Walk
		}
		out.put(p.Gates)
		for _, g := range p.Gates { // with the gate, its steps are this path's own
			out.steps = slices.DeleteFunc(slices.Clone(out.steps), func(s stepFile) bool { return s.Gate.S == g.Name.S })
		}
		out.steps = over(out.steps, p.Steps, func(s stepFile) string { return s.ID.S })
	}
	if out.gates == nil {
		out.gates = map[string]gateFile{}
	}
	return out
}

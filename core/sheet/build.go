package sheet

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/usb"
)

// builder puts the layers of one file together: family, maker, model, and
// within each the releases. The more specific layer overrides single words,
// gates, steps, causes and checks.
type builder struct {
	chain    []*file
	own      *file
	registry *fact.Registry
	lang     *language
	errs     Errors

	// of the sheet that is being built
	sheet *Sheet
	words map[string]map[string]text
	gates map[text]*Gate // by the place of their names, so that paths share them
	steps map[text]*Step
}

func (b *builder) wrong(t text, format string, args ...any) {
	b.errs = append(b.errs, mistake(cmp.Or(t, b.own.Sheet), "", format, args...))
}

// missing records that something is missing; nothing is recorded for a file that could
// not be read completely.
func (b *builder) missing(t text, format string, args ...any) {
	e := mistake(cmp.Or(t, b.own.Sheet), "", format, args...)
	e.follows = true
	b.errs = append(b.errs, e)
}

func (b *builder) hinted(t text, names []string, format string, args ...any) {
	e := mistake(cmp.Or(t, b.own.Sheet), plain.Meant(t.S, names), format, args...)
	e.follows = t.S == ""
	b.errs = append(b.errs, e)
}

// layers returns all layers of the chain, of every model and release.
func (b *builder) layers() []*layer {
	var out []*layer
	for _, f := range b.chain {
		out = append(out, &f.layer)
		for i := range f.Releases {
			out = append(out, &f.Releases[i].layer)
		}
	}
	for i := range b.own.Models {
		out = append(out, &b.own.Models[i].layer)
	}
	return out
}

// declare builds the registry: the built-in keys, the sheets' own, and a key for every
// statement that a person can make. All models and releases share it.
func (b *builder) declare() bool {
	specs := fact.Builtin()
	for _, f := range b.chain {
		for _, ff := range f.Facts {
			specs = append(specs, b.spec(ff))
		}
	}
	person := func(k fact.Key, t fact.Type, good time.Duration, ends fact.End, text string) {
		if !slices.ContainsFunc(specs, func(s fact.Spec) bool { return s.Key == k }) {
			specs = append(specs, fact.Spec{Key: k, Type: t, Sources: []fact.Source{fact.Person}, Good: good, Ends: ends, Text: text})
		}
	}
	for _, f := range b.chain {
		for _, s := range f.Retire {
			person(Told(s.ID.S), fact.Bool, 0, fact.EndsUnplug, "somebody said that this step is done: "+s.ID.S)
		}
	}
	for _, l := range b.layers() {
		steps := l.Steps
		for _, p := range l.Paths {
			steps = append(slices.Clone(steps), p.Steps...)
		}
		for _, s := range steps {
			person(Told(s.ID.S), fact.Bool, 0, fact.EndsUnplug, "somebody said that this step is done: "+s.ID.S)
		}
		for _, c := range l.Checks {
			person(Said(c.ID.S), fact.Text, b.length(c.Good, time.Hour), fact.EndsNever, "somebody answered: "+c.ID.S)
		}
		for _, c := range l.Causes {
			person(Did(c.ID.S), fact.Bool, 30*time.Minute, fact.EndsNever, "somebody did what helps against "+c.ID.S)
		}
	}
	if len(b.errs) > 0 {
		return false
	}
	var err error
	if b.registry, err = fact.NewRegistry(specs...); err == nil {
		b.lang, err = newLanguage(b.registry)
	}
	if err != nil {
		b.wrong(text{}, "%s", err)
	}
	return err == nil
}

var keyShape = regexp.MustCompile(`^[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)+$`)

func (b *builder) spec(f factFile) fact.Spec {
	s := fact.Spec{Key: fact.Key(f.Key.S), Type: fact.Type(f.Type.S), Ends: fact.End(f.Ends.S), Text: f.Text.S, Private: f.Private, Good: b.length(f.Good, 0)}
	if !keyShape.MatchString(f.Key.S) {
		b.wrong(f.Key, "a fact's key is lower-case words parted by dots, such as mode.lamp, not %q", f.Key.S)
	}
	if slices.ContainsFunc(fact.Builtin(), func(x fact.Spec) bool { return x.Key == s.Key }) {
		b.wrong(f.Key, "fact %s is there already, for every family", s.Key)
	}
	if !slices.Contains(fact.Types, s.Type) {
		b.hinted(f.Type, []string{"bool", "int", "text", "texts", "release", "time"}, "there is no type %q", s.Type)
	}
	if !slices.Contains([]fact.End{fact.EndsNever, fact.EndsUnplug, fact.EndsLink}, s.Ends) {
		b.hinted(f.Ends, []string{"unplug", "unlink"}, "nothing ends by %q", s.Ends)
	}
	for _, src := range f.Sources {
		if !fact.Source(src.S).Named() {
			b.hinted(src, []string{"bus", "host", "device", "adapter", "authority", "peer", "person"}, "there is no source %q", src.S)
		}
		s.Sources = append(s.Sources, fact.Source(src.S))
	}
	if len(s.Sources) == 0 {
		b.missing(f.Key, "fact %s has no sources", s.Key)
	}
	return s
}

// length parses a duration; it returns otherwise if none is written.
func (b *builder) length(t text, otherwise time.Duration) time.Duration {
	if t.S == "" {
		return otherwise
	}
	d, err := time.ParseDuration(t.S)
	if err != nil || d <= 0 {
		b.wrong(t, "%q is no length of time, such as 90s or 12h", t.S)
	}
	return d
}

// series builds the sheets of one model, one for each range between the
// releases that any layer names; nil on mistakes.
func (b *builder) series(m modelFile) *Series {
	var bounds []fact.Release
	for _, f := range b.chain {
		for _, r := range f.Releases {
			for _, t := range []text{r.From, r.Below} {
				if t.S == "" {
					continue
				}
				v, err := fact.ParseRelease(t.S)
				if err != nil {
					b.wrong(t, "%s", err)
				}
				bounds = append(bounds, v)
			}
			if r.From.S == "" && r.Below.S == "" {
				b.missing(f.Sheet, "a range of releases says from, below, or both")
			}
		}
	}
	if len(b.errs) > 0 {
		return nil
	}
	slices.SortFunc(bounds, fact.Release.Compare)
	bounds = slices.CompactFunc(bounds, func(a, b fact.Release) bool { return a.Compare(b) == 0 })
	var out Series
	from := fact.Release("")
	for _, below := range append(bounds, "") {
		if s := b.build(m, span{from, below}); s != nil {
			out.Sheets = append(out.Sheets, s)
		}
		from = below
	}
	if len(b.errs) > 0 || len(out.Sheets) == 0 {
		return nil
	}
	s := out.Sheets[0]
	out.Model, out.Family, out.Maker, out.Registry, out.Released = s.Model, s.Family, s.Maker, b.registry, b.released()
	for _, f := range b.chain {
		out.Applies = cmp.Or(f.Applies.S, out.Applies)
	}
	return &out
}

func (b *builder) released() fact.Key {
	key := fact.Key("")
	for _, f := range b.chain {
		if f.Released.S != "" {
			key = fact.Key(f.Released.S)
			if spec, ok := b.registry.Lookup(key); !ok || spec.Type != fact.Version {
				b.wrong(f.Released, "release: %q is no fact that is a release", key)
			}
		}
	}
	return key
}

// build merges the layers for one model and range of releases.
func (b *builder) build(m modelFile, in span) *Sheet {
	b.sheet = &Sheet{Name: b.own.Sheet.S, From: in.from, Below: in.below, Registry: b.registry,
		Model: Model{Code: m.Code.S, Name: m.Name.S, Handle: m.Handle.S}}
	b.sheet.Model.USB, _ = usb.ParseID(m.USB.S) // a wrong one is told where it is placed
	b.released()
	var all merged
	for _, f := range b.chain {
		b.sheet.Family, b.sheet.Maker = cmp.Or(f.Family.S, b.sheet.Family), cmp.Or(f.Maker.S, b.sheet.Maker)
		all.take(&f.layer)
		for i := range f.Releases {
			if r := &f.Releases[i]; r.holds(in) {
				all.take(&r.layer)
			}
		}
	}
	all.take(&m.layer)
	before := len(b.errs)
	b.words, b.gates, b.steps = all.words, map[text]*Gate{}, map[text]*Step{}
	b.fillWords()
	for _, p := range all.paths {
		for _, g := range p.Gates {
			if !PerPath(g.Name.S) {
				b.wrong(g.Name, "gate %q is the same on every path; only seen, driver, admitted and linked differ", g.Name.S)
			}
		}
	}
	for _, name := range all.pathNames() {
		b.sheet.Paths = append(b.sheet.Paths, b.path(name, all.forPath(name)))
	}
	for _, c := range all.causes {
		b.sheet.Causes = append(b.sheet.Causes, b.cause(c))
	}
	for _, c := range all.checks {
		b.sheet.Checks = append(b.sheet.Checks, b.check(c))
	}
	for _, f := range b.chain {
		for _, s := range f.Retire {
			b.sheet.Retire = append(b.sheet.Retire, b.step(s))
		}
	}
	for _, w := range all.unknown {
		b.missing(w, "without: there is no step, cause or check %q to leave out", w.S)
	}
	if len(b.errs) > before {
		return nil
	}
	return b.sheet
}

func (r *releaseFile) holds(in span) bool {
	from, below := fact.Release(r.From.S), fact.Release(r.Below.S)
	return (from == "" || in.from != "" && in.from.Compare(from) >= 0) && (below == "" || in.below != "" && in.below.Compare(below) <= 0)
}

func (b *builder) fillWords() {
	b.sheet.words = map[string]map[string]string{"": {}}
	for lang, words := range b.words {
		filled := map[string]string{}
		for k, w := range words {
			filled[k] = w.S
		}
		b.sheet.words[lang] = filled
	}
	for _, k := range slices.Sorted(maps.Keys(b.words[""])) {
		b.part("word", k, b.words[""][k].S, b.words[""][k])
	}
	b.sheet.words[""]["maker"], b.sheet.words[""]["model"] = b.sheet.Maker, b.sheet.Model.Name
	for lang, words := range b.words {
		for k, w := range words {
			if _, ok := b.words[""][k]; lang != "" && !ok {
				b.wrong(w, "language %s names %q, which the sheet's own words do not", lang, k)
			}
		}
	}
}

// part records which file a part of the sheet comes from.
func (b *builder) part(kind, name, what string, at text) {
	b.sheet.Parts = append(b.sheet.Parts, Part{Kind: kind, Name: name, Text: what, File: at.File, Line: at.Line})
}

// path builds one path.
func (b *builder) path(name string, m merged) *Path {
	p := &Path{Name: name, Gates: map[string]*Gate{}}
	for _, g := range append(slices.Clone(Order), HostOrder...) {
		gf, has := m.gates[g]
		switch {
		case has:
			p.Gates[g] = b.gate(gf, name)
		case OfHost(g) || b.sheet.Family == "":
			p.Gates[g] = &Gate{Name: g, NotNeeded: true}
		default:
			b.missing(text{}, "gate %s is missing; write %s: not needed, if it is not", g, g)
			p.Gates[g] = &Gate{Name: g, NotNeeded: true}
		}
	}
	for g, gf := range m.gates {
		if p.Gates[g] == nil {
			b.hinted(gf.Name, append(slices.Clone(Order), HostOrder...), "there is no gate %q", g)
		}
	}
	if b.sheet.Family == "" && len(m.walk) == 0 {
		for _, g := range Order {
			if gf, has := m.gates[g]; has && !gf.NotNeeded {
				m.walk = append(m.walk, gf.Name)
			}
		}
	}
	for _, w := range m.walk {
		if p.Gates[w.S] == nil {
			b.hinted(w, append(slices.Clone(Order), HostOrder...), "there is no gate %q", w.S)
			continue
		}
		p.Walk = append(p.Walk, w.S)
	}
	for g, gf := range m.gates {
		if p.Gates[g] != nil && !p.Gates[g].NotNeeded && !slices.Contains(p.Walk, g) {
			b.missing(gf.Name, "gate %s is needed and not in the walk", g)
		}
	}
	for _, s := range m.steps {
		if b.steps[s.ID] == nil {
			b.steps[s.ID] = b.step(s)
			b.part("step", s.ID.S, s.Text.S, s.ID)
		}
		p.Steps = append(p.Steps, b.steps[s.ID])
	}
	// Steps follow the order of the walk, whatever layer they come from.
	slices.SortStableFunc(p.Steps, func(a, b *Step) int { return slices.Index(p.Walk, a.Gate) - slices.Index(p.Walk, b.Gate) })
	b.time(p)
	return p
}

// time collects what changes with time alone on a path.
func (b *builder) time(p *Path) {
	timed := func(k fact.Key) {
		spec, _ := b.registry.Lookup(k)
		if n := b.registry.Index(k); spec.Good > 0 && !slices.Contains(p.Timed, n) {
			p.Timed = append(p.Timed, n)
		}
	}
	note := func(cs ...*Condition) {
		for _, c := range cs {
			if c == nil {
				continue
			}
			for _, k := range c.Facts {
				timed(k)
			}
			for _, f := range c.Flips {
				if !slices.Contains(p.Flips, f) {
					p.Flips = append(p.Flips, f)
				}
			}
		}
	}
	for _, g := range append(slices.Clone(Order), HostOrder...) {
		gate := p.Gates[g]
		if !OfHost(g) || !gate.NotNeeded {
			p.Shown = append(p.Shown, gate)
		}
		note(gate.Needed, gate.Open, gate.Waiting)
		if gate.Ends != "" {
			p.Flips = append(p.Flips, Flip{gate.Ends, 0}, Flip{gate.Ends, gate.Notice})
			timed(gate.Ends)
		}
	}
	for _, s := range p.Steps {
		note(s.Done, s.When)
	}
}

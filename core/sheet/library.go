package sheet

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/usb"
)

// Library is a set of sheets, ready to be asked which fits a device.
type Library struct {
	models map[usb.ID]*Sheet
	byName map[string]*Sheet // a sheet a model, by sheet name and code
}

// Load reads every .yaml below root. On mistakes it returns [Errors], and no
// library.
func Load(root fs.FS) (*Library, error) { return LoadWith(root, nil) }

// LoadWith reads every .yaml below root and further files, by name; one of them
// takes the place of a sheet below root that has the same name.
func LoadWith(root fs.FS, further map[string][]byte) (*Library, error) {
	files := map[string]*file{}
	var errs Errors
	take := func(name string, data []byte) *file {
		f, err := parse(name, data)
		if err != nil {
			errs = append(errs, err.(*Error))
			return nil
		}
		return f
	}
	for _, name := range slices.Sorted(maps.Keys(further)) {
		if f := take(name, further[name]); f != nil {
			if other := files[f.Sheet]; other != nil {
				errs = append(errs, twice(f, other))
			}
			files[f.Sheet] = f
		}
	}
	replaced := maps.Clone(files)
	err := fs.WalkDir(root, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(p) != ".yaml" {
			return err
		}
		data, err := fs.ReadFile(root, p)
		if err != nil {
			return err
		}
		f := take(p, data)
		switch {
		case f == nil || replaced[f.Sheet] != nil:
		case files[f.Sheet] != nil:
			errs = append(errs, twice(f, files[f.Sheet]))
		default:
			files[f.Sheet] = f
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read the sheets: %w", err)
	}
	lib := &Library{models: map[usb.ID]*Sheet{}, byName: map[string]*Sheet{}}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		errs = append(errs, lib.add(files, files[name])...)
	}
	if len(errs) > 0 {
		slices.SortStableFunc(errs, func(a, b *Error) int {
			return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Col-b.Col)
		})
		return nil, slices.CompactFunc(errs, func(a, b *Error) bool { return *a == *b })
	}
	return lib, nil
}

func twice(f, other *file) *Error {
	return &Error{File: f.path, Line: 1, Col: 1, Text: fmt.Sprintf("sheet %q is already in %s", f.Sheet, other.path)}
}

// Fits finds the sheet for a device by what its descriptor says; nil if none
// does.
func (l *Library) Fits(id usb.ID) *Sheet { return l.models[id] }

// Named finds the sheet that a device was given before, by family, maker and
// model code; nil if it has gone.
func (l *Library) Named(family, maker, code string) *Sheet {
	return l.byName[family+"/"+maker+"/"+code]
}

// Sheets returns all sheets, a model each, by name.
func (l *Library) Sheets() []*Sheet {
	var out []*Sheet
	for _, k := range slices.Sorted(maps.Keys(l.byName)) {
		out = append(out, l.byName[k])
	}
	return out
}

func (l *Library) add(files map[string]*file, f *file) Errors {
	layers := []*file{f}
	for up := f; up.Extends != ""; {
		next := files[up.Extends]
		if next == nil || slices.Contains(layers, next) {
			return Errors{{File: up.path, Line: 1, Col: 1, Text: fmt.Sprintf("it extends sheet %q, which is not there, or is itself", up.Extends)}}
		}
		layers = append(layers, next)
		up = next
	}
	slices.Reverse(layers) // family first
	var errs Errors
	for _, m := range f.Models {
		b := builder{layers: layers, model: m, own: f}
		s, es := b.build()
		errs = append(errs, es...)
		if len(es) > 0 {
			break // the same mistakes would follow for every model
		}
		id, err := usb.ParseID(m.USB.S)
		if err != nil {
			errs = append(errs, &Error{File: f.path, Line: m.USB.Line, Col: m.USB.Col, Text: err.Error()})
			continue
		}
		if l.models[id] != nil {
			errs = append(errs, &Error{File: f.path, Line: m.USB.Line, Col: m.USB.Col,
				Text: fmt.Sprintf("model %s has a sheet already: %s", id, l.models[id].Name)})
			continue
		}
		s.USB = id
		l.models[id] = s
		l.byName[s.Family+"/"+s.Maker+"/"+s.Model.Code] = s
	}
	return errs
}

// builder puts layers together for one model.
type builder struct {
	layers []*file
	own    *file
	model  modelFile
	words  map[string]string
	env    *cel.Env
	errs   Errors
	sheet  *Sheet
}

func (b *builder) build() (*Sheet, Errors) {
	b.sheet = &Sheet{Name: b.own.Sheet, Gates: map[string]*Gate{},
		Model: Model{Code: b.model.Code, Name: b.model.Name.S, Handle: b.model.Handle.S}}
	b.words = map[string]string{}
	gates := map[string]located[gateFile]{}
	var steps []located[stepFile]
	var walk []located[text]
	var released located[text]
	var facts []located[factFile]
	for _, f := range append(slices.Clone(b.layers), &file{path: b.own.path, Words: b.model.Words, Steps: b.model.Steps}) {
		b.sheet.Family = cmp.Or(f.Family, b.sheet.Family)
		b.sheet.Maker = cmp.Or(f.Maker, b.sheet.Maker)
		if f.Released.S != "" {
			released = located[text]{f.path, f.Released}
			b.sheet.Released = fact.Key(f.Released.S)
		}
		for k, w := range f.Words {
			b.words[k] = w.S
		}
		for name, g := range f.Gates {
			gates[name] = located[gateFile]{f.path, g}
		}
		steps = override(steps, f)
		if len(f.Walk) > 0 {
			walk = nil
			for _, w := range f.Walk {
				walk = append(walk, located[text]{f.path, w})
			}
		}
		for _, ff := range f.Facts {
			facts = append(facts, located[factFile]{f.path, ff})
		}
	}
	if !b.registry(facts, steps) {
		return nil, b.errs
	}
	b.walk(walk, gates)
	for name, g := range gates {
		b.gate(name, g)
	}
	for _, s := range steps {
		b.step(s)
	}
	if spec, ok := b.sheet.Registry.Lookup(b.sheet.Released); b.sheet.Released != "" && (!ok || spec.Type != fact.Version) {
		b.wrong(released.path, released.v, "release: %q is no fact that is a release", b.sheet.Released)
	}
	if len(b.errs) > 0 {
		return nil, b.errs
	}
	return b.sheet, nil
}

// located is a part of a sheet with the file that it came from.
type located[T any] struct {
	path string
	v    T
}

// override replaces steps of the same id, and appends new ones.
func override(have []located[stepFile], f *file) []located[stepFile] {
	have = slices.Clone(have)
	for _, s := range f.Steps {
		i := slices.IndexFunc(have, func(h located[stepFile]) bool { return h.v.ID.S == s.ID.S })
		if i < 0 {
			have = append(have, located[stepFile]{f.path, s})
		} else {
			have[i] = located[stepFile]{f.path, s}
		}
	}
	return have
}

func (b *builder) wrong(path string, at text, format string, args ...any) {
	b.errs = append(b.errs, &Error{File: path, Line: max(at.Line, 1), Col: max(at.Col, 1), Text: fmt.Sprintf(format, args...)})
}

// registry declares the built-in keys, the sheet's own, and a key for being
// told of every step.
func (b *builder) registry(own []located[factFile], steps []located[stepFile]) bool {
	specs := fact.Builtin()
	for _, f := range own {
		s := fact.Spec{Key: fact.Key(f.v.Key.S), Type: fact.Type(f.v.Type.S), Ends: fact.End(f.v.Ends.S), Text: f.v.Text}
		for _, src := range f.v.Sources {
			s.Sources = append(s.Sources, fact.Source(src.S))
		}
		if f.v.Good.S != "" {
			d, err := time.ParseDuration(f.v.Good.S)
			if err != nil || d <= 0 {
				b.wrong(f.path, f.v.Good, "%q is no length of time, such as 90s or 12h", f.v.Good.S)
			}
			s.Good = d
		}
		if !slices.Contains([]fact.Type{fact.Bool, fact.Int, fact.Text, fact.Texts, fact.Version}, s.Type) {
			b.wrong(f.path, f.v.Type, "there is no type %q; there are bool, int, text, texts, release", f.v.Type.S)
		}
		specs = append(specs, s)
	}
	for _, s := range steps {
		specs = append(specs, fact.Spec{Key: Told(s.v.ID.S), Type: fact.Bool, Sources: []fact.Source{fact.Person},
			Ends: fact.EndsUnplug, Text: "somebody said that this step is done: " + s.v.ID.S})
	}
	if len(b.errs) > 0 {
		return false
	}
	r, err := fact.NewRegistry(specs...)
	if err != nil {
		b.wrong(b.own.path, text{}, "%s", err)
		return false
	}
	b.sheet.Registry = r
	if b.env, err = environment(r); err != nil {
		b.wrong(b.own.path, text{}, "%s", err)
		return false
	}
	return true
}

func (b *builder) walk(walk []located[text], gates map[string]located[gateFile]) {
	for _, w := range walk {
		if !slices.Contains(Order, w.v.S) {
			b.wrong(w.path, w.v, "there is no gate %q; there are %s", w.v.S, strings.Join(Order, ", "))
			continue
		}
		b.sheet.Walk = append(b.sheet.Walk, w.v.S)
	}
	for _, name := range Order {
		g, has := gates[name]
		if !has {
			b.wrong(b.own.path, text{}, "gate %s is missing; write %s: not needed, if it is not", name, name)
		} else if !g.v.NotNeeded && !slices.Contains(b.sheet.Walk, name) {
			b.wrong(g.path, g.v.Open, "gate %s is needed and not in the walk", name)
		}
	}
}

func (b *builder) gate(name string, g located[gateFile]) {
	if !slices.Contains(Order, name) {
		b.wrong(g.path, g.v.Open, "there is no gate %q; there are %s", name, strings.Join(Order, ", "))
		return
	}
	out := &Gate{Name: name, NotNeeded: g.v.NotNeeded}
	b.sheet.Gates[name] = out
	if out.NotNeeded {
		return
	}
	if g.v.Open.S == "" {
		b.wrong(g.path, g.v.Open, "gate %s has no condition: open", name)
		return
	}
	out.Open = b.condition(g.path, g.v.Open)
	out.Waiting = b.condition(g.path, g.v.Waiting)
	for _, n := range g.v.Needs {
		if !slices.Contains(Order, n.S) {
			b.wrong(g.path, n, "there is no gate %q", n.S)
		}
		out.Needs = append(out.Needs, n.S)
	}
	for _, s := range g.v.Says {
		out.Says = append(out.Says, Saying{When: b.condition(g.path, s.When),
			Text: b.fill(g.path, s.Text), Remedy: b.fill(g.path, s.Remedy)})
	}
}

func (b *builder) step(s located[stepFile]) {
	v := s.v
	switch {
	case v.ID.S == "":
		b.wrong(s.path, v.Title, "a step has no id")
	case !slices.Contains(Order, v.Gate.S):
		b.wrong(s.path, v.Gate, "step %s: there is no gate %q", v.ID.S, v.Gate.S)
	case !slices.Contains([]Who{Hands, Computer, Automatic}, Who(v.Who.S)):
		b.wrong(s.path, v.Who, "step %s: who is hands, computer or automatic, not %q", v.ID.S, v.Who.S)
	case v.Action.S != "" && !slices.Contains([]string{InstallDriver, AskAdmission, TryApp}, v.Action.S):
		b.wrong(s.path, v.Action, "step %s: there is no action %q", v.ID.S, v.Action.S)
	}
	out := &Step{ID: v.ID.S, Gate: v.Gate.S, Who: Who(v.Who.S), Title: b.fill(s.path, v.Title), Text: b.fill(s.path, v.Text),
		Note: b.fill(s.path, v.Note), Search: b.fill(s.path, v.Search), Sight: b.fill(s.path, v.Sight), Risk: b.fill(s.path, v.Risk),
		Action: v.Action.S, Minutes: v.Minutes, Sure: v.Sure, Done: b.condition(s.path, v.Done), When: b.condition(s.path, v.When)}
	for _, w := range v.Where {
		out.Where = append(out.Where, b.fill(s.path, w))
	}
	if d := v.Draw; d != nil {
		out.Draw = &Drawing{Title: b.fill(s.path, d.Title), Word: b.fill(s.path, d.Word), Rows: d.Rows, Row: d.Row, Taps: d.Taps}
	}
	b.sheet.Steps = append(b.sheet.Steps, out)
}

func (b *builder) condition(path string, t text) *Condition {
	if t.S == "" || b.env == nil {
		return nil
	}
	c, err := compile(b.env, t.S)
	if e, ok := errorAs[*Error](err); ok {
		e.File = path
		if e.Line <= 1 {
			e.Col += t.Col
		}
		e.Line = t.Line + max(e.Line-1, 0)
		e.Hint = cmp.Or(e.Hint, b.hint(e.Text))
		b.errs = append(b.errs, e)
		return nil
	} else if err != nil {
		b.wrong(path, t, "%s", err)
	}
	return c
}

var undeclared = regexp.MustCompile(`undeclared reference to '([^']+)'`)

// hint suggests the nearest name for one that is not known.
func (b *builder) hint(message string) string {
	m := undeclared.FindStringSubmatch(message)
	if m == nil || strings.Contains(message, "did you mean") {
		return ""
	}
	best, least := "", 4
	for _, s := range b.sheet.Registry.All() {
		for _, name := range []string{"fact." + string(s.Key), "known." + string(s.Key)} {
			if d := distance(m[1], name); d < least {
				best, least = name, d
			}
		}
	}
	if best == "" {
		return "facts are written fact.KEY"
	}
	return "did you mean " + best + "?"
}

// distance counts the edits between two names.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

var placeholder = regexp.MustCompile(`\{([a-z][a-z ]*)\}`)

// fill puts the sheet's words in place of {word}. Those that only a device
// knows stay, for [Fill].
func (b *builder) fill(path string, t text) string {
	return placeholder.ReplaceAllStringFunc(t.S, func(m string) string {
		name := m[1 : len(m)-1]
		switch name {
		case "maker":
			return b.sheet.Maker
		case "model":
			return b.sheet.Model.Name
		case "handle", "bench", "fingerprint", "set", "trouble":
			return m
		}
		w, ok := b.words[name]
		if !ok {
			b.wrong(path, t, "there is no word %q in this sheet", name)
		}
		return w
	})
}

// Fill puts what belongs to one device into a text: {handle}, {bench},
// {fingerprint}, {set} and {trouble}.
func Fill(s string, words map[string]string) string {
	return placeholder.ReplaceAllStringFunc(s, func(m string) string {
		if w, ok := words[m[1:len(m)-1]]; ok {
			return w
		}
		return m
	})
}

package sheet

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/usb"
)

// Library is a set of sheets, ready to be asked which fits a device.
type Library struct {
	models map[usb.ID]*Series
	series map[string]*Series // by family, maker and model code
	bases  map[string]*Sheet  // sheets without models, by name
	files  map[string]string  // sheet name to file
}

// NameOf returns the name in a sheet's file, or the mistakes if it cannot be read.
func NameOf(text []byte) (string, Errors) {
	f, errs := parse("the sheet", text)
	if f == nil || f.Sheet.S == "" {
		return "", errs
	}
	return f.Sheet.S, nil
}

// FamilyOf returns the family of which a sheet's devices are.
func FamilyOf(text []byte) (string, error) {
	f, errs := parse("the sheet", text)
	if f == nil {
		return "", errs
	}
	if f.Family.S == "" {
		return "", errors.New("it names no family")
	}
	return f.Family.S, nil
}

// CodesIn returns the codes of the models that a sheet has.
func CodesIn(text []byte) (out []string) {
	f, _ := parse("the sheet", text)
	if f == nil {
		return nil
	}
	for _, m := range f.Models {
		out = append(out, m.Code.S)
	}
	return out
}

// DeclaredIn returns the types of the facts that a sheet declares, by their keys.
func DeclaredIn(text []byte) map[string]string {
	f, _ := parse("the sheet", text)
	if f == nil {
		return nil
	}
	out := map[string]string{}
	for _, d := range f.Facts {
		out[d.Key.S] = d.Type.S
	}
	return out
}

// Load reads every .yaml below root. On mistakes it returns [Errors] with all
// of them, and no library.
func Load(root fs.FS) (*Library, error) { return LoadWith(root, nil) }

// LoadWith reads every .yaml below root and further files, by name; one of them
// takes the place of a sheet below root that has the same name.
func LoadWith(root fs.FS, further map[string][]byte) (*Library, error) {
	files := map[string]*file{}
	var errs Errors
	take := func(name string, data []byte, replaced map[string]*file) {
		f, es := parse(name, data)
		errs = append(errs, es...)
		if f == nil || f.Sheet.S == "" || replaced[f.Sheet.S] != nil {
			return
		}
		if other := files[f.Sheet.S]; other != nil {
			errs = append(errs, mistake(f.Sheet, "", "sheet %q is already in %s", f.Sheet.S, other.path))
			return
		}
		files[f.Sheet.S] = f
	}
	for _, name := range slices.Sorted(maps.Keys(further)) {
		take(name, further[name], nil)
	}
	replaced := maps.Clone(files)
	err := fs.WalkDir(root, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(p) != ".yaml" {
			return err
		}
		data, err := fs.ReadFile(root, p)
		if err == nil {
			take(p, data, replaced)
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("read the sheets: %w", err)
	}
	lib := &Library{models: map[usb.ID]*Series{}, series: map[string]*Series{}, bases: map[string]*Sheet{}, files: map[string]string{}}
	unread := len(errs) > 0
	// Further files last: of two with the same ids, theirs is the mistake.
	names := slices.SortedFunc(maps.Keys(files), func(a, b string) int {
		if own := replaced[a] != nil; own != (replaced[b] != nil) {
			if own {
				return 1
			}
			return -1
		}
		return strings.Compare(a, b)
	})
	built := make([]outcome, len(names))
	var building sync.WaitGroup
	for i, name := range names {
		building.Go(func() { built[i] = build(files, files[name]) })
	}
	building.Wait()
	for i, name := range names {
		for _, e := range append(built[i].errs, lib.add(files[name], built[i])...) {
			if !unread || !e.follows && !errs.at(e.File, e.Line) {
				errs = append(errs, e)
			}
		}
	}
	if len(errs) > 0 {
		return nil, errs.sorted()
	}
	return lib, nil
}

// Fits finds the sheets for a device by its USB descriptor; nil if none fits.
func (l *Library) Fits(id usb.ID) *Series { return l.models[id] }

// Named finds sheets by family, maker and model code; nil if they do not exist any more.
func (l *Library) Named(family, maker, code string) *Series {
	return l.series[family+"/"+maker+"/"+code]
}

// Base finds a sheet that has no models of its own, by name; nil if there is
// none. The one for devices that do not show up at all is such a sheet.
func (l *Library) Base(name string) *Sheet { return l.bases[name] }

// File tells which file a sheet comes from; "" if there is no such sheet.
func (l *Library) File(name string) string { return l.files[name] }

// Names returns the names of all sheets, in order.
func (l *Library) Names() []string { return slices.Sorted(maps.Keys(l.files)) }

// All returns the sheets of all models, by family, maker and code.
func (l *Library) All() []*Series {
	var out []*Series
	for _, k := range slices.Sorted(maps.Keys(l.series)) {
		out = append(out, l.series[k])
	}
	return out
}

// outcome is the result of one file's layers: sheets for its models, or one sheet
// without models.
type outcome struct {
	base   *Sheet
	models []modelFile
	series []*Series
	errs   Errors
}

// build puts the layers of one file together, for each of its models and ranges
// of releases.
func build(files map[string]*file, f *file) (out outcome) {
	chain := []*file{f}
	for up := f; up.Extends.S != ""; {
		next := files[up.Extends.S]
		switch {
		case next == nil:
			out.errs = Errors{lacking(up.Extends, plain.Meant(up.Extends.S, slices.Sorted(maps.Keys(files))), "it extends sheet %q, which does not exist", up.Extends.S)}
			return out
		case next == up:
			out.errs = Errors{lacking(up.Extends, "name the sheet that it builds on, such as any", "sheet %q extends itself", up.Extends.S)}
			return out
		case slices.Contains(chain, next):
			out.errs = Errors{lacking(up.Extends, "a sheet builds on another one, not in a circle", "it extends sheet %q, which extends it in turn", up.Extends.S)}
			return out
		}
		chain = append(chain, next)
		up = next
	}
	slices.Reverse(chain) // family first
	b := &builder{chain: chain, own: f}
	extended := slices.ContainsFunc(slices.Collect(maps.Values(files)), func(o *file) bool { return o.Extends.S == f.Sheet.S })
	switch {
	case !b.declare():
	case len(f.Models) > 0:
		for _, m := range f.Models {
			if s := b.series(m); s != nil {
				out.models, out.series = append(out.models, m), append(out.series, s)
			}
		}
	case (extended || f.Extends.S == "") && !slices.ContainsFunc(chain, func(f *file) bool { return f.Family.S != "" }): // what families have in common stands for itself too
		out.base = b.build(modelFile{}, span{})
	case !extended:
		b.errs = append(b.errs, lacking(f.Sheet, "", "sheet %s has no models, and no sheet extends it, so nothing uses it", f.Sheet.S))
	}
	out.errs = b.errs
	return out
}

// add adds a file's outcome to the library.
func (l *Library) add(f *file, built outcome) (errs Errors) {
	l.files[f.Sheet.S] = f.path
	if built.base != nil && len(built.errs) == 0 {
		l.bases[f.Sheet.S] = built.base
	}
	for i, s := range built.series {
		errs = append(errs, l.place(f, built.models[i], s)...)
	}
	return errs
}

// lacking is a mistake that may be the consequence of another.
func lacking(t text, hint, format string, args ...any) *Error {
	e := mistake(t, hint, format, args...)
	e.follows = true
	return e
}

// place puts the sheets of one model into the library.
func (l *Library) place(f *file, m modelFile, s *Series) Errors {
	if m.Code.S == "" || m.Name.S == "" || !idShape.MatchString(m.Handle.S) {
		return Errors{lacking(cmp.Or(m.Code, m.Name, m.Handle, m.USB, f.Sheet), "", "a model has a code, a name and a handle (lower-case letters, digits, hyphens)")}
	}
	name := s.Family + "/" + s.Maker + "/" + s.Model.Code
	if l.series[name] != nil {
		return Errors{mistake(m.Code, "", "model %s of %s is there already", m.Code.S, strings.TrimSpace(s.Maker+" "+s.Family))}
	}
	if m.USB.S != "" {
		id, err := usb.ParseID(m.USB.S)
		if err != nil {
			return Errors{mistake(m.USB, "", "%s", err)}
		}
		if other := l.models[id]; other != nil {
			return Errors{mistake(m.USB, "", "model %s has a sheet already: %s, in %s", id, other.Sheets[0].Name, l.files[other.Sheets[0].Name])}
		}
		l.models[id] = s
	}
	l.series[name] = s
	return nil
}

// span is a range of releases, "" for no bound.
type span struct{ from, below fact.Release }

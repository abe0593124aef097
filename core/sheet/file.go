package sheet

import (
	"math"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// file is a sheet as it is written, in the order of docs/formats/prep-sheet.md.
type file struct {
	path     string
	Sheet    text
	About    text
	Extends  text
	Family   text
	Maker    text
	Released text
	Applies  text
	Facts    []factFile
	Models   []modelFile
	Releases []releaseFile
	Retire   []stepFile
	layer
}

// layer is what a more specific layer may override.
type layer struct {
	Words     map[string]text
	Languages map[string]map[string]text
	Walk      []text
	Gates     []gateFile
	Steps     []stepFile
	Paths     []pathFile
	Causes    []causeFile
	Checks    []checkFile
	Without   []text
}

type factFile struct {
	Key, Type, Good, Ends, Text text
	Sources                     []text
	Private                     bool
}

type gateFile struct {
	Name                  text
	NotNeeded             bool
	Needed, Open, Waiting text
	Needs                 []text
	Says                  []sayingFile
	Ends, Notice          text
}

type sayingFile struct{ When, Text, Remedy text }

type pathFile struct {
	Name  text
	Walk  []text
	Gates []gateFile
	Steps []stepFile
}

type stepFile struct {
	ID, Gate, Who, Title, Text, Note text
	Search, Sight, Risk, Action      text
	Done, When, Tells                text
	Where                            []text
	Minutes                          int
	Sure, Again, Later, Lasts        bool
	Means, Lacking, Restarts         text
	Draw                             *drawFile
}

type drawFile struct {
	Title, Word     text
	Form            text
	Rows, Row, Taps int
}

type causeFile struct {
	ID, Text, Proved, Excluded text
	Gates                      []text
	Weight                     float64
	Likely                     []likelyFile
	Remedy                     remedyFile
}

type likelyFile struct {
	When  text
	Times float64
}

type remedyFile struct {
	Who, Text, Step, Action, Sight text
	Seconds, Cures                 float64
}

type checkFile struct {
	ID, Who, Text, Note, When, Good text
	Seconds                         float64
	Answers                         []answerFile
	Means                           []meansFile
	Others                          []shareFile
}

type answerFile struct{ ID, Text, Seen text }

type meansFile struct {
	Cause  text
	Shares []shareFile
}

type shareFile struct {
	Answer text
	Share  float64
}

type modelFile struct {
	USB, Code, Name, Handle text
	layer
}

type releaseFile struct {
	From, Below text
	layer
}

// parse reads one file and returns all its mistakes together.
func parse(path string, data []byte) (*file, Errors) {
	r := &reader{path: path}
	n := r.document(data)
	if n == nil {
		return nil, r.errs
	}
	f := &file{path: path}
	known := r.layer(&f.layer)
	add(known, fields{
		"sheet": r.text(&f.Sheet), "about": r.text(&f.About), "extends": r.text(&f.Extends), "family": r.text(&f.Family),
		"maker": r.text(&f.Maker), "release": r.text(&f.Released), "applies": r.text(&f.Applies),
		"facts":    each(r, "facts", &f.Facts, r.fact),
		"models":   each(r, "models", &f.Models, r.model),
		"releases": each(r, "releases", &f.Releases, r.release),
		"retire":   each(r, "retire", &f.Retire, r.step),
	})
	r.mapping(n, "a sheet", known)
	if f.Sheet.S == "" && len(r.errs) == 0 {
		r.wrong(text{File: path}, "begin with: sheet: NAME", "the sheet has no name")
	}
	return f, r.errs
}

func add(to, more fields) {
	for k, v := range more {
		to[k] = v
	}
}

// each reads the items of a list with read.
func each[T any](r *reader, what string, to *[]T, read func(ast.Node, *T)) func(ast.Node) {
	return func(n ast.Node) {
		r.list(n, what, func(n ast.Node) {
			var v T
			read(n, &v)
			*to = append(*to, v)
		})
	}
}

func (r *reader) layer(l *layer) fields {
	return fields{
		"words":     r.words(&l.Words),
		"languages": r.languages(&l.Languages),
		"walk":      r.texts(&l.Walk),
		"gates":     r.gates(&l.Gates),
		"steps":     each(r, "steps", &l.Steps, r.step),
		"paths":     r.paths(&l.Paths),
		"causes":    each(r, "causes", &l.Causes, r.cause),
		"checks":    each(r, "checks", &l.Checks, r.check),
		"without":   r.texts(&l.Without),
	}
}

func (r *reader) words(to *map[string]text) func(ast.Node) {
	return func(n ast.Node) {
		*to = map[string]text{}
		r.entries(n, "words", func(key text, v ast.Node) {
			if !placeholder.MatchString("{" + key.S + "}") {
				r.wrong(key, "", "a word's name is lower-case letters and spaces, not %q", key.S)
				return
			}
			var t text
			r.text(&t)(v)
			(*to)[key.S] = t
		})
	}
}

func (r *reader) languages(to *map[string]map[string]text) func(ast.Node) {
	return func(n ast.Node) {
		*to = map[string]map[string]text{}
		r.entries(n, "languages", func(key text, v ast.Node) {
			if !languageTag.MatchString(key.S) {
				r.wrong(key, "such as de or pt-BR (BCP 47)", "%q is no language", key.S)
				return
			}
			var words map[string]text
			r.words(&words)(v)
			(*to)[key.S] = words
		})
	}
}

func (r *reader) gates(to *[]gateFile) func(ast.Node) {
	return func(n ast.Node) {
		r.entries(n, "gates", func(key text, v ast.Node) {
			g := gateFile{Name: key}
			if s, ok := v.(*ast.StringNode); ok {
				if g.NotNeeded = s.Value == "not needed"; !g.NotNeeded {
					r.wrong(r.place(v), "", "a gate is written out, or has the words: not needed; not %q", s.Value)
				}
			} else {
				r.mapping(v, "a gate", fields{"needed": r.text(&g.Needed), "open": r.text(&g.Open), "waiting": r.text(&g.Waiting),
					"needs": r.texts(&g.Needs), "ends": r.text(&g.Ends), "notice": r.text(&g.Notice),
					"says": each(r, "says", &g.Says, func(n ast.Node, s *sayingFile) {
						r.mapping(n, "what a gate says", fields{"when": r.text(&s.When), "text": r.text(&s.Text), "remedy": r.text(&s.Remedy)})
					})})
			}
			*to = append(*to, g)
		})
	}
}

func (r *reader) paths(to *[]pathFile) func(ast.Node) {
	return func(n ast.Node) {
		r.entries(n, "paths", func(key text, v ast.Node) {
			p := pathFile{Name: key}
			r.mapping(v, "a path", fields{"walk": r.texts(&p.Walk), "gates": r.gates(&p.Gates), "steps": each(r, "steps", &p.Steps, r.step)})
			*to = append(*to, p)
		})
	}
}

func (r *reader) fact(n ast.Node, f *factFile) {
	r.mapping(n, "a fact", fields{"key": r.text(&f.Key), "type": r.text(&f.Type), "sources": r.texts(&f.Sources), "good": r.text(&f.Good),
		"ends": r.text(&f.Ends), "text": r.text(&f.Text), "private": r.truth(&f.Private)})
}

func (r *reader) model(n ast.Node, m *modelFile) {
	known := r.layer(&m.layer)
	add(known, fields{"usb": r.text(&m.USB), "code": r.text(&m.Code), "name": r.text(&m.Name), "handle": r.text(&m.Handle)})
	r.mapping(n, "a model", known)
}

func (r *reader) release(n ast.Node, v *releaseFile) {
	known := r.layer(&v.layer)
	add(known, fields{"from": r.text(&v.From), "below": r.text(&v.Below)})
	r.mapping(n, "a range of releases", known)
}

func (r *reader) step(n ast.Node, s *stepFile) {
	r.mapping(n, "a step", fields{
		"id": r.text(&s.ID), "gate": r.text(&s.Gate), "who": r.text(&s.Who), "title": r.text(&s.Title), "text": r.text(&s.Text),
		"note": r.text(&s.Note), "where": r.texts(&s.Where), "search": r.text(&s.Search), "sight": r.text(&s.Sight), "risk": r.text(&s.Risk),
		"action": r.text(&s.Action), "minutes": r.whole(&s.Minutes, 600), "done": r.text(&s.Done), "when": r.text(&s.When),
		"means": r.text(&s.Means), "lacking": r.text(&s.Lacking), "restarts": r.text(&s.Restarts), "sure": r.truth(&s.Sure), "again": r.truth(&s.Again), "later": r.truth(&s.Later), "lasts": r.truth(&s.Lasts),
		"tells": r.text(&s.Tells),
		"draw": func(n ast.Node) {
			s.Draw = &drawFile{}
			r.mapping(n, "a drawing", fields{"title": r.text(&s.Draw.Title), "word": r.text(&s.Draw.Word), "form": r.text(&s.Draw.Form), "rows": r.whole(&s.Draw.Rows, 12),
				"row": r.whole(&s.Draw.Row, 12), "taps": r.whole(&s.Draw.Taps, 99)})
		},
	})
}

func (r *reader) cause(n ast.Node, c *causeFile) {
	c.Weight = math.NaN()
	r.mapping(n, "a cause", fields{
		"id": r.text(&c.ID), "gates": r.texts(&c.Gates), "weight": r.number(&c.Weight, 0.01, 1000), "text": r.text(&c.Text),
		"proved": r.text(&c.Proved), "excluded": r.text(&c.Excluded),
		"likely": each(r, "likely", &c.Likely, func(n ast.Node, l *likelyFile) {
			r.mapping(n, "what makes a cause likely", fields{"when": r.text(&l.When), "times": r.number(&l.Times, 0.001, 1000)})
		}),
		"remedy": func(n ast.Node) {
			r.mapping(n, "a remedy", fields{"who": r.text(&c.Remedy.Who), "seconds": r.number(&c.Remedy.Seconds, 1, 36000),
				"text": r.text(&c.Remedy.Text), "step": r.text(&c.Remedy.Step), "action": r.text(&c.Remedy.Action), "sight": r.text(&c.Remedy.Sight), "cures": r.number(&c.Remedy.Cures, 0.01, 0.999)})
		},
	})
	if c.Remedy.Cures == 0 || math.IsNaN(c.Remedy.Cures) {
		c.Remedy.Cures = 0.95
	}
	if math.IsNaN(c.Weight) {
		c.Weight = 1
	}
}

func (r *reader) check(n ast.Node, c *checkFile) {
	r.mapping(n, "a check", fields{
		"id": r.text(&c.ID), "who": r.text(&c.Who), "seconds": r.number(&c.Seconds, 1, 36000), "text": r.text(&c.Text), "note": r.text(&c.Note),
		"when": r.text(&c.When), "good": r.text(&c.Good),
		"answers": func(n ast.Node) {
			r.entries(n, "answers", func(key text, v ast.Node) {
				a := answerFile{ID: key}
				if t, ok := r.scalar(v); ok {
					a.Text = t
				} else {
					r.mapping(v, "an answer", fields{"text": r.text(&a.Text), "seen": r.text(&a.Seen)})
				}
				c.Answers = append(c.Answers, a)
			})
		},
		"means": func(n ast.Node) {
			r.entries(n, "means", func(key text, v ast.Node) {
				m := meansFile{Cause: key}
				r.shares(&m.Shares)(v)
				c.Means = append(c.Means, m)
			})
		},
		"others": r.shares(&c.Others),
	})
}

func (r *reader) shares(to *[]shareFile) func(ast.Node) {
	return func(n ast.Node) {
		r.entries(n, "what an answer means", func(key text, v ast.Node) {
			s := shareFile{Answer: key}
			r.number(&s.Share, 0, 1)(v)
			*to = append(*to, s)
		})
	}
}

// yamlError adds the position to a parser's error.
func yamlError(path string, err error) *Error {
	e := &Error{File: path, Line: 1, Col: 1, Text: err.Error()}
	if ye, ok := errorAs[yaml.Error](err); ok {
		e.Text = ye.GetMessage()
		if tok := ye.GetToken(); tok != nil && tok.Position != nil {
			e.Line, e.Col, e.Near = max(tok.Position.Line, 1), max(tok.Position.Column, 1), tok.Value
		}
	}
	return e
}

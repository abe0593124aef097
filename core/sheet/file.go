package sheet

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// text is a YAML string that remembers where it stood.
type text struct {
	S         string
	File      string
	Line, Col int
}

func (t *text) UnmarshalYAML(n ast.Node) error {
	tok := n.GetToken()
	if a, ok := n.(*ast.AnchorNode); ok {
		n = a.Value
	}
	t.Line, t.Col = tok.Position.Line, tok.Position.Column
	switch n := n.(type) {
	case *ast.StringNode:
		t.S = n.Value
	case *ast.LiteralNode:
		t.S = strings.TrimRight(n.Value.Value, "\n")
	case ast.ScalarNode:
		t.S = tok.Value
	default:
		return &Error{Line: t.Line, Col: t.Col, Text: "a text is wanted here"}
	}
	return nil
}

// file is a sheet as it is written.
type file struct {
	Sheet    string              `yaml:"sheet"`
	About    string              `yaml:"about"`
	Family   string              `yaml:"family"`
	Maker    string              `yaml:"maker"`
	Extends  string              `yaml:"extends"`
	Released text                `yaml:"release"`
	Facts    []factFile          `yaml:"facts"`
	Words    map[string]text     `yaml:"words"`
	Walk     []text              `yaml:"walk"`
	Gates    map[string]gateFile `yaml:"gates"`
	Steps    []stepFile          `yaml:"steps"`
	Models   []modelFile         `yaml:"models"`

	path string
}

type factFile struct {
	Key     text   `yaml:"key"`
	Type    text   `yaml:"type"`
	Sources []text `yaml:"sources"`
	Good    text   `yaml:"good"`
	Ends    text   `yaml:"ends"`
	Text    string `yaml:"text"`
}

type gateFile struct {
	NotNeeded bool         `yaml:"-"`
	Open      text         `yaml:"open"`
	Waiting   text         `yaml:"waiting"`
	Needs     []text       `yaml:"needs"`
	Says      []sayingFile `yaml:"says"`
}

// UnmarshalYAML takes a mapping, or the words "not needed".
func (g *gateFile) UnmarshalYAML(n ast.Node) error {
	if s, ok := n.(*ast.StringNode); ok {
		if s.Value != "not needed" {
			p := n.GetToken().Position
			return &Error{Line: p.Line, Col: p.Column, Text: fmt.Sprintf("a gate is a mapping, or the words: not needed; not %q", s.Value)}
		}
		g.NotNeeded = true
		return nil
	}
	type plain gateFile
	return yaml.NodeToValue(n, (*plain)(g), yaml.Strict())
}

type sayingFile struct {
	When   text `yaml:"when"`
	Text   text `yaml:"text"`
	Remedy text `yaml:"remedy"`
}

type stepFile struct {
	ID      text      `yaml:"id"`
	Gate    text      `yaml:"gate"`
	Who     text      `yaml:"who"`
	Title   text      `yaml:"title"`
	Text    text      `yaml:"text"`
	Note    text      `yaml:"note"`
	Where   []text    `yaml:"where"`
	Search  text      `yaml:"search"`
	Sight   text      `yaml:"sight"`
	Risk    text      `yaml:"risk"`
	Action  text      `yaml:"action"`
	Minutes int       `yaml:"minutes"`
	Done    text      `yaml:"done"`
	When    text      `yaml:"when"`
	Sure    bool      `yaml:"sure"`
	Draw    *drawFile `yaml:"draw"`
}

type drawFile struct {
	Title text `yaml:"title"`
	Rows  int  `yaml:"rows"`
	Row   int  `yaml:"row"`
	Word  text `yaml:"word"`
	Taps  int  `yaml:"taps"`
}

type modelFile struct {
	USB    text            `yaml:"usb"` // vendor:product, four hexadecimal digits each
	Code   string          `yaml:"code"`
	Name   text            `yaml:"name"`
	Handle text            `yaml:"handle"`
	Words  map[string]text `yaml:"words"`
	Steps  []stepFile      `yaml:"steps"`
}

// Error is one mistake in a sheet.
type Error struct {
	File      string
	Line, Col int
	Text      string
	Hint      string
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Col, e.Text)
	if e.Hint != "" {
		s += " (" + e.Hint + ")"
	}
	return s
}

// Errors are all mistakes found in a set of sheets.
type Errors []*Error

func (es Errors) Error() string {
	lines := make([]string, len(es))
	for i, e := range es {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}

// parse reads one file.
func parse(path string, data []byte) (*file, error) {
	f := &file{path: path}
	d := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict())
	if err := d.Decode(f); err != nil {
		return nil, yamlError(path, err)
	}
	if f.Sheet == "" {
		return nil, &Error{File: path, Line: 1, Col: 1, Text: "the sheet has no name", Hint: "begin with: sheet: NAME"}
	}
	return f, nil
}

// yamlError gives a decoder's error the place where it happened.
func yamlError(path string, err error) error {
	if own, ok := errorAs[*Error](err); ok {
		own.File = path
		return own
	}
	if ye, ok := errorAs[yaml.Error](err); ok {
		e := &Error{File: path, Line: 1, Col: 1, Text: ye.GetMessage()}
		if tok := ye.GetToken(); tok != nil {
			e.Line, e.Col = tok.Position.Line, tok.Position.Column
		}
		return e
	}
	return &Error{File: path, Line: 1, Col: 1, Text: err.Error()}
}

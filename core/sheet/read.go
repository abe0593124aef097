package sheet

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/plain"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// A sheet is read from YAML's syntax tree, not by reflection: this finds every mistake
// in one pass, each with its position, and suggests a known name for an unknown one.

// Limits on a sheet.
const (
	maxFile  = 1 << 20
	maxDepth = 20
)

// text is a YAML scalar with its position.
type text struct {
	S         string
	File      string
	Line, Col int
	quoted    bool
}

// reader reads one file.
type reader struct {
	path  string
	errs  Errors
	lines []string
}

// wrong records a mistake at a position.
func (r *reader) wrong(t text, hint, format string, args ...any) {
	r.errs = append(r.errs, mistake(t, hint, format, args...))
}

func mistake(t text, hint, format string, args ...any) *Error {
	near := t.S
	if len(near) > 60 {
		near = near[:60]
	}
	return &Error{File: t.File, Line: max(t.Line, 1), Col: max(t.Col, 1), Near: strings.ToValidUTF8(near, ""), Text: fmt.Sprintf(format, args...), Hint: hint}
}

// document parses the file into its one mapping; nil if it is not YAML.
func (r *reader) document(data []byte) (n ast.Node) {
	here := text{File: r.path, Line: 1, Col: 1}
	if len(data) > maxFile {
		r.wrong(here, "", "the file has %d bytes; a sheet has at most %d", len(data), maxFile)
		return nil
	}
	r.lines = strings.Split(string(data), "\n")
	defer func() { // the parser gives up by panic on some broken files
		if p := recover(); p != nil {
			r.wrong(here, "look for an unclosed quote or bracket", "this is not YAML that can be read")
			n = nil
		}
	}()
	f, err := parser.ParseBytes(data, 0)
	if err != nil {
		r.errs = append(r.errs, yamlError(r.path, err))
		return nil
	}
	if len(f.Docs) == 0 || len(f.Docs) == 1 && (f.Docs[0].Body == nil || f.Docs[0].Body.Type() == ast.CommentType) {
		r.wrong(here, "begin with: sheet: NAME", "the file is empty; a sheet is one YAML document")
		return nil
	}
	if len(f.Docs) != 1 {
		r.wrong(here, "begin with: sheet: NAME", "a sheet is one YAML document, this file has %d", len(f.Docs))
		return nil
	}
	return f.Docs[0].Body
}

// place returns a node's text with its position.
func (r *reader) place(n ast.Node) text {
	t := text{File: r.path, Line: 1, Col: 1}
	tok := n.GetToken()
	if tok == nil || tok.Position == nil {
		return t
	}
	t.S, t.Line, t.Col = tok.Value, tok.Position.Line, tok.Position.Column
	t.quoted = tok.Type == token.SingleQuoteType || tok.Type == token.DoubleQuoteType
	return t
}

// fields maps the names that a mapping may hold to the functions that read their values.
type fields map[string]func(ast.Node)

// mapping reads a mapping of known names.
func (r *reader) mapping(n ast.Node, what string, known fields) {
	r.entries(n, what, func(key text, value ast.Node) {
		take, ok := known[key.S]
		if !ok {
			r.wrong(key, plain.Meant(key.S, slices.Sorted(maps.Keys(known))), "%s has no field %q", what, key.S)
			return
		}
		take(value)
	})
}

// entries reads a mapping of any names, each once.
func (r *reader) entries(n ast.Node, what string, take func(key text, value ast.Node)) {
	var pairs []*ast.MappingValueNode
	switch n := n.(type) {
	case *ast.MappingNode:
		pairs = n.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{n}
	default:
		r.wrong(r.place(n), "", "%s is written as names with values, not as %s", what, kindOf(n))
		return
	}
	seen := map[string]bool{}
	for _, p := range pairs {
		key, ok := r.scalar(p.Key)
		switch {
		case !ok || p.Value == nil:
			r.wrong(r.place(p.Key), "", "a name with a value is wanted here")
		case seen[key.S]:
			r.wrong(key, "", "%q stands here twice", key.S)
		case !r.tooDeep(p.Value, maxDepth):
			seen[key.S] = true
			take(key, p.Value)
		}
	}
}

// tooDeep refuses values that are nested too deeply.
func (r *reader) tooDeep(n ast.Node, left int) bool {
	if left == 0 {
		r.wrong(r.place(n), "", "this nests too deep")
		return true
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		return slices.ContainsFunc(n.Values, func(v *ast.MappingValueNode) bool { return v.Value != nil && r.tooDeep(v.Value, left-1) })
	case *ast.MappingValueNode:
		return n.Value != nil && r.tooDeep(n.Value, left-1)
	case *ast.SequenceNode:
		return slices.ContainsFunc(n.Values, func(v ast.Node) bool { return v != nil && r.tooDeep(v, left-1) })
	}
	return false
}

// list reads a sequence.
func (r *reader) list(n ast.Node, what string, take func(ast.Node)) {
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		r.wrong(r.place(n), "", "%s is a list, not %s", what, kindOf(n))
		return
	}
	for _, v := range s.Values {
		if v != nil {
			take(v)
		}
	}
}

// scalar reads one value as text.
func (r *reader) scalar(n ast.Node) (text, bool) {
	if n == nil {
		return text{File: r.path, Line: 1, Col: 1}, false
	}
	t := r.place(n)
	switch n := n.(type) {
	case *ast.StringNode:
		t.S = n.Value
	case *ast.LiteralNode:
		t.S = strings.TrimRight(n.Value.Value, "\n")
		t.Line++ // what it says begins in the line below
		if t.Line <= len(r.lines) {
			line := r.lines[t.Line-1]
			t.Col = 1 + len(line) - len(strings.TrimLeft(line, " "))
		}
	case *ast.NullNode, *ast.AliasNode, *ast.AnchorNode, *ast.MergeKeyNode, *ast.TagNode:
		return t, false
	case ast.ScalarNode:
		t.S = n.GetToken().Value
	default:
		return t, false
	}
	return t, true
}

// kindOf names the kind of a node for an error message.
func kindOf(n ast.Node) string {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "names with values"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "nothing"
	case *ast.AliasNode, *ast.AnchorNode, *ast.MergeKeyNode:
		return "a reference, which sheets do not use"
	case *ast.TagNode:
		return "a tagged value, which sheets do not use"
	}
	return "a single value"
}

// text takes a scalar.
func (r *reader) text(to *text) func(ast.Node) {
	return func(n ast.Node) {
		t, ok := r.scalar(n)
		if !ok {
			r.wrong(t, "", "a text is wanted here, not %s", kindOf(n))
			return
		}
		*to = t
	}
}

// texts takes a list of scalars.
func (r *reader) texts(to *[]text) func(ast.Node) {
	return func(n ast.Node) {
		r.list(n, "this", func(n ast.Node) {
			var t text
			r.text(&t)(n)
			if t.File != "" {
				*to = append(*to, t)
			}
		})
	}
}

// number takes a number from low to high.
func (r *reader) number(to *float64, low, high float64) func(ast.Node) {
	return func(n ast.Node) {
		t, ok := r.scalar(n)
		f, err := strconv.ParseFloat(t.S, 64)
		if !ok || err != nil || math.IsNaN(f) || f < low || f > high {
			r.wrong(t, "", "a number from %v to %v is wanted here", low, high)
			return
		}
		*to = f
	}
}

// whole takes a whole number from 0 to high.
func (r *reader) whole(to *int, high int) func(ast.Node) {
	return func(n ast.Node) {
		var f float64
		r.number(&f, 0, float64(high))(n)
		if f != math.Trunc(f) {
			r.wrong(r.place(n), "", "a whole number is wanted here")
		}
		*to = int(f)
	}
}

// truth takes true or false.
func (r *reader) truth(to *bool) func(ast.Node) {
	return func(n ast.Node) {
		b, ok := n.(*ast.BoolNode)
		if !ok {
			r.wrong(r.place(n), "", "true or false is wanted here")
			return
		}
		*to = b.Value
	}
}

// Error is one mistake in a sheet.
type Error struct {
	File string `json:"file"`
	Line int    `json:"line"`   // from 1
	Col  int    `json:"column"` // from 1, in bytes
	Near string `json:"near"`   // the text that is wrong, as far as it can be told
	Text string `json:"text"`
	Hint string `json:"hint"`

	follows bool // something is missing, perhaps only since it could not be read
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Col, e.Text)
	if e.Hint != "" {
		s += " (" + e.Hint + ")"
	}
	return s
}

// Errors are all mistakes found in a set of sheets, by place.
type Errors []*Error

func (es Errors) Error() string {
	lines := make([]string, len(es))
	for i, e := range es {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}

// at reports whether a line has a mistake already.
func (es Errors) at(file string, line int) bool {
	return slices.ContainsFunc(es, func(e *Error) bool { return e.File == file && e.Line == line })
}

// sorted returns mistakes by position, each once.
func (es Errors) sorted() Errors {
	slices.SortStableFunc(es, func(a, b *Error) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Col-b.Col, strings.Compare(a.Text, b.Text))
	})
	return slices.CompactFunc(es, func(a, b *Error) bool { return *a == *b })
}

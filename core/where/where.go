// Package where chooses items of lists by expressions: CEL (the Common Expression
// Language) over the members of an item, such as
//
//	device.family == "tarn" && device.release < version("12")
//
// Names are typed and flat, so that a mistake is found before anything is looked at,
// and is told with its place and with what there is. An item is chosen where the
// expression holds; where it needs something that is not known of the item, it does
// not.
package where

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"

	"earlybench.invalid/earlybench/core/plain"
)

const (
	maxLength = 2000   // of an expression, in bytes
	maxCost   = 50_000 // of evaluating one on one item, in CEL's units
)

// Language is the names that expressions may use. It may be used from many goroutines.
type Language struct {
	env  *cel.Env
	vars map[string]*cel.Type
}

// New makes a language of variables, by their dotted names.
func New(vars map[string]*cel.Type) (*Language, error) {
	opts := Releases()
	for name, t := range vars {
		opts = append(opts, cel.Variable(name, t))
	}
	env, err := cel.NewEnv(opts...)
	if err != nil {
		return nil, fmt.Errorf("make the language of an expression: %w", err)
	}
	return &Language{env, vars}, nil
}

// Names are all that expressions may use, in order.
func (l *Language) Names() []string { return slices.Sorted(maps.Keys(l.vars)) }

// Mistake is what is wrong with an expression, and where.
type Mistake struct {
	Line, Col  int // from 1; Col in characters
	Text, Hint string
}

func (m *Mistake) Error() string {
	s := fmt.Sprintf("%d:%d: %s", m.Line, m.Col, m.Text)
	if m.Hint != "" {
		s += " (" + m.Hint + ")"
	}
	return s
}

// Expression is one that was found right. It may be used from many goroutines.
type Expression struct {
	program cel.Program
	names   []string // of the variables that it uses
}

// Compile reads an expression; what is wrong with it is a *[Mistake].
func (l *Language) Compile(text string) (*Expression, error) {
	if len(text) > maxLength {
		return nil, &Mistake{1, 1, fmt.Sprintf("it is longer than %d bytes", maxLength), ""}
	}
	parsed, issues := l.env.Parse(text)
	if err := mistake(issues); err != nil {
		return nil, err
	}
	if err := l.unknown(parsed.NativeRep()); err != nil {
		return nil, err
	}
	checked, issues := l.env.Check(parsed)
	if err := mistake(issues); err != nil {
		return nil, err
	}
	if checked.OutputType() != cel.BoolType {
		return nil, &Mistake{1, 1, fmt.Sprintf("it has to be true or false, and this is a %s", checked.OutputType()), ""}
	}
	program, err := l.env.Program(checked, cel.EvalOptions(cel.OptPartialEval), cel.CostLimit(maxCost))
	if err != nil {
		return nil, &Mistake{1, 1, err.Error(), ""}
	}
	e := &Expression{program: program}
	for _, r := range checked.NativeRep().ReferenceMap() {
		if _, ok := l.vars[r.Name]; ok && !slices.Contains(e.names, r.Name) {
			e.names = append(e.names, r.Name)
		}
	}
	return e, nil
}

// mistake makes a Mistake of the first of CEL's issues; nil of none.
func mistake(issues *cel.Issues) error {
	if issues.Err() == nil {
		return nil
	}
	first := issues.Errors()[0]
	return &Mistake{max(first.Location.Line(), 1), max(first.Location.Column()+1, 1), inWords(first.Message), ""}
}

var overload = regexp.MustCompile(`^found no matching overload for '_?([^_']+)_?' applied to '\(?([^()]*)\)?'`)

// inWords is what CEL says of a mistake, in plain words.
func inWords(message string) string {
	message, _, _ = strings.Cut(message, "\n")
	message, _, _ = strings.Cut(strings.TrimPrefix(message, "Syntax error: "), " expecting ")
	if strings.HasSuffix(message, "'<EOF>'") {
		return "it ends too early"
	}
	if m := overload.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("%s does not go with %s", m[1], strings.ReplaceAll(m[2], ", ", " and "))
	}
	return message
}

// unknown finds the first name that the language does not have, with the nearest one that it has.
func (l *Language) unknown(a *ast.AST) error {
	locals := map[string]bool{}
	inside := map[int64]bool{} // parts of a longer name
	var found *Mistake
	ast.PostOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.ComprehensionKind {
			c := e.AsComprehension()
			locals[c.IterVar()], locals[c.AccuVar()] = true, true
		}
		if e.Kind() == ast.SelectKind {
			inside[e.AsSelect().Operand().ID()] = true
		}
	}))
	ast.PostOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		name, start := dotted(e)
		root, _, _ := strings.Cut(name, ".")
		if found != nil || name == "" || inside[e.ID()] || locals[root] || l.has(name) {
			return
		}
		at := a.SourceInfo().GetStartLocation(start)
		found = &Mistake{at.Line(), at.Column() + 1, fmt.Sprintf("there is no %s", name), plain.Meant(name, l.like(name))}
	}))
	if found == nil {
		return nil
	}
	return found
}

// has reports whether a name is a variable, or goes into one that is a map.
func (l *Language) has(name string) bool {
	for {
		if t, ok := l.vars[name]; ok {
			return t != nil
		}
		dot := strings.LastIndexByte(name, '.')
		if dot < 0 {
			return false
		}
		name = name[:dot]
		if t, ok := l.vars[name]; ok {
			return t.Kind() == types.MapKind
		}
	}
}

// like are the names that somebody may have meant: those of the same noun, or else the
// nouns.
func (l *Language) like(name string) []string {
	noun, _, _ := strings.Cut(name, ".")
	var same, nouns []string
	for _, n := range l.Names() {
		first, _, _ := strings.Cut(n, ".")
		if first == noun {
			same = append(same, n)
		}
		if !slices.Contains(nouns, first) {
			nouns = append(nouns, first)
		}
	}
	if len(same) > 0 {
		return same
	}
	return nouns
}

// dotted is a chain of names, a.b.c, and the id of its first; "" for anything else.
func dotted(e ast.Expr) (name string, first int64) {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent(), e.ID()
	case ast.SelectKind:
		if e.AsSelect().IsTestOnly() {
			return "", 0
		}
		if before, first := dotted(e.AsSelect().Operand()); before != "" {
			return before + "." + e.AsSelect().FieldName(), first
		}
	}
	return "", 0
}

// Holds reports whether the expression is true of what value gives: the value of a
// variable, or false where it is not known. An error is an expression that costs too
// much.
func (e *Expression) Holds(value func(name string) (any, bool)) (bool, error) {
	known := make(map[string]any, len(e.names))
	var missing []*cel.AttributePatternType
	for _, name := range e.names {
		if v, ok := value(name); ok {
			known[name] = v
		} else {
			missing = append(missing, cel.AttributePattern(name))
		}
	}
	vars, err := cel.PartialVars(known, missing...)
	if err != nil {
		return false, err
	}
	out, _, err := e.program.Eval(vars)
	if err != nil && strings.Contains(err.Error(), "cost limit") {
		return false, fmt.Errorf("the expression costs too much: make it simpler")
	}
	return err == nil && out == types.True, nil
}

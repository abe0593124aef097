package sheet

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"earlybench.invalid/earlybench/core/fact"
)

// costLimit bounds what one condition may cost when it is evaluated, in CEL's
// units; one that could cost more is refused when it is loaded.
const costLimit = 2000

// Truth is what a condition comes to. The zero value is Unknown.
type Truth int8

// The truths.
const (
	Unknown Truth = iota
	False
	True
)

// Condition is a compiled CEL expression over facts and the device. It may be
// used from many goroutines.
type Condition struct {
	Source string
	Facts  []fact.Key // that it reads, in the order of the text
	reads  map[fact.Key]bool
	whole  cel.Program
	part   cel.Program // built at the first need
	once   sync.Once
	env    *cel.Env
	ast    *cel.Ast
}

// Attributes are the plain properties that conditions see besides facts.
type Attributes struct {
	Family string
	Maker  string
	Code   string
	App    string // "" where no app is meant
}

// environment declares the variables: fact.KEY and known.KEY for every key of
// the registry, and the attributes.
func environment(r *fact.Registry) (*cel.Env, error) {
	opts := []cel.EnvOption{
		cel.Variable("device.family", cel.StringType),
		cel.Variable("device.maker", cel.StringType),
		cel.Variable("device.code", cel.StringType),
		cel.Variable("app.id", cel.StringType),
		cel.Function("version", cel.Overload("version_string", []*cel.Type{cel.StringType}, releaseCEL,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				r, err := fact.ParseRelease(string(v.(types.String)))
				if err != nil {
					return types.NewErr("%s", err)
				}
				return releaseValue(r)
			}))),
	}
	for _, op := range []string{operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals} {
		name := "release" + strings.Trim(op, "_")
		opts = append(opts, cel.Function(op, cel.Overload(name, []*cel.Type{releaseCEL, releaseCEL}, cel.BoolType)))
	}
	for _, s := range r.All() {
		opts = append(opts, cel.Variable("fact."+string(s.Key), celType(s.Type)),
			cel.Variable("known."+string(s.Key), cel.BoolType))
	}
	return cel.NewEnv(opts...)
}

func celType(t fact.Type) *cel.Type {
	switch t {
	case fact.Bool:
		return cel.BoolType
	case fact.Int:
		return cel.IntType
	case fact.Texts:
		return cel.ListType(cel.StringType)
	case fact.Version:
		return releaseCEL
	}
	return cel.StringType
}

// compile checks an expression; offset and message of the first mistake come
// back as an Error whose place is within the expression.
func compile(env *cel.Env, src string) (*Condition, error) {
	checked, issues := env.Compile(src)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, &Error{Line: first.Location.Line(), Col: first.Location.Column(), Text: first.Message}
	}
	if checked.OutputType() != cel.BoolType {
		return nil, &Error{Text: fmt.Sprintf("a condition is true or false, this is a %s", checked.OutputType())}
	}
	c := &Condition{Source: src, env: env, ast: checked, reads: map[fact.Key]bool{}}
	for _, name := range identifiers(checked.NativeRep()) {
		key, isFact := strings.CutPrefix(name, "fact.")
		if known, isKnown := strings.CutPrefix(name, "known."); isKnown {
			key = known
		} else if !isFact {
			continue
		}
		if _, dup := c.reads[fact.Key(key)]; !dup {
			c.Facts = append(c.Facts, fact.Key(key))
		}
		c.reads[fact.Key(key)] = c.reads[fact.Key(key)] || isFact
	}
	cost, err := env.EstimateCost(checked, bounded{})
	if err != nil {
		return nil, &Error{Text: err.Error()}
	}
	if cost.Max > costLimit {
		return nil, &Error{Text: fmt.Sprintf("this may cost up to %d, the bound is %d", cost.Max, costLimit), Hint: "make it simpler"}
	}
	c.whole, err = env.Program(checked)
	return c, err
}

func identifiers(a *ast.AST) []string {
	var names []string
	for _, e := range ast.MatchDescendants(ast.NavigateAST(a), ast.KindMatcher(ast.IdentKind)) {
		names = append(names, e.AsIdent())
	}
	// A dotted variable may be kept as a selection whose reference names it.
	for _, r := range a.ReferenceMap() {
		if r.Name != "" && strings.Contains(r.Name, ".") {
			names = append(names, r.Name)
		}
	}
	return names
}

// Eval evaluates the condition at now. It is Unknown where it needs a fact that
// is not good.
func (c *Condition) Eval(a Attributes, v fact.View, now time.Time) Truth {
	b := binding{attributes: a, view: v, now: now}
	var missing []*cel.AttributePatternType
	for k, needed := range c.reads {
		if _, ok := v.Get(k, now); needed && !ok {
			missing = append(missing, cel.AttributePattern("fact."+string(k)))
		}
	}
	if len(missing) == 0 {
		out, _, err := c.whole.Eval(&b)
		return truth(out, err)
	}
	c.once.Do(func() { c.part, _ = c.env.Program(c.ast, cel.EvalOptions(cel.OptPartialEval)) })
	vars, err := cel.PartialVars(&b, missing...)
	if err != nil {
		return Unknown
	}
	out, _, err := c.part.Eval(vars)
	return truth(out, err)
}

func truth(out ref.Val, err error) Truth {
	if err != nil {
		return Unknown
	}
	switch out {
	case types.True:
		return True
	case types.False:
		return False
	}
	return Unknown
}

// binding gives CEL the value of each variable.
type binding struct {
	attributes Attributes
	view       fact.View
	now        time.Time
}

func (b *binding) Parent() cel.Activation { return nil }

func (b *binding) ResolveName(name string) (any, bool) {
	if key, ok := strings.CutPrefix(name, "fact."); ok {
		f, good := b.view.Get(fact.Key(key), b.now)
		if !good {
			return nil, false
		}
		if f.Value.Type() == fact.Version {
			return releaseValue(f.Value.Text()), true
		}
		return f.Value.Any(), true
	}
	if key, ok := strings.CutPrefix(name, "known."); ok {
		_, good := b.view.Get(fact.Key(key), b.now)
		return good, true
	}
	switch name {
	case "device.family":
		return b.attributes.Family, true
	case "device.maker":
		return b.attributes.Maker, true
	case "device.code":
		return b.attributes.Code, true
	case "app.id":
		return b.attributes.App, true
	}
	return nil, false
}

func errorAs[T error](err error) (T, bool) {
	var e T
	ok := errors.As(err, &e)
	return e, ok
}

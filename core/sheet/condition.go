package sheet

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/cost"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/where"
)

// costLimit bounds what one condition may cost when it is evaluated, in CEL's
// units; one that could cost more is refused when it is loaded.
const costLimit = 2000

// Truth is the result of a condition. The zero value is Unknown.
type Truth int8

// The truths, ordered so that && is the minimum and || the maximum.
const (
	False   Truth = -1
	Unknown Truth = 0
	True    Truth = 1
)

// Condition is a compiled CEL expression over facts, device, host and app. It
// may be used from many goroutines.
type Condition struct {
	Source string
	Facts  []fact.Key // that it reads, in the order of the text
	Flips  []Flip     // when time alone may alter it
	reads  []int      // numbers of the facts
	needs  []int      // numbers of the facts without which it is evaluated partially
	names  []string   // of those, as variables
	strict bool       // without any one of those it is Unknown
	quick  *quick     // what it comes to without CEL; nil where it needs that
	lang   *language
	whole  cel.Program
	part   cel.Program // built at the first need
	once   sync.Once
	ast    *cel.Ast
}

// Flip is one endsWithin: its truth turns Before the time that the fact states.
type Flip struct {
	Fact   fact.Key
	Before time.Duration
}

// Attributes are the plain properties that conditions see besides facts.
type Attributes struct {
	Family   string
	Maker    string
	Code     string
	Host     string       // name of the computer that the device is connected to; "" for none
	Shared   bool         // that computer is used by several people
	App      string       // "" where no app is meant
	Needs    fact.Release // the least release that the app runs on; "" for any
	Features []string     // that the app uses
	Means    []string     // of [Means], those that the bench has
	MadeFor  fact.Value   // families that the app is made for, Texts; the zero Value if not known
	By       string       // thumbprint of its developer's key; "" for nobody's
}

// language is the CEL environment of a set of sheets: a variable for every key of their
// registry.
type language struct {
	env      *cel.Env
	registry *fact.Registry
	vars     map[string]variable
	compiled map[string]*Condition
	flips    []Flip // found while one condition is being compiled
}

// variable is a fact's number, and whether the condition asks only if it is known.
type variable struct {
	number int
	known  bool
}

// now is the variable behind endsWithin; a sheet cannot name it.
const now = "@now"

// newLanguage declares the variables: fact.KEY and known.KEY for every key of
// the registry, and the attributes.
func newLanguage(r *fact.Registry) (*language, error) {
	l := &language{registry: r, vars: map[string]variable{}, compiled: map[string]*Condition{}}
	opts := []cel.EnvOption{
		cel.Variable("device.family", cel.StringType),
		cel.Variable("device.maker", cel.StringType),
		cel.Variable("device.code", cel.StringType),
		cel.Variable("host.name", cel.StringType),
		cel.Variable("host.shared", cel.BoolType),
		cel.Variable("app.id", cel.StringType),
		cel.Variable("app.release", where.ReleaseType()),
		cel.Variable("app.features", cel.ListType(cel.StringType)),
		cel.Variable("app.developer", cel.StringType),
		cel.Variable(now, cel.TimestampType),
		cel.Macros(cel.GlobalMacro("endsWithin", 2, l.endsWithin)),
	}
	opts = append(opts, where.Releases()...)
	for _, s := range r.All() {
		f, k := "fact."+string(s.Key), "known."+string(s.Key)
		l.vars[f], l.vars[k] = variable{r.Index(s.Key), false}, variable{r.Index(s.Key), true}
		opts = append(opts, cel.Variable(f, CELType(s.Type)), cel.Variable(k, cel.BoolType))
	}
	var err error
	l.env, err = cel.NewEnv(opts...)
	return l, err
}

// CELType is the type of a fact in expressions.
func CELType(t fact.Type) *cel.Type {
	switch t {
	case fact.Bool:
		return cel.BoolType
	case fact.Int:
		return cel.IntType
	case fact.Texts:
		return cel.ListType(cel.StringType)
	case fact.Version:
		return where.ReleaseType()
	case fact.Moment:
		return cel.TimestampType
	}
	return cel.StringType
}

// endsWithin(fact.KEY, duration("72h")) is true from that long before the time that
// the fact states. It is the only way for a condition to use the clock, so that the
// time at which its truth changes is known.
func (l *language) endsWithin(eh cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *common.Error) {
	key, isFact := strings.CutPrefix(dotted(args[0]), "fact.")
	call := args[1]
	if !isFact || call.Kind() != ast.CallKind || call.AsCall().FunctionName() != "duration" || len(call.AsCall().Args()) != 1 || call.AsCall().Args()[0].Kind() != ast.LiteralKind {
		return nil, eh.NewError(args[0].ID(), `write endsWithin(fact.KEY, duration("72h"))`)
	}
	words, _ := call.AsCall().Args()[0].AsLiteral().Value().(string)
	d, err := time.ParseDuration(words)
	if err != nil || d < 0 {
		return nil, eh.NewError(call.ID(), fmt.Sprintf("%q is no length of time, such as 90s or 72h", words))
	}
	l.flips = append(l.flips, Flip{fact.Key(key), d})
	return eh.NewCall(operators.LessEquals, eh.NewCall(operators.Subtract, args[0], call), eh.NewIdent(now)), nil
}

// dotted is a chain of names, a.b.c; "" for anything else.
func dotted(e ast.Expr) string {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent()
	case ast.SelectKind:
		if before := dotted(e.AsSelect().Operand()); before != "" {
			return before + "." + e.AsSelect().FieldName()
		}
	}
	return ""
}

// compile checks an expression; the first mistake is returned as an Error whose
// position is within the expression.
func (l *language) compile(src string) (*Condition, error) {
	if c := l.compiled[src]; c != nil {
		return c, nil
	}
	l.flips = nil
	checked, issues := l.env.Compile(src)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, &Error{Line: first.Location.Line(), Col: first.Location.Column(), Text: first.Message}
	}
	if checked.OutputType() != cel.BoolType {
		return nil, &Error{Text: fmt.Sprintf("a condition is true or false, this is a %s", checked.OutputType())}
	}
	c := &Condition{Source: src, Flips: l.flips, lang: l, ast: checked}
	c.read(checked.NativeRep())
	cost, err := l.env.EstimateCost(checked, bounded{})
	if err != nil {
		return nil, &Error{Text: err.Error()}
	}
	if cost.Max > costLimit {
		return nil, &Error{Text: fmt.Sprintf("this may cost up to %d, the bound is %d", cost.Max, costLimit), Hint: "make it simpler"}
	}
	if c.whole, err = l.env.Program(checked); err != nil {
		return nil, &Error{Text: err.Error()}
	}
	c.quick = l.quicken(checked.NativeRep().Expr())
	l.compiled[src] = c
	return c, nil
}

// read notes which facts the condition reads.
func (c *Condition) read(a *ast.AST) {
	var names []string
	for _, e := range ast.MatchDescendants(ast.NavigateAST(a), ast.KindMatcher(ast.IdentKind)) {
		names = append(names, e.AsIdent())
	}
	for _, r := range a.ReferenceMap() { // a dotted variable may be kept as a selection whose reference names it
		names = append(names, r.Name)
	}
	// Only these can be true or false with an unknown operand (CEL specification,
	// "Logical operators").
	c.strict = len(ast.MatchDescendants(ast.NavigateAST(a), func(e ast.NavigableExpr) bool {
		if e.Kind() == ast.CallKind {
			f := e.AsCall().FunctionName()
			return f == operators.LogicalAnd || f == operators.LogicalOr || f == operators.Conditional
		}
		return e.Kind() == ast.ComprehensionKind
	})) == 0
	read, needed := map[int]bool{}, map[int]bool{}
	for _, name := range names {
		v, ok := c.lang.vars[name]
		if !ok {
			continue
		}
		if _, key, _ := strings.Cut(name, "."); !read[v.number] {
			read[v.number] = true
			c.Facts = append(c.Facts, fact.Key(key))
			c.reads = append(c.reads, v.number)
		}
		if !v.known && !needed[v.number] {
			needed[v.number] = true
			c.needs, c.names = append(c.needs, v.number), append(c.names, name)
		}
	}
}

// Numbers returns the numbers of the facts that it reads, for [fact.Known]. The caller
// must not change the result.
func (c *Condition) Numbers() []int { return c.reads }

// Eval evaluates the condition. The result is Unknown if it needs a fact that is not
// good.
func (c *Condition) Eval(a *Attributes, k fact.Known) Truth {
	if c.quick != nil {
		return c.quick.eval(a, k)
	}
	return c.interpret(a, k)
}

// interpret evaluates the condition by CEL.
func (c *Condition) interpret(a *Attributes, k fact.Known) Truth {
	b := binding{lang: c.lang, attributes: a, known: k}
	var missing []*cel.AttributePatternType
	for i, number := range c.needs {
		if k.Number(number) == nil {
			missing = append(missing, cel.AttributePattern(c.names[i]))
		}
	}
	if len(missing) == 0 {
		out, _, err := c.whole.Eval(&b)
		return truth(out, err)
	}
	if c.strict {
		return Unknown
	}
	c.once.Do(func() { c.part, _ = c.lang.env.Program(c.ast, cel.EvalOptions(cel.OptPartialEval)) })
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
	lang       *language
	attributes *Attributes
	known      fact.Known
}

func (b *binding) Parent() cel.Activation { return nil }

func (b *binding) ResolveName(name string) (any, bool) {
	if v, ok := b.lang.vars[name]; ok {
		f := b.known.Number(v.number)
		if v.known {
			return types.Bool(f != nil), true
		}
		if f == nil {
			return nil, false
		}
		return CELValue(f.Value), true
	}
	a := b.attributes
	switch name {
	case now:
		return types.Timestamp{Time: b.known.At}, true
	case "device.family":
		return a.Family, true
	case "device.maker":
		return a.Maker, true
	case "device.code":
		return a.Code, true
	case "host.name":
		return a.Host, true
	case "host.shared":
		return a.Shared, true
	case "app.id":
		return a.App, true
	case "app.release":
		return where.Release(a.Needs), true
	case "app.features":
		return a.Features, true
	case "app.developer":
		return a.By, true
	}
	return nil, false
}

// CELValue is a fact's value as expressions take it.
func CELValue(v fact.Value) any {
	switch v.Type() {
	case fact.Bool:
		return types.Bool(v.IsTrue())
	case fact.Int:
		return types.Int(v.Int())
	case fact.Text:
		return types.String(v.Text())
	case fact.Version:
		return where.Release(fact.Release(v.Text()))
	case fact.Moment:
		return types.Timestamp{Time: v.Time()}
	}
	return v.Any()
}

// bounded tells CEL's estimate how large texts and lists get.
type bounded struct{}

func (bounded) EstimateSize(cost.AstNode) *cost.SizeEstimate {
	return &cost.SizeEstimate{Min: 0, Max: 64}
}

func (bounded) EstimateCallCost(string, string, *cost.AstNode, []cost.AstNode) *cost.CallEstimate {
	return nil
}

func errorAs[T error](err error) (T, bool) {
	var e T
	ok := errors.As(err, &e)
	return e, ok
}

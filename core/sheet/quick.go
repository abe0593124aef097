package sheet

import (
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"earlybench.invalid/earlybench/core/fact"
)

// quick is a condition made of nothing but facts, known, comparisons with fixed
// texts and numbers, and !, && and ||. Most conditions are: they come to the same
// truth as by CEL, also where facts are missing (its specification, "Logical
// operators"), in a tenth of the time. A test holds the two against each other.
type quick struct {
	op     string // of operators, "" for a bool fact, "known" for its being known
	number int
	text   fact.Value
	least  int64 // of an int comparison
	left   *quick
	right  *quick
}

// quicken makes the quick form; nil where the condition holds anything else.
func (l *language) quicken(e ast.Expr) *quick {
	if v, ok := l.vars[dotted(e)]; ok {
		if v.known {
			return &quick{op: "known", number: v.number}
		}
		return &quick{number: v.number}
	}
	if e.Kind() != ast.CallKind {
		return nil
	}
	call := e.AsCall()
	op, args := call.FunctionName(), call.Args()
	switch op {
	case operators.LogicalNot:
		if left := l.quicken(args[0]); left != nil {
			return &quick{op: op, left: left}
		}
	case operators.LogicalAnd, operators.LogicalOr:
		left, right := l.quicken(args[0]), l.quicken(args[1])
		if left != nil && right != nil {
			return &quick{op: op, left: left, right: right}
		}
	case operators.Equals, operators.NotEquals, operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals:
		return l.compared(op, args)
	}
	return nil
}

// compared is the quick form of a fact compared with a fixed text or number.
func (l *language) compared(op string, args []ast.Expr) *quick {
	v, ok := l.vars[dotted(args[0])]
	if !ok || v.known || args[1].Kind() != ast.LiteralKind {
		return nil
	}
	switch fixed := args[1].AsLiteral().(type) {
	case types.String:
		if op == operators.Equals || op == operators.NotEquals {
			return &quick{op: op, number: v.number, text: fact.Of(string(fixed))}
		}
	case types.Int:
		return &quick{op: op, number: v.number, least: int64(fixed)}
	}
	return nil
}

func (q *quick) eval(k fact.Known) Truth {
	switch q.op {
	case "known":
		return truly(k.Number(q.number) != nil)
	case operators.LogicalNot:
		return -q.left.eval(k)
	case operators.LogicalAnd:
		return min(q.left.eval(k), q.right.eval(k))
	case operators.LogicalOr:
		return max(q.left.eval(k), q.right.eval(k))
	}
	f := k.Number(q.number)
	if f == nil {
		return Unknown
	}
	return truly(q.holds(f.Value))
}

// holds tells whether a known value is as the condition wants it.
func (q *quick) holds(v fact.Value) bool {
	if v.Type() == fact.Text {
		return (v == q.text) == (q.op == operators.Equals)
	}
	n := v.Int()
	switch q.op {
	case operators.Equals:
		return n == q.least
	case operators.NotEquals:
		return n != q.least
	case operators.Less:
		return n < q.least
	case operators.LessEquals:
		return n <= q.least
	case operators.Greater:
		return n > q.least
	case operators.GreaterEquals:
		return n >= q.least
	}
	return v.IsTrue()
}

func truly(b bool) Truth {
	if b {
		return True
	}
	return False
}

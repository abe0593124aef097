package sheet

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/cost"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"earlybench.invalid/earlybench/core/fact"
)

// releaseCEL is the ordered type of releases in conditions.
var releaseCEL = cel.ObjectType("release", traits.ComparerType)

type releaseValue fact.Release

func (r releaseValue) Compare(other ref.Val) ref.Val {
	o, ok := other.(releaseValue)
	if !ok {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return types.Int(fact.Release(r).Compare(fact.Release(o)))
}

func (r releaseValue) Equal(other ref.Val) ref.Val {
	o, ok := other.(releaseValue)
	return types.Bool(ok && fact.Release(r).Compare(fact.Release(o)) == 0)
}

func (r releaseValue) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a release is no %s", t)
}

func (r releaseValue) ConvertToType(t ref.Type) ref.Val {
	if t == types.StringType {
		return types.String(r)
	}
	return types.NewErr("a release is no %s", t.TypeName())
}

func (r releaseValue) Type() ref.Type { return releaseCEL }
func (r releaseValue) Value() any     { return fact.Release(r) }

// bounded tells CEL's estimate how large texts and lists get.
type bounded struct{}

func (bounded) EstimateSize(cost.AstNode) *cost.SizeEstimate {
	return &cost.SizeEstimate{Min: 0, Max: 64}
}

func (bounded) EstimateCallCost(string, string, *cost.AstNode, []cost.AstNode) *cost.CallEstimate {
	return nil
}

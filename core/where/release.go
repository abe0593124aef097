package where

import (
	"fmt"
	"reflect"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"earlybench.invalid/earlybench/core/fact"
)

// releaseType is the ordered type of releases in expressions.
var releaseType = cel.ObjectType("release", traits.ComparerType)

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

func (r releaseValue) Type() ref.Type { return releaseType }
func (r releaseValue) Value() any     { return fact.Release(r) }

// ReleaseType is the type of releases in expressions: ordered by their parts.
func ReleaseType() *cel.Type { return releaseType }

// Release is a release as expressions take it.
func Release(r fact.Release) ref.Val { return releaseValue(r) }

// Releases lets expressions compare releases and make one: version("12.1").
func Releases() []cel.EnvOption {
	opts := []cel.EnvOption{
		cel.Function("version", cel.Overload("version_string", []*cel.Type{cel.StringType}, releaseType,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				r, err := fact.ParseRelease(string(v.(types.String)))
				if err != nil {
					return types.NewErr("%s", err)
				}
				return releaseValue(r)
			}))),
	}
	for _, op := range []string{operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals} {
		opts = append(opts, cel.Function(op, cel.Overload("release"+strings.Trim(op, "_"), []*cel.Type{releaseType, releaseType}, cel.BoolType)))
	}
	return opts
}

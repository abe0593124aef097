package problem_test

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/problem"
)

func TestAnErrorsKindIsThatOfTheOutermostErrorThatHasOne(t *testing.T) {
	missing := problem.New(problem.NotFound, "it is not on record")
	for name, c := range map[string]struct {
		err  error
		kind problem.Kind
	}{
		"a plain error has failed":                {io.EOF, problem.Failed},
		"a sentinel keeps its kind when wrapped":  {fmt.Errorf("device %q: %w", "x", missing), problem.NotFound},
		"an error can be given another kind":      {problem.Errorf(problem.Invalid, "read it: %w", missing), problem.Invalid},
		"a joined error has the kind of its part": {errors.Join(io.EOF, missing), problem.NotFound},
	} {
		t.Run(name, func(t *testing.T) { require.Equal(t, c.kind, problem.KindOf(c.err)) })
	}
	require.ErrorIs(t, fmt.Errorf("x: %w", missing), missing)
	require.ErrorIs(t, &problem.Problem{Kind: problem.Unsupported}, errors.ErrUnsupported)
	require.NotErrorIs(t, missing, errors.ErrUnsupported)
}

func TestAProblemIsShownInItsPartsAndAnotherErrorWhole(t *testing.T) {
	p := &problem.Problem{Kind: problem.Blocked, Gate: "driver", Text: "No driver.", Remedy: "Add one."}
	require.Equal(t, p, problem.Of(fmt.Errorf("install: %w", p)))
	require.Equal(t, "No driver. Add one.", p.Error())
	missing := problem.New(problem.NotFound, "it is not on record")
	require.Equal(t, &problem.Problem{Kind: problem.NotFound, Text: `device "x": it is not on record`}, problem.Of(fmt.Errorf("device %q: %w", "x", missing)))
}

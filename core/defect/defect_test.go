package defect_test

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/defect"
)

func TestAPanicEndsItsOwnWorkOnlyAndIsCounted(t *testing.T) {
	for range 3 {
		err := defect.Contain("a job", func() error {
			var all []int
			return fmt.Errorf("%d", all[len(all)])
		})
		e, ok := errors.AsType[*defect.Error](err)
		require.True(t, ok)
		require.ErrorContains(t, err, "an error in the program ended a job: runtime error: index out of range [0] with length 0")
		require.Contains(t, e.Stack, "defect_test.go")
	}
	require.Error(t, defect.Contain("a look", func() error { panic("no screen") }))
	boom := errors.New("as it should")
	require.ErrorIs(t, defect.Contain("a job", func() error { return boom }), boom)
	all, more := defect.All()
	require.Len(t, all, 2)
	require.Zero(t, more)
	require.Equal(t, 3, all[0].Count)
	require.Equal(t, "a look", all[1].In)

	for i := range 100 { // a hostile device makes many different ones
		require.Error(t, defect.Contain(fmt.Sprintf("way %d", i), func() error { panic("x") }))
	}
	all, more = defect.All()
	require.Len(t, all, 50)
	require.Equal(t, 52, more)
}

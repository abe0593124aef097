package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestABudgetComesBackWithTheTimeAndTellsWhatWasLeftOut(t *testing.T) {
	b, now := budgets{}, time.Unix(1e9, 0)
	n := 0
	for ok := true; ok; n++ {
		ok, _ = b.take("device/a", 1000, now)
	}
	require.InDelta(t, historyBurst/(1000+historyRow), n, 2)
	for range 9 {
		ok, _ := b.take("device/a", 1000, now)
		require.False(t, ok)
	}
	ok, skipped := b.take("device/a", 1000, now.Add(time.Minute))
	require.True(t, ok)
	require.Equal(t, 10, skipped)
	b.back("device/a", 1000, skipped)
	ok, skipped = b.take("device/a", 1000, now.Add(time.Minute))
	require.True(t, ok)
	require.Equal(t, 10, skipped, "what was not written tells nothing")
	ok, _ = b.take("device/a", 1000, now.Add(-time.Hour))
	require.True(t, ok, "a clock that steps back takes nothing away")
}

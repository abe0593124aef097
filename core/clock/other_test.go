package clock_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
)

func TestAnothersClockGoesOnWhenThisComputersIsSet(t *testing.T) {
	var moved clock.Moved
	require.False(t, clock.Other{}.Known())
	o := clock.Read(moved.Now().Add(90 * time.Second))
	require.True(t, o.Known())
	require.InDelta(t, 90, o.Ahead(moved.Now()).Seconds(), 1)
	moved.Move(24 * time.Hour)
	require.InDelta(t, 90-86400, o.Ahead(moved.Now()).Seconds(), 1)
	moved.Move(-48 * time.Hour)
	require.InDelta(t, 90+86400, o.Ahead(moved.Now()).Seconds(), 1)
	before := o.Ahead(time.Unix(1e9, 0))
	time.Sleep(20 * time.Millisecond)
	require.GreaterOrEqual(t, o.Ahead(time.Unix(1e9, 0))-before, 20*time.Millisecond, "it goes on by itself")
}

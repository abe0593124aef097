package clock_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
)

func TestAMovedClockWakesThoseWhoWait(t *testing.T) {
	var c clock.Moved
	fired := c.After(24 * time.Hour)
	select {
	case <-fired:
		require.Fail(t, "too early")
	case <-time.After(10 * time.Millisecond):
	}
	before := c.Now()
	c.Move(25 * time.Hour)
	<-fired
	require.Greater(t, c.Now().Sub(before), 24*time.Hour)
	require.Equal(t, 25*time.Hour, c.Offset())
	<-c.After(0)
}

func TestSleepEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, clock.Sleep(ctx, clock.System{}, time.Hour), context.Canceled)
	require.NoError(t, clock.Sleep(t.Context(), clock.System{}, time.Microsecond))
}

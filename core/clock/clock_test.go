package clock_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/clock"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func TestAMovedClockWakesThoseWhoWait(t *testing.T) {
	var c clock.Moved
	fired := make(chan error, 1)
	due := c.Now().Add(24 * time.Hour)
	go func() { fired <- c.Until(context.Background(), due) }()
	select {
	case <-fired:
		require.Fail(t, "too early")
	case <-time.After(10 * time.Millisecond):
	}
	before := c.Now()
	c.Move(25 * time.Hour)
	require.NoError(t, <-fired)
	require.Greater(t, c.Now().Sub(before), 23*time.Hour)
	require.Equal(t, 25*time.Hour, c.Offset())
	require.NoError(t, c.Until(t.Context(), c.Now()), "a time that has come")
}

func TestSleepEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, clock.Sleep(ctx, clock.System{}, time.Hour), context.Canceled)
	require.NoError(t, clock.Sleep(t.Context(), clock.System{}, time.Microsecond))
}

package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestADeviceThatHasNoStepForAMomentIsWaitedForASecond(t *testing.T) {
	g := &guide{changed: make(chan struct{}, 1)}
	began := time.Now()
	g.changed <- struct{}{}
	require.True(t, g.settles(t.Context()))
	require.Less(t, time.Since(began), settleWithin/2, "it is looked at again at once")
	for g.settles(t.Context()) {
		require.Less(t, time.Since(began), settleWithin+time.Second)
	}
	require.GreaterOrEqual(t, time.Since(began), settleWithin)
}

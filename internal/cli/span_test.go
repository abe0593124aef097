package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestATimeSpanMayHaveDays(t *testing.T) {
	for text, want := range map[string]time.Duration{"40d": 960 * time.Hour, "+40d": 960 * time.Hour, "-2d": -48 * time.Hour, "-2d12h": -60 * time.Hour, "26h": 26 * time.Hour, "-30m": -30 * time.Minute, "+1h": time.Hour, "0": 0} {
		var s span
		require.NoError(t, s.Set(text), text)
		require.Equal(t, want, time.Duration(s), text)
	}
	for _, text := range []string{"", "d", "40", "4 d", "1d-1", "99999d", "40D", "99999999999999999999d", "1h2d"} {
		require.Error(t, new(span).Set(text), text)
	}
}

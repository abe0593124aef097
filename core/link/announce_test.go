package link_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/link"
)

func TestAnAnnouncementIsRecognisedByTheKeyOnly(t *testing.T) {
	const key, other = "SHA256:qb0tHKW9ZGiZUSqJ0dv3uDkqkqcnvBoyoLHwpdYHeUg", "SHA256:zL1bk4N1QyZ0dmQjrTNmpT4Lr5zGf7a1yGXo7iOWmJk"
	own, another := link.NewRecogniser(key), link.NewRecogniser(other)
	seen := map[string]bool{}
	for range 100 {
		name := link.AnnouncementName(key)
		require.Len(t, name, 32)
		require.False(t, seen[name], "it is another each time")
		seen[name] = true
		require.True(t, own.Recognises(name))
		require.False(t, another.Recognises(name))
		require.False(t, own.Recognises(strings.Repeat("0", 2)+name[2:]) && name[:2] != "00")
	}
	// As computed by another program: HMAC-SHA-256 with the key above.
	require.True(t, own.Recognises("0001020304050607b2c5d2f15e0fbcd0"))
	for _, wrong := range []string{"", "00", "zz", strings.Repeat("0", 32), strings.Repeat("0", 64)} {
		require.False(t, own.Recognises(wrong), wrong)
	}
}

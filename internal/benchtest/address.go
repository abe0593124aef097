package benchtest

import (
	"fmt"
	"math/rand/v2"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// FreeAddress is an address on loopback where nothing listens. Its port is below those that the system
// gives to connections and to listeners without a port of their own, so nothing else takes it meanwhile.
func FreeAddress(t testing.TB) string {
	t.Helper()
	for range 100 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(20_000)))
		if err != nil {
			continue
		}
		require.NoError(t, l.Close())
		return l.Addr().String()
	}
	require.Fail(t, "no port is free")
	return ""
}

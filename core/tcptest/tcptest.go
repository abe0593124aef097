// Package tcptest connects two sides of a test.
package tcptest

import (
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// Pair returns both ends of a connection over loopback. SSH blocks on one without buffers, such as net.Pipe's.
func Pair(t testing.TB) (here, there net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	here, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	there, err = l.Accept()
	require.NoError(t, err)
	return here, there
}

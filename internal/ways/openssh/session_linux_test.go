package openssh_test

import (
	"context"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/device/devicetest"
	"earlybench.invalid/earlybench/core/shell"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// servers are the kinds of boards that are worked with.
var servers = map[string]func(t *testing.T) *benchtest.Board{
	"OpenSSH with SFTP": func(t *testing.T) *benchtest.Board {
		return benchtest.StartBoard(t, benchtest.OpenSSH, "Subsystem sftp internal-sftp")
	},
	"OpenSSH without SFTP":  func(t *testing.T) *benchtest.Board { return benchtest.StartBoard(t, benchtest.OpenSSH) },
	"dropbear with busybox": func(t *testing.T) *benchtest.Board { return benchtest.StartBoard(t, benchtest.Dropbear) },
}

// onEach runs a test on a board of each kind, into which a key was let.
func onEach(t *testing.T, do func(t *testing.T, b *benchtest.Board, key ssh.Signer)) {
	t.Helper()
	for name, start := range servers {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			key := benchtest.NewSigner(t)
			b := start(t)
			b.LetIn(t, key.PublicKey())
			do(t, b, key)
		})
	}
}

// loggedIn is a session on a board.
func loggedIn(t *testing.T, b *benchtest.Board, key ssh.Signer) *shell.Session {
	t.Helper()
	s, _ := hushed(t, b, key)
	return s
}

// quiet is a connection of which nothing more is read once it is silent.
type quiet struct {
	net.Conn
	silent atomic.Bool
}

func (q *quiet) Read(p []byte) (int, error) {
	for {
		n, err := q.Conn.Read(p)
		if err != nil || !q.silent.Load() {
			return n, err
		}
	}
}

// hushed is a session on a board, and what makes that silent.
func hushed(t *testing.T, b *benchtest.Board, key ssh.Signer) (*shell.Session, func()) {
	t.Helper()
	q := &quiet{}
	dial := func(ctx context.Context) (c net.Conn, err error) {
		q.Conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", b.Address)
		return q, err
	}
	s, err := shell.Dial(t.Context(), dial, b.User, "", key, nil, device.Pinned(ssh.FingerprintSHA256(b.Key)))
	require.NoError(t, err)
	return s, func() { q.silent.Store(true) }
}

func TestASessionFulfilsTheContract(t *testing.T) {
	onEach(t, func(t *testing.T, b *benchtest.Board, key ssh.Signer) {
		devicetest.Test(t, func(t *testing.T) devicetest.Rig {
			s, silence := hushed(t, b, key)
			return devicetest.Rig{Session: s, Silence: silence}
		})
	})
}

func TestABoardSaysWhatItIs(t *testing.T) {
	onEach(t, func(t *testing.T, b *benchtest.Board, key ssh.Signer) {
		s := loggedIn(t, b, key)
		defer s.Close()
		about, err := s.About(t.Context())
		require.NoError(t, err)
		require.NotEmpty(t, about.System)
		require.NotEmpty(t, about.Machine)
		require.NotEmpty(t, about.Name)
		require.Positive(t, about.Free)
		require.Positive(t, about.Memory)
		require.WithinDuration(t, time.Now(), about.Clock, 3*time.Second)
	})
}

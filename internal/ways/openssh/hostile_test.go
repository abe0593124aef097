package openssh_test

import (
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/shell"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// hostile is an SSH server that lets everybody in, and answers commands as it likes.
type hostile struct {
	address string
	key     ssh.Signer
	tried   atomic.Int32 // attempts to log in, by whatever
}

// serveHostile runs answer for each command, until the test ends.
func serveHostile(t *testing.T, answer func(ch ssh.Channel)) *hostile {
	t.Helper()
	h := &hostile{key: benchtest.NewSigner(t)}
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { h.tried.Add(1); return nil, nil },
		PasswordCallback:  func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { h.tried.Add(1); return nil, nil },
	}
	config.AddHostKey(h.key)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	h.address = l.Addr().String()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serveOne(c, config, answer)
		}
	}()
	return h
}

func serveOne(c net.Conn, config *ssh.ServerConfig, answer func(ch ssh.Channel)) {
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for n := range channels {
		ch, requests, err := n.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(true, nil)
			}
		}()
		go answer(ch)
	}
}

func (h *hostile) dial(ctx context.Context) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", h.address)
}

func (h *hostile) login(t *testing.T, key ssh.Signer) *shell.Session {
	t.Helper()
	s, err := shell.Dial(t.Context(), h.dial, "board", "", key, nil, device.Pinned(ssh.FingerprintSHA256(h.key.PublicKey())))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestNothingIsShownToAnotherKeyThanTheAcceptedOne(t *testing.T) {
	h := serveHostile(t, func(ch ssh.Channel) { ch.Close() })
	asked := false
	password := ssh.PasswordCallback(func() (string, error) { asked = true; return benchtest.Password, nil })
	_, err := shell.Dial(t.Context(), h.dial, "board", "SHA256:other", benchtest.NewSigner(t), []ssh.AuthMethod{password}, device.Pinned("SHA256:other"))
	changed, ok := errors.AsType[*device.KeyChanged](err)
	require.True(t, ok, "%v", err)
	require.Equal(t, ssh.FingerprintSHA256(h.key.PublicKey()), changed.Shown)
	require.Zero(t, h.tried.Load())
	require.False(t, asked)
}

func TestABoardThatPrintsWithoutEndIsGivenUp(t *testing.T) {
	h := serveHostile(t, func(ch ssh.Channel) {
		go io.Copy(io.Discard, ch)
		for {
			if _, err := ch.Write(make([]byte, 32<<10)); err != nil {
				return
			}
			ch.Stderr().Write(make([]byte, 1<<10))
		}
	})
	s := h.login(t, benchtest.NewSigner(t))
	_, err := s.About(t.Context())
	require.ErrorContains(t, err, "prints more than")
	log, _ := s.Log()
	require.ErrorContains(t, log.Follow(t.Context(), device.LogFrom{}, func(device.Line) bool { return true }), "buffer full")
}

func TestABoardThatAnswersNonsenseIsSaidSo(t *testing.T) {
	for name, answer := range map[string]string{"nothing": "", "words": "no shell here\n", "a prompt": "board$ "} {
		t.Run(name, func(t *testing.T) {
			h := serveHostile(t, func(ch ssh.Channel) {
				io.WriteString(ch, answer)
				ch.Close()
			})
			s := h.login(t, benchtest.NewSigner(t))
			_, err := s.About(t.Context())
			require.ErrorContains(t, err, "the device has")
			apps, _ := s.Apps()
			_, err = apps.Start(t.Context(), "fellgate/rain")
			require.Error(t, err)
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
			defer cancel()
			log, _ := s.Log()
			require.Error(t, log.Follow(ctx, device.LogFrom{}, func(device.Line) bool { return true }))
			require.NoError(t, ctx.Err(), "at once")
		})
	}
}

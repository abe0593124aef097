package peer_test

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/tcptest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// echo is a bench that tells what it was asked.
type echo struct{ name string }

func (e echo) Call(ctx context.Context, l *peer.Link, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	switch method {
	case peer.MethodHello:
		return peer.Hello{Version: peer.Version, Name: e.name + " to " + l.Key()[:12]}, nil
	case "count":
		for n := range 3 {
			if err := notify("counted", n); err != nil {
				return nil, err
			}
		}
		<-ctx.Done()
		return nil, ctx.Err()
	case "silence":
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return nil, rpc.Errorf(rpc.CodeRefused, "%s does not do %s", e.name, method)
}

func (e echo) File(context.Context, *peer.Link, peer.FileRef) (io.ReadCloser, error) {
	return nil, errors.New("there is no such file")
}

func (e echo) Stream(_ context.Context, _ *peer.Link, to json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	if string(to) != `"echo"` {
		return nil, errors.New("there is no such stream")
	}
	return func(_ context.Context, c io.ReadWriteCloser) { io.Copy(c, c) }, nil
}

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return key
}

func linked(t *testing.T) (moor, harbour *peer.Link) {
	t.Helper()
	a, b := signer(t), signer(t)
	here, there := tcptest.Pair(t)
	accepted := make(chan *peer.Link, 1)
	go func() {
		l, err := peer.Accept(t.Context(), there, b, echo{"harbour"})
		if err != nil {
			close(accepted)
			return
		}
		accepted <- l
	}()
	moor, err := peer.Dial(t.Context(), here, a, func(f string) error {
		if f != ssh.FingerprintSHA256(b.PublicKey()) {
			return errors.New("another bench")
		}
		return nil
	}, echo{"moor"})
	require.NoError(t, err)
	harbour = <-accepted
	require.NotNil(t, harbour)
	require.Equal(t, ssh.FingerprintSHA256(a.PublicKey()), harbour.Key())
	require.Equal(t, moor.SessionID(), harbour.SessionID())
	t.Cleanup(func() { moor.Close(); harbour.Close() })
	return moor, harbour
}

func TestEitherSideCallsFollowsAndOpensStreams(t *testing.T) {
	moor, harbour := linked(t)
	for name, l := range map[string]*peer.Link{"harbour": moor, "moor": harbour} { // who answers
		t.Run(name, func(t *testing.T) {
			var h peer.Hello
			require.NoError(t, l.Call(t.Context(), peer.MethodHello, nil, &h))
			require.Equal(t, name+" to "+l.Own()[:12], h.Name)
			require.ErrorContains(t, l.Call(t.Context(), "fly", nil, nil), name+" does not do fly")
			ctx, cancel := context.WithCancel(t.Context())
			var counted []string
			l.Follow(ctx, "count", nil, func(_ string, p json.RawMessage) {
				if counted = append(counted, string(p)); len(counted) == 3 {
					cancel()
				}
			})
			require.Equal(t, []string{"0", "1", "2"}, counted)
			s, err := l.Open(t.Context(), "echo")
			require.NoError(t, err)
			_, err = s.Write([]byte("over the sea"))
			require.NoError(t, err)
			got := make([]byte, 12)
			_, err = io.ReadFull(s, got)
			require.NoError(t, err)
			require.Equal(t, "over the sea", string(got))
			s.Close()
			_, err = l.Open(t.Context(), "nothing")
			require.EqualError(t, err, "there is no such stream")
			require.NoError(t, l.Alive(t.Context()))
		})
	}
}

func TestNothingWaitsForABenchThatDoesNotAnswer(t *testing.T) {
	here, there := tcptest.Pair(t)
	defer there.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := peer.Dial(ctx, here, signer(t), func(string) error { return nil }, echo{})
	require.Error(t, err)
	moor, _ := linked(t)
	ctx, cancel = context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, moor.Call(ctx, "silence", nil, nil), context.DeadlineExceeded)
	go func() { time.Sleep(50 * time.Millisecond); moor.Drop() }()
	require.ErrorIs(t, moor.Call(t.Context(), "silence", nil, nil), peer.ErrEnded)
	require.ErrorIs(t, moor.Follow(t.Context(), "count", nil, func(string, json.RawMessage) {}), peer.ErrEnded)
	_, err = moor.Open(t.Context(), "echo")
	require.ErrorIs(t, err, peer.ErrEnded)
}

func TestAnotherKeyThanTheExpectedOneGetsNothing(t *testing.T) {
	here, there := tcptest.Pair(t)
	accepted := make(chan error, 1)
	go func() {
		_, err := peer.Accept(t.Context(), there, signer(t), echo{"harbour"})
		accepted <- err
	}()
	stop := errors.New("not the key that was agreed on")
	_, err := peer.Dial(t.Context(), here, signer(t), func(string) error { return stop }, echo{"moor"})
	require.ErrorIs(t, err, stop)
	require.Error(t, <-accepted, "this bench's key was not even proven")
}

func TestChannelsOfOneBenchAreBounded(t *testing.T) {
	moor, _ := linked(t)
	var last error
	for range 300 {
		if _, last = moor.Open(t.Context(), "echo"); last != nil {
			break
		}
	}
	require.ErrorContains(t, last, "too many channels")
}

func FuzzParseInvitation(f *testing.F) {
	good, _ := json.Marshal(peer.Invitation{Version: 1, Bench: "harbour-desk", Key: "SHA256:x", Addresses: []string{"192.0.2.7:7421"}, Secret: peer.NewSecret()})
	f.Add(good)
	f.Add([]byte(`{"earlybench_invitation":1,"addresses":["x"]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		i, err := peer.ParseInvitation(raw)
		if err != nil {
			return
		}
		if len(i.Secret) != 32 || len(i.Addresses) == 0 {
			t.Errorf("%+v", i)
		}
	})
}

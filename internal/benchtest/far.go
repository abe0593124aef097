package benchtest

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
)

// Far is a bench, elsewhere, that answers its peers in a way of its own.
type Far struct {
	*peer.Peers
	Answer func(method string, params json.RawMessage) (any, error)
	Send   func(core.FileRef) (io.ReadCloser, error)
}

// NewFar is one that answers nothing yet, and a peer of a bench that gives it rights.
func NewFar(t testing.TB, b *Bench, rights store.PeerRights) *Far {
	t.Helper()
	dir := t.TempDir()
	st, err := store.Open(t.Context(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	keys, err := state.ReadKeys(dir)
	require.NoError(t, err)
	f := &Far{}
	f.Peers = peer.New(peer.Config{Records: st, Service: f, Key: keys.Link, Bench: func() string { return "elsewhere" }, Changed: func() {}, Clock: clock.System{}, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, f.Start(t.Context()))
	t.Cleanup(func() {
		f.Close()
		require.NoError(t, st.Close())
	})
	i, err := b.Peers.Invite(t.Context(), rights, time.Hour, []string{b.Peers.Address()})
	require.NoError(t, err)
	_, err = f.Add(t.Context(), i, "")
	require.NoError(t, err)
	b.Eventually("they are connected", func() bool { return f.List()[0].Connected })
	return f
}

// Call answers.
func (f *Far) Call(_ context.Context, _ store.Peer, method string, params json.RawMessage, _ func(string, any) error) (any, error) {
	if f.Answer == nil {
		return nil, errors.ErrUnsupported
	}
	return f.Answer(method, params)
}

// Stream opens none.
func (f *Far) Stream(context.Context, store.Peer, json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	return nil, errors.ErrUnsupported
}

// File sends.
func (f *Far) File(_ context.Context, _ store.Peer, ref core.FileRef) (io.ReadCloser, error) {
	if f.Send == nil {
		return nil, errors.ErrUnsupported
	}
	return f.Send(ref)
}

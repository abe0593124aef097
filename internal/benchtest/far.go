package benchtest

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
)

// Far is a bench elsewhere whose answers to its peers a test decides.
type Far struct {
	*peer.Peers
	mu     sync.Mutex // its peers ask from the moment that they are connected
	answer func(method string, params json.RawMessage) (any, error)
	send   func(core.FileRef) (io.ReadCloser, error)
}

// Answers sets how it answers from now on.
func (f *Far) Answers(answer func(method string, params json.RawMessage) (any, error)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.answer = answer
}

// Sends sets which files it sends from now on.
func (f *Far) Sends(send func(core.FileRef) (io.ReadCloser, error)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.send = send
}

func (f *Far) does() (answer func(string, json.RawMessage) (any, error), send func(core.FileRef) (io.ReadCloser, error)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.answer, f.send
}

// NewFar makes one that does not answer yet, and is a peer of a bench that gives it rights.
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
	answer, _ := f.does()
	if answer == nil {
		return nil, errors.ErrUnsupported
	}
	return answer(method, params)
}

// Stream opens none.
func (f *Far) Stream(context.Context, store.Peer, json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	return nil, errors.ErrUnsupported
}

// File sends.
func (f *Far) File(_ context.Context, _ store.Peer, ref core.FileRef) (io.ReadCloser, error) {
	_, send := f.does()
	if send == nil {
		return nil, errors.ErrUnsupported
	}
	return send(ref)
}

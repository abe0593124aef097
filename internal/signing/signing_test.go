package signing_test

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/fact"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
)

func TestMain(m *testing.M) { leaks.None(m) }

// pair is two benches, of which harbour-desk signs for moor-desk.
type pair struct {
	t             *testing.T
	moor, harbour *benchtest.Bench
}

func signs(t *testing.T) *pair {
	t.Helper()
	p := &pair{t: t}
	p.harbour = benchtest.With(t, t.TempDir(), func(c *service.Config) { c.Name, c.Peers = "harbour-desk", "127.0.0.1:0" })
	p.moor = benchtest.New(t)
	p.knows(p.harbour.Peers)
	return p
}

// knows makes moor-desk a peer of a bench that signs for it.
func (p *pair) knows(harbour *peer.Peers) {
	p.t.Helper()
	i, err := harbour.Invite(p.t.Context(), store.PeerRights{Signs: true}, time.Hour, []string{harbour.Address()})
	require.NoError(p.t, err)
	_, err = p.moor.Peers.Add(p.t.Context(), i, "")
	require.NoError(p.t, err)
	p.moor.Eventually("they are connected", func() bool { return p.moor.Peers.List()[0].Connected })
}

// desk is a bench that signs in a way of its own.
type desk struct {
	*peer.Peers
	*signing.Signing
	key *developer.Key // that it tells
}

func (d *desk) Call(ctx context.Context, from store.Peer, method string, params json.RawMessage, _ func(string, any) error) (any, error) {
	return d.Signing.Call(ctx, from, method, params)
}

func (d *desk) File(context.Context, store.Peer, core.FileRef) (io.ReadCloser, error) {
	return nil, errors.ErrUnsupported
}

func (d *desk) Stream(context.Context, store.Peer, json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	return nil, errors.ErrUnsupported
}

// signsBy is a pair of which harbour-desk signs in its own way. signer gets the key that it has told.
func signsBy(t *testing.T, signer func(*desk, context.Context) (appfile.Signer, error)) (*pair, *desk) {
	t.Helper()
	dir := t.TempDir()
	st, err := store.Open(t.Context(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	keys, err := state.ReadKeys(dir)
	require.NoError(t, err)
	d, log := &desk{}, slog.New(slog.DiscardHandler)
	d.key, err = developer.New()
	require.NoError(t, err)
	name := func() string { return "harbour-desk" }
	d.Peers = peer.New(peer.Config{Records: st, Service: d, Key: keys.Link, Bench: name, Listen: "127.0.0.1:0", Changed: func() {}, Clock: clock.System{}, Log: log})
	d.Signing = signing.New(signing.Config{Store: st, Peers: d.Peers, Bench: name, Clock: clock.System{}, Log: log, Locked: func() bool { return false },
		Signer: func(ctx context.Context, _ string, _ safe.Use) (appfile.Signer, error) { return signer(d, ctx) },
		Public: func(context.Context, string) (developer.Public, *x509.Certificate, error) {
			return d.key.Public(), nil, nil
		}})
	require.NoError(t, d.Start(t.Context()))
	p := &pair{t: t, moor: benchtest.New(t)}
	t.Cleanup(func() {
		d.Peers.Close()
		d.Signing.Close()
		require.NoError(t, st.Close())
	})
	p.knows(d.Peers)
	return p, d
}

const identity = "@harbour-desk"

// built is the directory of an app whose files are there.
func built(t *testing.T) (string, *appfile.Project) {
	t.Helper()
	dir := benchtest.SmallApp(t, false)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "app.wasm"), []byte("it is not run"), 0o600))
	project, err := appfile.ReadProject(dir)
	require.NoError(t, err)
	return dir, project
}

// packs packs an app, signed at harbour-desk.
func (p *pair) packs(ctx context.Context, use safe.Use) (*appfile.File, error) {
	p.t.Helper()
	dir, project := built(p.t)
	key, err := p.moor.Signing.Signer(ctx, identity, use)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if _, err := appfile.Pack(&out, project.Manifest(), os.DirFS(dir), project.Files, key); err != nil {
		return nil, err
	}
	f, err := appfile.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(p.t, err)
	return f, nil
}

func TestAnAppIsSignedAtAPeerThatConsents(t *testing.T) {
	p := signs(t)
	var asked atomic.Pointer[string]
	f, err := p.packs(t.Context(), safe.Use{Asking: func(text string) {
		if text != "" {
			asked.Store(&text)
		}
	}})
	require.NoError(t, err)
	require.Equal(t, p.harbour.Safe.Thumbprint(), f.App.By())
	require.Equal(t, "Somebody at harbour-desk must consent to signing it", *asked.Load())
	uses, err := p.harbour.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Equal(t, "peer/moor-desk", uses[0].Actor)
	require.Equal(t, "fellgate/callout", uses[0].App)
	require.Contains(t, uses[0].Document, "of moor-desk")
	require.NotEmpty(t, uses[0].Digest)
	p.harbour.Eventually("the audit has it", func() bool {
		lines, err := p.harbour.Store.Audit(t.Context(), 0, 10)
		return err == nil && len(lines) > 0 && lines[0].Operation == "sign-app" && lines[0].Actor == "peer/moor-desk" && lines[0].Outcome == 200
	})
	// Readiness knows the key without asking.
	key, ok := p.moor.Signing.Known(t.Context(), identity)
	require.True(t, ok)
	require.Equal(t, p.harbour.Safe.Thumbprint(), key.Thumbprint())
}

func TestAProjectNamesThePeerThatSignsItsApp(t *testing.T) {
	p := signs(t)
	dir := benchtest.SmallApp(t, false)
	file := filepath.Join(dir, appfile.ProjectFile)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(raw, []byte("\nidentity: \"@harbour-desk\"\n")...), 0o600))
	project, err := p.moor.Tryouts.AddProject(t.Context(), dir)
	require.NoError(t, err)
	points, err := p.moor.Signing.Check(t.Context(), "harbour-desk")
	require.NoError(t, err)
	require.Len(t, points, 1)
	require.Empty(t, points[0].Wrong)
	require.Contains(t, points[0].Note, p.harbour.Safe.Thumbprint())
	start, err := p.moor.Tryouts.SignedAs(t.Context(), project)
	require.NoError(t, err)
	require.Equal(t, p.harbour.Safe.Thumbprint(), start.Developer)
	require.False(t, start.Signed)

	// The gate of the computer follows.
	state := func(want string) {
		p.moor.Signing.Touch()
		p.moor.Eventually("its state is "+want, func() bool {
			f, ok := p.moor.Book.Of(facts.Subject{Kind: facts.App, ID: project.ID}).View().Get(fact.SignerState, p.moor.Clock.Now())
			return ok && f.Value.Text() == want
		})
	}
	state("ready")
	sign := func(may bool) {
		_, err := p.harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.Signs = may })
		require.NoError(t, err)
	}
	sign(false)
	state("refused")
	sign(true)
	require.NoError(t, p.harbour.Safe.Lock())
	state("locked")
	p.harbour.End()
	state("away")
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	state("none")
}

func TestAPeerThatDoesNotSignSaysWhy(t *testing.T) {
	other, err := developer.New()
	require.NoError(t, err)
	for name, c := range map[string]struct {
		signer func(*desk, context.Context) (appfile.Signer, error)
		signs  bool
		says   string
	}{
		"without the right": {func(d *desk, _ context.Context) (appfile.Signer, error) { return d.key, nil }, false, "this bench does not sign for you"},
		"a person refuses": {func(*desk, context.Context) (appfile.Signer, error) {
			return nil, problem.Errorf(problem.Refused, "ines has refused it")
		}, true, "nes has refused it"},
		"by another key than it has told":  {func(*desk, context.Context) (appfile.Signer, error) { return other, nil }, true, "does not name the key that should sign it"},
		"by a signature of something else": {func(d *desk, _ context.Context) (appfile.Signer, error) { return otherwise{d.key}, nil }, true, "the signature of harbour-desk is not valid"},
	} {
		t.Run(name, func(t *testing.T) {
			p, d := signsBy(t, c.signer)
			_, err := d.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.Signs = c.signs })
			require.NoError(t, err)
			_, err = p.packs(t.Context(), safe.Use{})
			require.ErrorContains(t, err, c.says)
		})
	}
}

// otherwise signs something else than it is given.
type otherwise struct{ appfile.Signer }

func (o otherwise) SignManifest(m []byte) (developer.Signature, error) {
	return o.Signer.SignManifest(append([]byte(" "), m...))
}

func TestWhoeverLeavesIsNotAskedAboutAnyMore(t *testing.T) {
	asked, left := make(chan struct{}), make(chan struct{})
	p, _ := signsBy(t, func(_ *desk, ctx context.Context) (appfile.Signer, error) {
		close(asked)
		<-ctx.Done()
		close(left)
		return nil, ctx.Err()
	})
	ctx, cancel := context.WithCancel(t.Context())
	go func() { <-asked; cancel() }()
	_, err := p.packs(ctx, safe.Use{})
	require.ErrorIs(t, err, context.Canceled)
	select {
	case <-left:
	case <-time.After(10 * time.Second):
		t.Fatal("somebody is asked still")
	}
}

func TestASignatureComesAlsoAfterTheConnectionHasBroken(t *testing.T) {
	var times atomic.Int32
	p, d := signsBy(t, func(d *desk, _ context.Context) (appfile.Signer, error) {
		times.Add(1)
		link, _, err := d.Link("moor-desk")
		if err != nil {
			return nil, err
		}
		link.Close()
		time.Sleep(2 * time.Second) // longer than one question waits for its answer
		return d.key, nil
	})
	f, err := p.packs(t.Context(), safe.Use{})
	require.NoError(t, err)
	require.Equal(t, d.key.Public().Thumbprint(), f.App.By())
	require.Equal(t, int32(1), times.Load(), "nobody is asked twice")
}

func TestAPeerAsksForSoMuchAtOnceAndNoMore(t *testing.T) {
	p, _ := signsBy(t, func(_ *desk, ctx context.Context) (appfile.Signer, error) { <-ctx.Done(); return nil, ctx.Err() })
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	outcomes := make(chan error, 8)
	dir, project := built(t)
	for i := range 6 {
		go func() {
			key, err := p.moor.Signing.Signer(ctx, identity, safe.Use{})
			if err == nil {
				m := project.Manifest()
				m.Version = "1." + strings.Repeat("1", i+1)
				_, err = appfile.Pack(io.Discard, m, os.DirFS(dir), project.Files, key)
			}
			outcomes <- err
		}()
	}
	require.ErrorContains(t, <-outcomes, "already waiting for consent")
	cancel()
	for range 5 {
		require.Error(t, <-outcomes)
	}
}

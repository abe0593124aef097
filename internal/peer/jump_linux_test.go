package peer_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/peer"
)

// Two benches are introduced through OpenSSH's server, which lets the first one in by its key, and stay connected through it.
func TestAPeerIsReachedThroughAnSSHServer(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	jump := benchtest.StartBoard(t, benchtest.OpenSSH)
	via := "ssh://" + jump.User + "@" + jump.Address
	_, err := moor.Meet(t.Context(), harbour.at, via, ssh.FingerprintSHA256(jump.Key), "")
	require.ErrorContains(t, err, "does not let this bench in")
	require.NoError(t, os.MkdirAll(filepath.Join(jump.Home, ".ssh"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(jump.Home, ".ssh", "authorized_keys"), ssh.MarshalAuthorizedKey(moor.key.PublicKey()), 0o600))

	shown, err := moor.Look(t.Context(), via)
	require.NoError(t, err)
	require.Equal(t, ssh.FingerprintSHA256(jump.Key), shown)
	_, err = moor.Meet(t.Context(), harbour.at, via, "SHA256:another", "")
	require.ErrorContains(t, err, "shows another key than the accepted one")
	_, err = moor.Meet(t.Context(), harbour.at, via, shown, "quay")
	require.NoError(t, err)
	a, ok := harbour.Asking()
	require.True(t, ok)
	_, err = moor.Type(a.Words)
	require.NoError(t, err)
	harbour.eventually("its owner is asked", func() bool { a, ok := harbour.Asking(); return ok && a.Typed })
	require.NoError(t, harbour.Answer(a.Key, true))
	require.Equal(t, "quay", moor.meeting(peer.Introduced).Name)
	moor.knows("quay")
	points, err := moor.Check(t.Context(), "quay")
	require.NoError(t, err)
	require.Equal(t, "jump", points[0].Name)
	for _, p := range points {
		require.Empty(t, p.Wrong, "%+v", p)
	}
}

// TestEachLayerThatFailsIsNamed breaks one layer after the other.
func TestEachLayerThatFailsIsNamed(t *testing.T) {
	for name, c := range map[string]struct {
		breaks func(*testing.T, *bench, *bench)
		layer  string
	}{
		"its name is not known":       {func(t *testing.T, moor, _ *bench) { moves(t, moor, "harbour.invalid:7421") }, "name"},
		"nobody answers":              {func(t *testing.T, _, harbour *bench) { harbour.end() }, "route"},
		"somebody else answers":       {func(t *testing.T, moor, _ *bench) { moves(t, moor, newBench(t, "other-desk").at) }, "key"},
		"it has forgotten this bench": {func(t *testing.T, _, harbour *bench) { require.NoError(t, harbour.Drop(t.Context(), "moor-desk")) }, "known"},
		"its clock is a day ahead":    {func(_ *testing.T, _, harbour *bench) { harbour.clock.Move(24 * 3600e9) }, "clock"},
	} {
		t.Run(name, func(t *testing.T) {
			moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
			peers(t, moor, harbour)
			c.breaks(t, moor, harbour)
			points, err := moor.Check(t.Context(), "harbour-desk")
			require.NoError(t, err)
			last := points[len(points)-1]
			require.Equal(t, c.layer, last.Name, "%+v", points)
			require.NotEmpty(t, last.Wrong)
			require.NotEmpty(t, last.Remedy)
			for _, p := range points[:len(points)-1] {
				require.Empty(t, p.Wrong, "%+v", points)
			}
		})
	}
}

func moves(t *testing.T, b *bench, to string) {
	t.Helper()
	_, err := b.Move(t.Context(), "harbour-desk", []string{to})
	require.NoError(t, err)
}

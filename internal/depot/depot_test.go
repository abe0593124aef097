package depot_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/standin/depot"
)

func TestMain(m *testing.M) { leaks.None(m) }

func TestADepotIsAddedOnlyAsItWasAccepted(t *testing.T) {
	b := benchtest.New(t)
	at, _ := benchtest.Depot(t, nil, benchtest.Pack("6.2", 1000))
	f, err := b.Depots.Look(t.Context(), at)
	require.NoError(t, err)
	require.Equal(t, "upland-depot", f.Name)
	require.Equal(t, "Upland publishing", f.Signer)
	require.False(t, f.Root.Known)
	require.Empty(t, b.Depots.All(), "a look keeps nothing")
	_, err = b.Depots.Add(t.Context(), at, "", "0123")
	require.Equal(t, problem.Refused, problem.KindOf(err))
	v, err := b.Depots.Add(t.Context(), at, "", f.Accept)
	require.NoError(t, err)
	require.Equal(t, f.Root.Fingerprint(), outside.FingerprintOf(v.Record.Root))
	_, err = b.Depots.Add(t.Context(), at, "another", f.Accept)
	require.Equal(t, problem.Taken, problem.KindOf(err))
	require.NoError(t, b.Depots.Drop(t.Context(), "upland-depot"))
	require.Equal(t, problem.NotFound, problem.KindOf(b.Depots.Drop(t.Context(), "upland-depot")))
}

func TestAnAddressThatIsNoDepotIsRefusedWithItsReason(t *testing.T) {
	b := benchtest.New(t)
	for address, says := range map[string]string{
		"depot.invalid": "write it as https", "http://192.0.2.1/": "without TLS", "https://u:p@127.0.0.1/": "password", "https://127.0.0.1:1/": "nothing listens",
		"ftp://127.0.0.1/": "must start with https", "https:///x": "invalid",
	} {
		_, err := b.Depots.Look(t.Context(), address)
		require.ErrorContains(t, err, says, address)
	}
}

func TestADepotWithAnotherPublisherOrAnotherRootIsNotUsed(t *testing.T) {
	for what, file := range map[string]string{"publisher": "publisher.pem", "TLS root": "tls.pem"} {
		t.Run(what, func(t *testing.T) {
			b := benchtest.New(t)
			var dir, at string
			first, end := benchtest.Depot(t, func(sc *depot.Scenario) { dir = sc.Dir }, benchtest.Pack("6.2", 1000))
			b.Accept(first)
			before := b.Depots.All()[0].Index
			end()
			other := t.TempDir()
			_, err := depot.ReadKeys(other, "Somebody else")
			require.NoError(t, err)
			raw, err := os.ReadFile(filepath.Join(other, file))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, file), raw, 0o600))
			at, _ = benchtest.Depot(t, func(sc *depot.Scenario) {
				sc.Dir, sc.Socket, sc.Address = dir, filepath.Join(dir, "s"), first[len("https://"):len(first)-1]
			}, benchtest.Pack("6.1", 1000))
			require.Equal(t, first, at)
			b.Depots.Again()
			b.Eventually("it is refused", func() bool { return problem.KindOf(b.Depots.All()[0].Trouble) == problem.Refused })
			require.Equal(t, before, b.Depots.All()[0].Index, "what was read before stays")
			require.NotEmpty(t, problem.Of(b.Depots.All()[0].Trouble).Remedy)
		})
	}
}

func TestAnOlderIndexIsNotUsed(t *testing.T) {
	b := benchtest.New(t)
	keys, err := depot.ReadKeys(t.TempDir(), "Upland publishing")
	require.NoError(t, err)
	d, err := depot.Start(context.Background(), depot.Config{Address: "127.0.0.1:0", Name: "Upland depot", TLS: keys.TLS, Signer: keys.Signer, Key: keys.Key, Made: time.Now()})
	require.NoError(t, err)
	defer func() { require.NoError(t, d.Close()) }()
	b.Accept(d.Address())
	require.NoError(t, d.Offer(time.Now().Add(-time.Hour)))
	b.Depots.Again()
	b.Eventually("it is refused", func() bool {
		err := b.Depots.All()[0].Trouble
		return err != nil && problem.KindOf(err) == problem.Refused
	})
	require.NoError(t, d.Offer(time.Now().Add(time.Hour)))
	b.Depots.Again()
	b.Eventually("a newer one is used", func() bool { return b.Depots.All()[0].Trouble == nil })
}

func TestTheClockOfADepotIsCompared(t *testing.T) {
	b := benchtest.New(t)
	at, _ := benchtest.Depot(t, nil)
	b.Accept(at)
	b.Clock.Move(2 * time.Hour)
	b.Depots.Again()
	b.Eventually("the clock was compared", func() bool {
		off := -b.Depots.All()[0].Clock.Ahead(b.Clock.Now())
		return off > 119*time.Minute && off < 121*time.Minute
	})
}

func TestADepotDoesNotLeadElsewhere(t *testing.T) {
	b := benchtest.New(t)
	keys, err := depot.ReadKeys(t.TempDir(), "Upland publishing")
	require.NoError(t, err)
	d, err := depot.Start(context.Background(), depot.Config{Address: "127.0.0.1:0", Name: "Upland depot", TLS: keys.TLS, Signer: keys.Signer, Key: keys.Key, Made: time.Now()})
	require.NoError(t, err)
	defer func() { require.NoError(t, d.Close()) }()
	leads := leading(t, d.Address())
	_, err = b.Depots.Look(t.Context(), leads)
	require.ErrorContains(t, err, "only uses the address that was accepted")
}

// leading starts a service that sends everybody elsewhere.
func leading(t *testing.T, to string) string {
	t.Helper()
	return served(t, func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, to+"index.json", http.StatusFound) })
}

func served(t *testing.T, f http.HandlerFunc) string {
	t.Helper()
	s := httptest.NewServer(f)
	t.Cleanup(s.Close)
	return s.URL
}

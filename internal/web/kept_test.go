package web_test

import (
	"database/sql"
	"errors"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// TestWhatIsAnsweredAsKeptIsKept locks the records under a running bench: whoever
// says something then is told that it was not kept, and what is shown agrees.
func TestWhatIsAnsweredAsKeptIsKept(t *testing.T) {
	dir := t.TempDir()
	b := benchtest.In(t, dir)
	s := b.Serve()
	_, err := s.Client.AddDevice(t.Context(), client.NewDevice{Model: "Kittiwake", Handle: "kittiwake-1"})
	require.NoError(t, err)
	require.NoError(t, s.Client.TellFact(t.Context(), "kittiwake-1", "device.language", "de"))
	locked, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "bench.db")+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer locked.Close()
	c, err := locked.Conn(t.Context())
	require.NoError(t, err)
	_, err = c.ExecContext(t.Context(), `BEGIN IMMEDIATE`)
	require.NoError(t, err)
	name := "renamed"
	check := b.Look(b.Rack.All()[0]).Sheet.Checks[0]
	var saying sync.WaitGroup
	for what, say := range map[string]func() error{
		"a fact":   func() error { return s.Client.TellFact(t.Context(), "kittiwake-1", "device.language", "fr") },
		"a rename": func() error { return s.Client.Set(t.Context(), "kittiwake-1", client.Change{Handle: &name}) },
		"an answer": func() error {
			return s.Client.Answer(t.Context(), "kittiwake-1", check.ID, check.Answers[0].ID)
		},
	} {
		saying.Go(func() {
			err := say()
			var p *client.Problem
			if !errors.As(err, &p) || p.Kind != "unavailable" || p.Status != 503 {
				t.Errorf("%s: %v", what, err)
			}
		})
	}
	saying.Wait()
	facts, err := s.Client.Facts(t.Context(), "kittiwake-1")
	require.NoError(t, err)
	for _, f := range facts {
		require.NotEqual(t, "fr", f.Value)
		require.NotEqual(t, "said."+check.ID, f.Key)
	}
	devices, err := s.Client.Devices(t.Context(), "")
	require.NoError(t, err)
	require.Equal(t, "kittiwake-1", devices[0].Handle)
	_, err = c.ExecContext(t.Context(), `ROLLBACK`)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	require.NoError(t, s.Client.TellFact(t.Context(), "kittiwake-1", "device.language", "fr"), "and it recovers by itself")
}

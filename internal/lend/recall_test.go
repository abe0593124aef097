package lend_test

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

// bigApp is the directory of an app whose file is so large.
func bigApp(t *testing.T, size int64) string {
	t.Helper()
	dir := benchtest.SmallApp(t, true)
	big := make([]byte, size)
	_, err := rand.Read(big)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "maps"), big, 0o600))
	file := filepath.Join(dir, ".earlybench.yaml")
	project, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(project), "files: [app.wasm]", "files: [app.wasm, maps]", 1)), 0o600))
	return dir
}

// A recall in the middle of an install: the copy ends and says why, and nothing of it stays on the device.
func TestARecallInTheMiddleOfAnInstallLeavesNothing(t *testing.T) {
	const size = 20 << 20
	p := lends(t, "use")
	p.wire.mu.Lock()
	p.wire.rate = 4 << 20 // the copy takes some seconds
	p.wire.mu.Unlock()
	p.wire.cut(true)
	p.moor.Eventually("they have lost each other", func() bool { return !p.moor.Peers.List()[0].Connected })
	p.wire.up()
	p.moor.Eventually("they are connected again", func() bool { return p.moor.Peers.List()[0].Connected })
	_, k := p.borrow("use", time.Hour)
	_, err := p.moor.Tryouts.AddProject(t.Context(), bigApp(t, size))
	require.NoError(t, err)
	handle := k.Device().Handle
	j, err := p.moor.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{handle}, Try: true})
	require.NoError(t, err)
	p.moor.Eventually("the copy is under way", func() bool { return loan(t, p.harbour).In > size/4 })

	began := time.Now()
	require.NoError(t, p.harbour.Lend.Recall(t.Context(), loan(t, p.harbour).ID, 0))
	done := p.moor.Ended(j)
	require.Less(t, time.Since(began), 5*time.Second, "whoever tries is told soon")
	require.Equal(t, job.Failed, done.State)
	require.NotNil(t, done.Error)
	require.Contains(t, done.Error.Text, "recalled by its lender")
	theirs, ours := p.ends(p.harbour, store.LoanEnded), p.ends(p.moor, store.LoanEnded)
	require.Empty(t, theirs.Left)
	require.Contains(t, ours.Reason, "recalled by its lender")
	require.Less(t, theirs.In, int64(size), "it was cut in the middle")
	require.False(t, p.admitted())
	apps, err := p.heron.Session().Apps()
	require.NoError(t, err)
	all, err := apps.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all)
	p.moor.Eventually("it is off the borrower's rack", func() bool { _, err := p.moor.Rack.Find(handle); return err != nil })
}

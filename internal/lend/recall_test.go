package lend_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

// A recall in the middle of an install: the copy ends and says why, and nothing of it stays on the device.
func TestARecallInTheMiddleOfAnInstallLeavesNothing(t *testing.T) {
	const size = 20 << 20
	p := lends(t, "use")
	p.Wire.Slow(4<<20, 0) // the copy takes some seconds
	p.Wire.Cut(true)
	p.Moor.Eventually("they have lost each other", func() bool { return !p.Moor.Peers.List()[0].Connected })
	p.Wire.Up()
	p.Moor.Eventually("they are connected again", func() bool { return p.Moor.Peers.List()[0].Connected })
	_, k := p.borrow("use", time.Hour)
	_, err := p.Moor.Tryouts.AddProject(t.Context(), benchtest.BigApp(t, size))
	require.NoError(t, err)
	handle := k.Device().Handle
	j, err := p.Moor.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{handle}, Try: true})
	require.NoError(t, err)
	p.Moor.Eventually("the copy is under way", func() bool { return loan(t, p.Harbour).In > size/4 })

	began := time.Now()
	require.NoError(t, p.Harbour.Lend.Recall(t.Context(), loan(t, p.Harbour).ID, 0))
	done := p.Moor.Ended(j)
	require.Less(t, time.Since(began), 5*time.Second, "whoever tries is told soon")
	require.Equal(t, job.Failed, done.State)
	require.NotNil(t, done.Error)
	require.Contains(t, done.Error.Text, "its lender recalled it")
	theirs, ours := p.ends(p.Harbour, store.LoanEnded), p.ends(p.Moor, store.LoanEnded)
	require.Empty(t, theirs.Left)
	require.Contains(t, ours.Reason, "its lender recalled it")
	require.Less(t, theirs.In, int64(size), "it was cut in the middle")
	require.False(t, p.admitted())
	apps, err := p.Heron.Session().Apps()
	require.NoError(t, err)
	all, err := apps.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all)
	p.Moor.Eventually("it is off the borrower's rack", func() bool { _, err := p.Moor.Rack.Find(handle); return err != nil })
}

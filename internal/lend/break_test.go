package lend_test

import (
	"context"
	mathrand "math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

func TestABreakBetweenTheBenchesIsBridged(t *testing.T) {
	p := lends(t, "use")
	_, k := p.borrow("use", time.Hour)
	s := k.Session()
	apps, err := s.Apps()
	require.NoError(t, err)
	p.Wire.Cut(true)
	p.Moor.Eventually("the benches have lost each other", func() bool { return !p.Moor.Peers.List()[0].Connected })
	time.AfterFunc(500*time.Millisecond, p.Wire.Up)
	list := make(chan error, 1)
	go func() { _, err := apps.List(context.Background()); list <- err }()
	require.NoError(t, <-list, "what was asked during the break is answered after it")
	require.Equal(t, device.Session(s), k.Session(), "it is the same session")
}

// TestACopyGoesOnAcrossBreaksBetweenTheBenches breaks the connection twice, at random places, and counts at the lender's end
// what was received for the device; with SOAK ten times in 100 MB, for 1 to 50 seconds each.
func TestACopyGoesOnAcrossBreaksBetweenTheBenches(t *testing.T) {
	size, breaks, longest := int64(30<<20), 2, time.Second
	if os.Getenv("SOAK") != "" {
		size, breaks, longest = 100<<20, 10, 50*time.Second
	}
	p := lends(t, "use")
	_, k := p.borrow("use", time.Hour)
	_, err := p.Moor.Tryouts.AddProject(t.Context(), benchtest.BigApp(t, size))
	require.NoError(t, err)
	j, err := p.Moor.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{k.Device().Handle}, Try: true})
	require.NoError(t, err)
	part, away := size/int64(breaks+1), time.Duration(0)
	for i := range breaks {
		at := int64(i)*part + 1<<20 + mathrand.Int64N(part-2<<20)
		require.Eventually(t, func() bool {
			now, err := p.Moor.Store.Job(context.Background(), j.ID)
			require.NoError(t, err)
			require.False(t, now.State.Ended(), "%d breaks of %v: %+v", i, away, now.Error)
			return loan(t, p.Harbour).In > at
		}, time.Minute, 10*time.Millisecond, "so much has come")
		long := time.Second + time.Duration(mathrand.Int64N(int64(longest)))
		away += long
		p.Wire.Cut(true)
		time.Sleep(long)
		p.Wire.Up()
	}
	done := p.Moor.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	in := loan(t, p.Harbour).In
	require.Greater(t, in, size)
	require.Less(t, in, size+2<<20, "next to nothing came twice")
	t.Logf("soak: copies over a loan %8d  %d breaks, %v in all; %d bytes beyond the file's", 1, breaks, away.Round(time.Second), in-size)
}

// A run in a pipeline borrows with a lapse: when its bench is gone for good, the lender has the device back soon.
func TestALoanWithALapseEndsOnceTheBorrowersBenchIsGone(t *testing.T) {
	p := lends(t, "use")
	_, err := p.Moor.Lend.Borrow(t.Context(), "harbour-desk", p.Heron.Device().Handle, "use", time.Hour, 4*time.Second)
	require.ErrorContains(t, err, "at least 5 seconds")
	r, err := p.Moor.Lend.Borrow(t.Context(), "harbour-desk", p.Heron.Device().Handle, "use", time.Hour, 5*time.Second)
	require.NoError(t, err)
	require.Equal(t, store.LoanActive, r.State)
	p.linked()
	p.Wire.Cut(true)
	time.Sleep(time.Second)
	p.Wire.Up()
	p.Moor.Eventually("they are connected again", func() bool { return p.Moor.Peers.List()[0].Connected })
	time.Sleep(5 * time.Second)
	all, err := p.Harbour.Lend.List(t.Context())
	require.NoError(t, err)
	require.Equal(t, store.LoanActive, all[0].State, "a short break ends nothing")
	p.Wire.Cut(true)
	p.Harbour.Eventually("the lender has it back", func() bool {
		all, err := p.Harbour.Lend.List(context.Background())
		return err == nil && all[0].State == store.LoanEnded
	})
	all, err = p.Harbour.Lend.List(t.Context())
	require.NoError(t, err)
	require.Equal(t, "moor-desk was not connected for longer than 5 s", all[0].Reason)
}

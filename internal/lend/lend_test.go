package lend_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

func TestMain(m *testing.M) { leaks.None(m) }

// pair is two benches, of which harbour-desk has a handset that it may lend.
type pair struct{ *benchtest.Pair }

func lends(t *testing.T, rights string) *pair {
	t.Helper()
	return &pair{benchtest.NewPair(t, store.PeerRights{All: rights})}
}

// borrow borrows the handset, and waits until it is linked here.
func (p *pair) borrow(rights string, long time.Duration) (store.Loan, *keeper.Keeper) {
	p.T.Helper()
	r, err := p.Moor.Lend.Borrow(p.T.Context(), "harbour-desk", p.Heron.Device().Handle, rights, long, 0)
	require.NoError(p.T, err)
	require.Equal(p.T, store.LoanActive, r.State, "%+v", r)
	return r, p.linked()
}

func (p *pair) linked() (k *keeper.Keeper) {
	p.T.Helper()
	p.Moor.Eventually("the handset is linked over there", func() bool {
		for _, k = range p.Moor.Rack.All() {
			return k.Session() != nil
		}
		return false
	})
	return k
}

// loan is the newest loan of a bench.
func loan(t testing.TB, b *benchtest.Bench) store.Loan {
	t.Helper()
	all, err := b.Lend.List(context.Background())
	require.NoError(t, err)
	require.NotEmpty(t, all)
	return all[0]
}

func (p *pair) ends(b *benchtest.Bench, state store.LoanState) (r store.Loan) {
	p.T.Helper()
	b.Eventually("the loan is "+string(state), func() bool { r = loan(p.T, b); return r.State == state })
	return r
}

// admitted is whether the device lets the borrower in.
func (p *pair) admitted() bool {
	l, err := p.Heron.Session().Lending()
	require.NoError(p.T, err)
	all, err := l.List(p.T.Context(), 0) // of no epoch: all are dropped
	require.NoError(p.T, err)
	return len(all) > 0
}

func TestADeviceIsBorrowedTriedAndReturnedClean(t *testing.T) {
	p := lends(t, "use")
	shown := p.Shown()[0]
	require.Equal(t, core.Free, shown.State)
	require.Equal(t, "Heron 4", shown.Model)
	_, k := p.borrow("use", time.Hour)
	require.Equal(t, p.Heron.Device().Key, k.Device().Key, "it is the device itself that answers")
	require.Equal(t, p.Heron.Device().Handle, k.Device().Handle)
	require.Equal(t, "lent to moor-desk", p.Heron.Working())
	for b, mine := range map[*benchtest.Bench]bool{p.Moor: true, p.Harbour: false} {
		terms, err := b.Lend.Terms(t.Context())
		require.NoError(t, err)
		require.Len(t, terms, 1)
		require.Equal(t, mine, terms[0].Mine)
		require.Equal(t, "heron-1", terms[0].Name)
		require.WithinDuration(t, time.Now().Add(time.Hour), terms[0].Ends, time.Minute)
	}
	p.Moor.First(k, "")

	_, err := p.Moor.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, true))
	require.NoError(t, err)
	j, err := p.Moor.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{k.Device().Handle}, Try: true})
	require.NoError(t, err)
	done := p.Moor.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	p.Harbour.Eventually("the app is on it", func() bool { return len(p.Heron.Apps()) == 1 })

	_, err = p.Moor.Lend.Return(t.Context(), k.Device().Handle)
	require.NoError(t, err)
	over := p.ends(p.Harbour, store.LoanEnded)
	require.Equal(t, "it was returned", over.Reason)
	require.Empty(t, over.Left)
	require.Positive(t, over.In)
	require.Positive(t, over.Out)
	apps, err := p.Heron.Session().Apps()
	require.NoError(t, err)
	left, err := apps.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, left, "it is clean")
	require.Empty(t, p.Heron.Working())
	require.False(t, p.admitted())
	p.ends(p.Moor, store.LoanEnded)
	p.Moor.Eventually("it is off this rack", func() bool { return len(p.Moor.Rack.All()) == 0 })
	lines, err := p.Harbour.Store.Audit(t.Context(), 0, 500)
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, l := range lines {
		if l.Actor == "peer/moor-desk" {
			seen[l.Operation] = true
		}
	}
	for _, want := range []string{"borrow-device", "device-app-switch", "device-app-start", "device-session", "return-device"} {
		require.True(t, seen[want], "%s is in the audit: %v", want, seen)
	}
}

func TestALoanToLookInstallsNothing(t *testing.T) {
	p := lends(t, "look")
	_, err := p.Moor.Lend.Borrow(t.Context(), "harbour-desk", p.Heron.Device().Handle, "use", time.Hour, 0)
	require.ErrorContains(t, err, "you may look at heron-1, but not use it")
	all, err := p.Moor.Lend.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all, "what was refused is no loan")
	_, k := p.borrow("look", time.Hour)
	apps, err := k.Session().Apps()
	require.NoError(t, err)
	_, err = apps.List(t.Context())
	require.NoError(t, err)
	require.ErrorContains(t, apps.Remove(t.Context(), "fellgate/callout"), "the right of this loan is look")
}

func TestWhatAPeerMayNotSeeIsAnsweredLikeWhatThereIsNot(t *testing.T) {
	p := lends(t, "")
	require.Empty(t, p.Shown())
	_, hidden := p.Moor.Lend.Borrow(t.Context(), "harbour-desk", p.Heron.Device().Handle, "use", time.Hour, 0)
	_, unknown := p.Moor.Lend.Borrow(t.Context(), "harbour-desk", "heron-7", "use", time.Hour, 0)
	require.ErrorContains(t, hidden, `there is no device "heron-1" that is shared with you`)
	require.ErrorContains(t, unknown, `there is no device "heron-7" that is shared with you`)
	_, err := p.Harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.All = "look" })
	require.NoError(t, err)
	p.Moor.Eventually("it sees it now", func() bool { return len(p.Shown()) == 1 })
	_, err = p.Harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.Devices = map[string]string{p.Heron.Device().ID: "nothing"} })
	require.NoError(t, err)
	p.Moor.Eventually("and no more", func() bool { return len(p.Shown()) == 0 })
}

// TestNobodyPutsADeviceOnARackThatWasNotAskedFor has a lender lend by itself.
func TestNobodyPutsADeviceOnARackThatWasNotAskedFor(t *testing.T) {
	p := lends(t, "use")
	l, _, err := p.Moor.Peers.Link("harbour-desk")
	require.NoError(t, err)
	var told core.Loan // as if this bench had not asked
	require.NoError(t, l.Call(t.Context(), core.MethodLoanStart, core.StartLoan{Device: p.Heron.Device().Handle, Rights: "use", Seconds: 600}, &told))
	require.Equal(t, "it was returned", p.ends(p.Harbour, store.LoanEnded).Reason, "what was not asked for is sent back")
	require.Empty(t, p.Moor.Rack.All())
	all, err := p.Moor.Lend.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all)
}

// TestALoanWhoseAnswerWasLostIsTakenUp has the borrower end after it has asked, and before it has the answer.
func TestALoanWhoseAnswerWasLostIsTakenUp(t *testing.T) {
	p := lends(t, "use")
	handle := p.Heron.Device().Handle
	require.NoError(t, p.Moor.Store.SaveLoan(t.Context(), store.Loan{ID: "asked", State: store.LoanWaiting, Peer: "harbour-desk", PeerKey: p.Moor.Peers.List()[0].Key, Handle: handle, Rights: "use", Seconds: 600, Asked: time.Now().UTC()}))
	p.Moor.End()
	borrower, err := p.Harbour.Peers.Find("moor-desk")
	require.NoError(t, err)
	_, err = p.Harbour.Lend.Call(t.Context(), borrower, core.MethodLoanStart, []byte(`{"device":"`+handle+`","rights":"use","seconds":600}`), nil)
	require.NoError(t, err)
	p.Moor = benchtest.In(t, p.MoorDir)
	p.linked()
	require.Equal(t, "asked", loan(t, p.Moor).ID)
}

func TestALoanEndsForTheBorrowerAndOnTheDevice(t *testing.T) {
	for name, c := range map[string]struct {
		end    func(*pair)
		reason string
	}{
		"when its time is up":        {func(p *pair) { p.Harbour.Clock.Move(61 * time.Minute) }, "its time is up"},
		"when the lender recalls it": {func(p *pair) { require.NoError(p.T, p.Harbour.Lend.Recall(p.T.Context(), loan(p.T, p.Harbour).ID, 0)) }, "recalled"},
		"when the right is withdrawn": {func(p *pair) {
			_, err := p.Harbour.Peers.Set(p.T.Context(), "moor-desk", func(r *store.PeerRights) { r.All = "look" })
			require.NoError(p.T, err)
		}, "withdrawn"},
		"when the borrower is dropped": {func(p *pair) { require.NoError(p.T, p.Harbour.Peers.Drop(p.T.Context(), "moor-desk")) }, "no longer a peer"},
	} {
		t.Run(name, func(t *testing.T) {
			p := lends(t, "use")
			_, k := p.borrow("use", time.Hour)
			s := k.Session()
			c.end(p)
			began := time.Now()
			select {
			case <-s.Done():
			case <-time.After(10 * time.Second):
			}
			require.Less(t, time.Since(began), 2*time.Second, "it is cut")
			over := p.ends(p.Harbour, store.LoanEnded)
			require.Contains(t, over.Reason, c.reason)
			require.False(t, p.admitted())
		})
	}
}

func TestWhatIsBorrowedIsOffTheRackWhenItsLenderIsNoPeerAnyMoreOrGone(t *testing.T) {
	for name, c := range map[string]struct {
		end    func(*pair)
		reason string
	}{
		"dropped": {func(p *pair) { require.NoError(p.T, p.Moor.Peers.Drop(p.T.Context(), "harbour-desk")) }, "no longer a peer"},
		"gone, and the time is over": {func(p *pair) {
			p.Wire.Cut(true)
			p.Moor.Clock.Move(62 * time.Minute)
		}, "its time is up"},
	} {
		t.Run(name, func(t *testing.T) {
			p := lends(t, "use")
			_, k := p.borrow("use", time.Hour)
			_, err := p.Moor.Retire.Begin(t.Context(), k.Device().Handle)
			require.ErrorContains(t, err, "belongs to another bench")
			c.end(p)
			require.Contains(t, p.ends(p.Moor, store.LoanEnded).Reason, c.reason)
			p.Moor.Eventually("it is off the rack", func() bool { return len(p.Moor.Rack.All()) == 0 })
		})
	}
}

func TestARecallWithGraceEndsTheLoanEarlier(t *testing.T) {
	p := lends(t, "use")
	r, _ := p.borrow("use", time.Hour)
	require.NoError(t, p.Harbour.Lend.Recall(t.Context(), loan(t, p.Harbour).ID, 5*time.Minute))
	p.Moor.Eventually("the borrower knows", func() bool {
		now := loan(t, p.Moor)
		return now.Ends.Before(r.Ends) && now.Reason != ""
	})
	require.Equal(t, store.LoanActive, loan(t, p.Harbour).State)
}

func TestThoseWhoWaitAreServedInTheOrderOfAsking(t *testing.T) {
	p := lends(t, "use")
	other := benchtest.With(t, t.TempDir(), func(c *service.Config) { c.Name = "other-desk" })
	i, err := p.Harbour.Peers.Invite(t.Context(), store.PeerRights{All: "use"}, time.Hour, nil)
	require.NoError(t, err)
	_, err = other.Peers.Add(t.Context(), i, "")
	require.NoError(t, err)
	p.borrow("use", time.Hour)
	p.Moor.Eventually("it shows as one's own", func() bool { return p.Shown()[0].State == core.Yours })
	w, err := other.Lend.Borrow(t.Context(), "harbour-desk", p.Heron.Device().Handle, "use", time.Hour, 0)
	require.NoError(t, err)
	require.Equal(t, store.LoanWaiting, w.State)
	require.Equal(t, 1, w.Place)
	require.InDelta(t, 3600, w.Wait, 30)
	_, err = p.Moor.Lend.Borrow(t.Context(), "harbour-desk", p.Heron.Device().Handle, "use", time.Hour, 0)
	require.ErrorContains(t, err, "you already have heron-1")
	_, err = p.Moor.Lend.Extend(t.Context(), loan(t, p.Moor).ID, 2*time.Hour)
	require.ErrorContains(t, err, "somebody else is waiting")
	_, err = p.Moor.Lend.Return(t.Context(), loan(t, p.Moor).ID)
	require.NoError(t, err)
	p.ends(other, store.LoanActive)
	other.Eventually("it is linked there", func() bool {
		for _, k := range other.Rack.All() {
			return k.Session() != nil
		}
		return false
	})
	_, err = other.Lend.Extend(t.Context(), loan(t, other).ID, 2*time.Hour)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(2*time.Hour), loan(t, other).Ends, time.Minute)
}

func TestADeviceThatWasLentGoesBackWhateverBenchEnds(t *testing.T) {
	p := lends(t, "use")
	_, k := p.borrow("use", time.Hour)
	p.Harbour.End() // the lender
	p.StartHarbour()
	require.Equal(t, store.LoanActive, loan(t, p.Harbour).State, "it goes on")
	p.Plug()
	p.Harbour.Eventually("it is held for the borrower", func() bool { return p.Heron.Working() == "lent to moor-desk" })
	p.Moor.Eventually("it is used again", func() bool {
		s := k.Session()
		if s == nil {
			return false
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		apps, err := s.Apps()
		require.NoError(t, err)
		_, err = apps.List(ctx)
		return err == nil
	})
	p.Moor.End()
	p.Harbour.Clock.Move(61 * time.Minute)
	p.ends(p.Harbour, store.LoanEnded)
	require.False(t, p.admitted())
}

func TestABenchThatWasRestoredFromABackupLendsNothingOfWhichItDoesNotKnow(t *testing.T) {
	p := lends(t, "use")
	p.borrow("use", time.Hour)
	p.Harbour.End()
	require.NoError(t, os.Remove(filepath.Join(p.Dir, ".lending-epoch")))
	p.StartHarbour()
	p.Plug()
	over := p.ends(p.Harbour, store.LoanEnded)
	require.Contains(t, over.Reason, "restored from a backup")
	require.False(t, p.admitted())
	p.ends(p.Moor, store.LoanEnded)
}

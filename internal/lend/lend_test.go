package lend_test

import (
	"context"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

func TestMain(m *testing.M) { benchtest.NoLeaks(m) }

// wire is what connects the two benches; it can be broken.
type wire struct {
	net.Listener
	to string

	mu    sync.Mutex
	down  bool
	delay time.Duration // each way
	rate  int           // bytes in a second each way; 0: as fast as it goes
	conns map[net.Conn]bool
	work  sync.WaitGroup
}

func newWire(t *testing.T, to string) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &wire{Listener: l, to: to, conns: map[net.Conn]bool{}}
	w.work.Go(w.serve)
	t.Cleanup(func() { l.Close(); w.cut(true); w.work.Wait() })
	return w
}

func (w *wire) serve() {
	for {
		c, err := w.Accept()
		if err != nil {
			return
		}
		w.mu.Lock()
		down, delay, rate := w.down, w.delay, w.rate
		w.mu.Unlock()
		d, err := net.Dial("tcp", w.to)
		if err != nil || down {
			c.Close()
			if err == nil {
				d.Close()
			}
			continue
		}
		w.mu.Lock()
		w.conns[c], w.conns[d] = true, true
		w.mu.Unlock()
		for _, x := range [][2]net.Conn{{c, d}, {d, c}} {
			w.work.Go(func() {
				benchtest.LongLine(x[0], x[1], func() time.Duration { return delay }, rate)
				x[0].Close()
				x[1].Close()
			})
		}
	}
}

// cut ends all connections; with down no new one is made.
func (w *wire) cut(down bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.down = down
	for c := range w.conns {
		c.Close()
	}
	clear(w.conns)
}

func (w *wire) up() { w.mu.Lock(); w.down = false; w.mu.Unlock() }

// pair is two benches, of which harbour-desk has a handset that it may lend.
type pair struct {
	t             *testing.T
	moor, harbour *benchtest.Bench
	wire          *wire
	rig           *standin.Rig
	dir, moorDir  string // of harbour-desk and moor-desk
	heron         *keeper.Keeper
}

func lends(t *testing.T, rights string) *pair {
	t.Helper()
	p := &pair{t: t, dir: t.TempDir(), moorDir: t.TempDir()}
	p.startHarbour()
	sc := standin.Scenario{Dir: t.TempDir(), Host: "quay", Drivers: true, Answer: "10s", HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "heron-9", Body: "halden", Model: "H4", Serial: "HH4 0900 0001", Begin: &body.Beginning{Opened: true,
			Settings: map[string]string{"computers": "debug and install"}, Admits: map[string]string{ssh.FingerprintSHA256(p.harbour.Keys.Link.PublicKey()): "harbour-desk"}}}}}
	rig, err := standin.Start(context.Background(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rig.Close()) })
	p.rig = rig
	p.plug()
	p.wire = newWire(t, p.harbour.Peers.Address())
	i, err := p.harbour.Peers.Invite(t.Context(), store.PeerRights{All: rights}, time.Hour, []string{p.wire.Addr().String()})
	require.NoError(t, err)
	p.moor = benchtest.In(t, p.moorDir)
	_, err = p.moor.Peers.Add(t.Context(), i, "")
	require.NoError(t, err)
	p.moor.Eventually("the far rack is seen", func() bool { return len(p.shown()) == 1 || rights == "" && p.moor.Peers.List()[0].Connected })
	return p
}

func (p *pair) startHarbour() {
	listen := "127.0.0.1:0"
	if p.harbour != nil {
		listen = p.harbour.Peers.Address()
	}
	p.harbour = benchtest.With(p.t, p.dir, func(c *service.Config) { c.Name, c.Peers = "harbour-desk", listen })
}

// plug has harbour-desk watch the host on which its handset is.
func (p *pair) plug() {
	at := p.rig.Addresses()
	p.harbour.Hosts.Watch(store.Host{Name: "quay", USBIP: at.Hub, Control: at.Host})
	p.harbour.Eventually("the handset is linked", func() bool {
		for _, k := range p.harbour.Rack.All() {
			p.heron = k
			return k.Session() != nil
		}
		return false
	})
}

// shown are the devices that moor-desk sees of harbour-desk's.
func (p *pair) shown() []core.Device {
	for _, f := range p.moor.Lend.Far() {
		if f.Connected {
			return f.Devices
		}
	}
	return nil
}

// borrow borrows the handset, and waits until it is linked here.
func (p *pair) borrow(rights string, long time.Duration) (store.Loan, *keeper.Keeper) {
	p.t.Helper()
	r, err := p.moor.Lend.Borrow(p.t.Context(), "harbour-desk", p.heron.Device().Handle, rights, long, 0)
	require.NoError(p.t, err)
	require.Equal(p.t, store.LoanActive, r.State, "%+v", r)
	return r, p.linked()
}

func (p *pair) linked() (k *keeper.Keeper) {
	p.t.Helper()
	p.moor.Eventually("the handset is linked over there", func() bool {
		for _, k = range p.moor.Rack.All() {
			return k.Session() != nil
		}
		return false
	})
	return k
}

// loan is the newest loan of a bench.
func loan(t *testing.T, b *benchtest.Bench) store.Loan {
	t.Helper()
	all, err := b.Lend.List(context.Background())
	require.NoError(t, err)
	require.NotEmpty(t, all)
	return all[0]
}

func (p *pair) ends(b *benchtest.Bench, state store.LoanState) (r store.Loan) {
	p.t.Helper()
	b.Eventually("the loan is "+string(state), func() bool { r = loan(p.t, b); return r.State == state })
	return r
}

// admitted is whether the device lets the borrower in.
func (p *pair) admitted() bool {
	l, err := p.heron.Session().Lending()
	require.NoError(p.t, err)
	all, err := l.List(p.t.Context(), 0) // of no epoch: all are dropped
	require.NoError(p.t, err)
	return len(all) > 0
}

func TestADeviceIsBorrowedTriedAndReturnedClean(t *testing.T) {
	p := lends(t, "use")
	shown := p.shown()[0]
	require.Equal(t, core.Free, shown.State)
	require.Equal(t, "Heron 4", shown.Model)
	_, k := p.borrow("use", time.Hour)
	require.Equal(t, p.heron.Device().Key, k.Device().Key, "it is the device itself that answers")
	require.Equal(t, p.heron.Device().Handle, k.Device().Handle)
	require.Equal(t, "lent to moor-desk", p.heron.Working())
	for b, mine := range map[*benchtest.Bench]bool{p.moor: true, p.harbour: false} {
		terms, err := b.Lend.Terms(t.Context())
		require.NoError(t, err)
		require.Len(t, terms, 1)
		require.Equal(t, mine, terms[0].Mine)
		require.Equal(t, "heron-1", terms[0].Name)
		require.WithinDuration(t, time.Now().Add(time.Hour), terms[0].Ends, time.Minute)
	}
	p.moor.First(k, "")

	_, err := p.moor.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, true))
	require.NoError(t, err)
	j, err := p.moor.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{k.Device().Handle}, Try: true})
	require.NoError(t, err)
	done := p.moor.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	p.harbour.Eventually("the app is on it", func() bool { return len(p.heron.Apps()) == 1 })

	_, err = p.moor.Lend.Return(t.Context(), k.Device().Handle)
	require.NoError(t, err)
	over := p.ends(p.harbour, store.LoanEnded)
	require.Equal(t, "it was given back", over.Reason)
	require.Empty(t, over.Left)
	require.Positive(t, over.In)
	require.Positive(t, over.Out)
	apps, err := p.heron.Session().Apps()
	require.NoError(t, err)
	left, err := apps.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, left, "it is clean")
	require.Empty(t, p.heron.Working())
	require.False(t, p.admitted())
	p.ends(p.moor, store.LoanEnded)
	p.moor.Eventually("it is off this rack", func() bool { return len(p.moor.Rack.All()) == 0 })
	lines, err := p.harbour.Store.Audit(t.Context(), 0, 500)
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
	_, err := p.moor.Lend.Borrow(t.Context(), "harbour-desk", p.heron.Device().Handle, "use", time.Hour, 0)
	require.ErrorContains(t, err, "you may look at heron-1, not use it")
	all, err := p.moor.Lend.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all, "what was refused is no loan")
	_, k := p.borrow("look", time.Hour)
	apps, err := k.Session().Apps()
	require.NoError(t, err)
	_, err = apps.List(t.Context())
	require.NoError(t, err)
	require.ErrorContains(t, apps.Remove(t.Context(), "fellgate/callout"), "the loan has the right look")
}

func TestWhatAPeerMayNotSeeIsAnsweredLikeWhatThereIsNot(t *testing.T) {
	p := lends(t, "")
	require.Empty(t, p.shown())
	_, hidden := p.moor.Lend.Borrow(t.Context(), "harbour-desk", p.heron.Device().Handle, "use", time.Hour, 0)
	_, unknown := p.moor.Lend.Borrow(t.Context(), "harbour-desk", "heron-7", "use", time.Hour, 0)
	require.ErrorContains(t, hidden, `there is no device "heron-1" that is shared with you`)
	require.ErrorContains(t, unknown, `there is no device "heron-7" that is shared with you`)
	_, err := p.harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.All = "look" })
	require.NoError(t, err)
	p.moor.Eventually("it sees it now", func() bool { return len(p.shown()) == 1 })
	_, err = p.harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.Devices = map[string]string{p.heron.Device().ID: "nothing"} })
	require.NoError(t, err)
	p.moor.Eventually("and no more", func() bool { return len(p.shown()) == 0 })
}

// TestNobodyPutsADeviceOnARackThatWasNotAskedFor has a lender lend by itself.
func TestNobodyPutsADeviceOnARackThatWasNotAskedFor(t *testing.T) {
	p := lends(t, "use")
	l, _, err := p.moor.Peers.Link("harbour-desk")
	require.NoError(t, err)
	var told core.Loan // as if this bench had not asked
	require.NoError(t, l.Call(t.Context(), core.MethodLoanStart, core.StartLoan{Device: p.heron.Device().Handle, Rights: "use", Seconds: 600}, &told))
	require.Equal(t, "it was given back", p.ends(p.harbour, store.LoanEnded).Reason, "what was not asked for is sent back")
	require.Empty(t, p.moor.Rack.All())
	all, err := p.moor.Lend.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all)
}

// TestALoanWhoseAnswerWasLostIsTakenUp has the borrower end after it has asked, and before it has the answer.
func TestALoanWhoseAnswerWasLostIsTakenUp(t *testing.T) {
	p := lends(t, "use")
	handle := p.heron.Device().Handle
	require.NoError(t, p.moor.Store.SaveLoan(t.Context(), store.Loan{ID: "asked", State: store.LoanWaiting, Peer: "harbour-desk", PeerKey: p.moor.Peers.List()[0].Key, Handle: handle, Rights: "use", Seconds: 600, Asked: time.Now().UTC()}))
	p.moor.End()
	borrower, err := p.harbour.Peers.Find("moor-desk")
	require.NoError(t, err)
	_, err = p.harbour.Lend.Call(t.Context(), borrower, core.MethodLoanStart, []byte(`{"device":"`+handle+`","rights":"use","seconds":600}`), nil)
	require.NoError(t, err)
	p.moor = benchtest.In(t, p.moorDir)
	p.linked()
	require.Equal(t, "asked", loan(t, p.moor).ID)
}

func TestALoanEndsForTheBorrowerAndOnTheDevice(t *testing.T) {
	for name, c := range map[string]struct {
		end    func(*pair)
		reason string
	}{
		"when its time is over":      {func(p *pair) { p.harbour.Clock.Move(61 * time.Minute) }, "its time is over"},
		"when the lender recalls it": {func(p *pair) { require.NoError(p.t, p.harbour.Lend.Recall(p.t.Context(), loan(p.t, p.harbour).ID, 0)) }, "recalled"},
		"when the right is withdrawn": {func(p *pair) {
			_, err := p.harbour.Peers.Set(p.t.Context(), "moor-desk", func(r *store.PeerRights) { r.All = "look" })
			require.NoError(p.t, err)
		}, "withdrawn"},
		"when the borrower is dropped": {func(p *pair) { require.NoError(p.t, p.harbour.Peers.Drop(p.t.Context(), "moor-desk")) }, "no peer any more"},
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
			over := p.ends(p.harbour, store.LoanEnded)
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
		"dropped": {func(p *pair) { require.NoError(p.t, p.moor.Peers.Drop(p.t.Context(), "harbour-desk")) }, "no peer any more"},
		"gone, and the time is over": {func(p *pair) {
			p.wire.cut(true)
			p.moor.Clock.Move(62 * time.Minute)
		}, "its time is over"},
	} {
		t.Run(name, func(t *testing.T) {
			p := lends(t, "use")
			_, k := p.borrow("use", time.Hour)
			_, err := p.moor.Retire.Begin(t.Context(), k.Device().Handle)
			require.ErrorContains(t, err, "belongs to another bench")
			c.end(p)
			require.Contains(t, p.ends(p.moor, store.LoanEnded).Reason, c.reason)
			p.moor.Eventually("it is off the rack", func() bool { return len(p.moor.Rack.All()) == 0 })
		})
	}
}

func TestARecallWithGraceEndsTheLoanEarlier(t *testing.T) {
	p := lends(t, "use")
	r, _ := p.borrow("use", time.Hour)
	require.NoError(t, p.harbour.Lend.Recall(t.Context(), loan(t, p.harbour).ID, 5*time.Minute))
	p.moor.Eventually("the borrower knows", func() bool {
		now := loan(t, p.moor)
		return now.Ends.Before(r.Ends) && now.Reason != ""
	})
	require.Equal(t, store.LoanActive, loan(t, p.harbour).State)
}

func TestThoseWhoWaitAreServedInTheOrderOfAsking(t *testing.T) {
	p := lends(t, "use")
	other := benchtest.With(t, t.TempDir(), func(c *service.Config) { c.Name = "other-desk" })
	i, err := p.harbour.Peers.Invite(t.Context(), store.PeerRights{All: "use"}, time.Hour, nil)
	require.NoError(t, err)
	_, err = other.Peers.Add(t.Context(), i, "")
	require.NoError(t, err)
	p.borrow("use", time.Hour)
	p.moor.Eventually("it shows as one's own", func() bool { return p.shown()[0].State == core.Yours })
	w, err := other.Lend.Borrow(t.Context(), "harbour-desk", p.heron.Device().Handle, "use", time.Hour, 0)
	require.NoError(t, err)
	require.Equal(t, store.LoanWaiting, w.State)
	require.Equal(t, 1, w.Place)
	require.InDelta(t, 3600, w.Wait, 30)
	_, err = p.moor.Lend.Borrow(t.Context(), "harbour-desk", p.heron.Device().Handle, "use", time.Hour, 0)
	require.ErrorContains(t, err, "you have heron-1 already")
	_, err = p.moor.Lend.Extend(t.Context(), loan(t, p.moor).ID, 2*time.Hour)
	require.ErrorContains(t, err, "somebody else waits")
	_, err = p.moor.Lend.Return(t.Context(), loan(t, p.moor).ID)
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
	p.harbour.End() // the lender
	p.startHarbour()
	require.Equal(t, store.LoanActive, loan(t, p.harbour).State, "it goes on")
	p.plug()
	p.harbour.Eventually("it is held for the borrower", func() bool { return p.heron.Working() == "lent to moor-desk" })
	p.moor.Eventually("it is used again", func() bool {
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
	p.moor.End()
	p.harbour.Clock.Move(61 * time.Minute)
	p.ends(p.harbour, store.LoanEnded)
	require.False(t, p.admitted())
}

func TestABenchThatWasRestoredFromABackupLendsNothingOfWhichItDoesNotKnow(t *testing.T) {
	p := lends(t, "use")
	p.borrow("use", time.Hour)
	p.harbour.End()
	require.NoError(t, os.Remove(filepath.Join(p.dir, ".lending-epoch")))
	p.startHarbour()
	p.plug()
	over := p.ends(p.harbour, store.LoanEnded)
	require.Contains(t, over.Reason, "restored from a backup")
	require.False(t, p.admitted())
	p.ends(p.moor, store.LoanEnded)
}

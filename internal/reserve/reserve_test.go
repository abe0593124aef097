package reserve_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/reserve"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

func TestMain(m *testing.M) { leaks.None(m) }

// alone is a bench that has no peers.
type alone struct{}

func (alone) Free() []reserve.Far { return nil }
func (alone) Borrow(context.Context, reserve.Far, time.Duration, time.Duration) (store.Loan, error) {
	return store.Loan{}, problem.New(problem.NotFound, "there are no peers")
}
func (alone) Loan(context.Context, string) (store.Loan, error) {
	return store.Loan{}, store.ErrNotFound
}
func (alone) Return(context.Context, string) error { return nil }

// desk is a bench with handsets that are linked.
type desk struct {
	*benchtest.Bench
	*reserve.Reserve
	rig   *standin.Rig
	peers reserve.Lending
	end   func()
}

// late is a peer that lends heron-9 when it is told to, and whose device is not reached.
type late struct {
	alone
	lends chan struct{}
}

func (late) Free() []reserve.Far {
	return []reserve.Far{{Peer: "harbour-desk", Device: peer.Device{Handle: "heron-9"}}}
}
func (l late) Borrow(ctx context.Context, _ reserve.Far, _, _ time.Duration) (store.Loan, error) {
	select {
	case <-l.lends:
		return store.Loan{ID: "9", State: store.LoanActive}, nil
	case <-ctx.Done():
		return store.Loan{}, ctx.Err()
	}
}
func (late) Loan(context.Context, string) (store.Loan, error) {
	return store.Loan{ID: "9", State: store.LoanActive}, nil
}

func deskWith(t *testing.T, handsets int) *desk {
	t.Helper()
	b := benchtest.New(t)
	sc := standin.Scenario{Dir: t.TempDir(), Host: "loft", Drivers: true, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s")}
	for i := range handsets {
		sc.Bodies = append(sc.Bodies, standin.Entry{Name: fmt.Sprint("heron-", i+1), Body: "halden", Model: "H4", Serial: fmt.Sprintf("HH4 0100 %04d", i), Begin: &body.Beginning{Opened: true,
			Settings: map[string]string{"computers": "debug and install"}, Admits: map[string]string{ssh.FingerprintSHA256(b.Keys.Link.PublicKey()): "moor-desk"}}})
	}
	rig, err := standin.Start(t.Context(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rig.Close()) })
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: rig.Addresses().Hub, Control: rig.Addresses().Host})
	b.Eventually("all are linked", func() bool {
		linked := 0
		for _, k := range b.Rack.All() {
			if k.Session() != nil {
				linked++
			}
		}
		return linked == handsets
	})
	d := &desk{Bench: b, rig: rig, peers: alone{}}
	d.begin()
	t.Cleanup(func() { d.end() })
	return d
}

// begin starts reserving, on what is on record.
func (d *desk) begin() {
	d.Reserve = reserve.New(reserve.Config{Store: d.Store, Rack: d.Rack, Lending: d.peers, Ready: func(*keeper.Keeper) bool { return true }, Clock: d.Clock, Log: slog.New(slog.DiscardHandler), Lapse: time.Second, Away: time.Second})
	d.Choose(func(where string) (reserve.Choice, error) {
		return reserve.Choice{Own: func(k *keeper.Keeper) (bool, error) { return strings.HasPrefix(k.Device().Handle, where), nil },
			Far: func(reserve.Far) (bool, error) { return true, nil }}, nil
	})
	require.NoError(d.T, d.Read(d.T.Context()))
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		d.Run(ctx)
	}()
	d.end = sync.OnceFunc(func() { stop(); <-done })
}

func (d *desk) ask(count int) store.Reservation {
	d.T.Helper()
	r, err := d.Reserve.Ask(d.T.Context(), reserve.Request{Actor: "access/night", Title: "a test", Count: count, Long: time.Hour})
	require.NoError(d.T, err)
	return r
}

// active waits, as whoever has asked, until a reservation is active.
func (d *desk) active(id string) (r store.Reservation) {
	d.T.Helper()
	d.Eventually("the reservation is active", func() bool {
		var err error
		r, err = d.Heard(context.Background(), id, "access/night")
		return err == nil && r.State == store.ReservationActive
	})
	return r
}

func (d *desk) isOver(id string) store.Reservation {
	d.T.Helper()
	var r store.Reservation
	d.Eventually("the reservation has ended", func() (over bool) {
		r, _ = d.Store.Reservation(context.Background(), id)
		return r.Over()
	})
	return r
}

func TestTwentyRunsForSixDevicesAreServedInTheOrderOfAskingAndAllIsReturned(t *testing.T) {
	d := deskWith(t, 6)
	var mu sync.Mutex
	var began []int64
	has := map[string]int64{}
	var runs sync.WaitGroup
	for range 20 {
		r := d.ask(1 + rand.IntN(3))
		runs.Go(func() {
			for r.State != store.ReservationActive {
				time.Sleep(5 * time.Millisecond)
				var err error
				if r, err = d.Heard(context.Background(), r.ID, "access/night"); err != nil {
					t.Error(err)
					return
				}
			}
			mu.Lock()
			began = append(began, r.Number)
			for _, one := range r.Devices {
				if other := has[one.Handle]; other != 0 {
					t.Errorf("%s is with %d and %d", one.Handle, other, r.Number)
				}
				has[one.Handle] = r.Number
			}
			mu.Unlock()
			time.Sleep(time.Duration(20+rand.IntN(60)) * time.Millisecond)
			mu.Lock()
			for _, one := range r.Devices {
				delete(has, one.Handle)
			}
			mu.Unlock()
			if _, err := d.Reserve.End(context.Background(), r.ID, "access/night", "done"); err != nil {
				t.Error(err)
			}
		})
	}
	runs.Wait()
	require.Len(t, began, 20)
	all, err := d.List(t.Context())
	require.NoError(t, err)
	for i, r := range all[:len(all)-1] { // the last one first
		require.Equal(t, r.Number-1, all[i+1].Number)
		require.False(t, r.Began.Before(all[i+1].Began), "%d began before %d", r.Number, all[i+1].Number)
	}
	for _, k := range d.Rack.All() {
		require.Empty(t, k.Reserved())
	}
}

func TestWhoNeedsSeveralIsNotOvertaken(t *testing.T) {
	d := deskWith(t, 2)
	first := d.active(d.ask(1).ID)
	both := d.ask(2)
	one := d.ask(1)
	time.Sleep(500 * time.Millisecond)
	w, err := d.Heard(t.Context(), one.ID, "access/night")
	require.NoError(t, err)
	require.Equal(t, store.ReservationWaiting, w.State, "the second device waits for whoever needs two")
	require.Equal(t, 2, d.Place(one.ID))
	_, err = d.Reserve.End(t.Context(), first.ID, "access/night", "done")
	require.NoError(t, err)
	require.Len(t, d.active(both.ID).Devices, 2)
}

func TestWhoNeedsMoreThanThereAreHoldsNobodyUp(t *testing.T) {
	d := deskWith(t, 2)
	many := d.ask(3)
	require.Len(t, d.active(d.ask(2).ID).Devices, 2)
	r, err := d.Heard(t.Context(), many.ID, "access/night")
	require.NoError(t, err)
	require.Equal(t, "2 devices are available, 3 needed", r.Reason)
}

func TestAReservedDeviceIsForItsRunAlone(t *testing.T) {
	d := deskWith(t, 1)
	k := d.Rack.All()[0]
	r := d.active(d.ask(1).ID)
	_, err := k.Lease(t.Context(), "try an app", keeper.Exclusive)
	require.ErrorContains(t, err, "is reserved: by access/night for a test")
	_, err = k.Lease(job.Reserved(t.Context(), "another"), "try an app", keeper.Exclusive)
	require.ErrorContains(t, err, "is reserved")
	release, err := k.Lease(job.Reserved(t.Context(), r.ID), "try an app", keeper.Exclusive)
	require.NoError(t, err)
	release()
	release, err = k.Lease(t.Context(), "look at its screen", keeper.Shared)
	require.NoError(t, err, "looking disturbs nobody")
	release()
	require.NoError(t, d.Under(r.ID, "access/night"))
	require.Equal(t, problem.Gone, problem.KindOf(d.Under(r.ID, "access/other")), "it is not theirs")
	_, err = d.Reserve.End(t.Context(), r.ID, "access/other", "")
	require.Equal(t, problem.NotFound, problem.KindOf(err))
	_, err = d.Reserve.End(t.Context(), r.ID, "access/night", "done")
	require.NoError(t, err)
	require.Equal(t, problem.Gone, problem.KindOf(d.Under(r.ID, "access/night")), "it has ended")
}

func TestADeviceThatWorksIsReservedOnceItsWorkHasEnded(t *testing.T) {
	d := deskWith(t, 1)
	release, err := d.Rack.All()[0].Lease(t.Context(), "try an app", keeper.Exclusive)
	require.NoError(t, err)
	r := d.ask(1)
	d.Eventually("it is said what it waits for", func() bool {
		r, err = d.Heard(context.Background(), r.ID, "access/night")
		return err == nil && r.Reason == "no device is free, 1 needed"
	})
	require.Equal(t, store.ReservationWaiting, r.State)
	release()
	d.active(r.ID)
}

func TestARunThatIsNotHeardOfGivesAllBack(t *testing.T) {
	d := deskWith(t, 1)
	r := d.active(d.ask(1).ID)
	require.Equal(t, "nothing was heard from its command any more", d.isOver(r.ID).Reason)
	d.Eventually("the device is free", func() bool { return d.Rack.All()[0].Reserved() == "" })
	over, err := d.Heard(t.Context(), r.ID, "access/night")
	require.NoError(t, err, "who comes back late learns it")
	require.Equal(t, store.ReservationEnded, over.State)
}

func TestReservationsEndInTime(t *testing.T) {
	d := deskWith(t, 1)
	r := d.active(d.ask(1).ID)
	d.Clock.Move(time.Hour)
	require.Equal(t, "its time is up", d.isOver(r.ID).Reason)
	d.Clock.Move(-2 * time.Hour)
	w, err := d.Reserve.Ask(t.Context(), reserve.Request{Actor: "access/night", Title: "a test", Where: "moth", Count: 1, Long: time.Hour, Within: time.Second})
	require.NoError(t, err)
	d.Eventually("it is given up", func() bool {
		w, err = d.Heard(context.Background(), w.ID, "access/night")
		return err == nil && w.State == store.ReservationEnded
	})
	require.Equal(t, "no device is available, 1 needed", w.Reason)
	require.Greater(t, w.Number, r.Number, "the order does not depend on the clock")
}

func TestReservationsGoOnWithTheNextService(t *testing.T) {
	d := deskWith(t, 2)
	had := d.active(d.ask(1).ID)
	waits := d.ask(2)
	d.end() // the service is gone, and with it what it had in memory
	for _, k := range d.Rack.All() {
		release, err := k.Reserve(had.ID, "", true)
		require.NoError(t, err)
		release()
	}
	d.begin()
	again := d.active(had.ID)
	require.Equal(t, had.Devices, again.Devices)
	_, err := d.Rack.All()[0].Lease(t.Context(), "try an app", keeper.Exclusive)
	require.Error(t, err, "the one is reserved still, the other one is kept for whoever waits or free")
	_, err = d.Reserve.End(t.Context(), had.ID, "access/night", "done")
	require.NoError(t, err)
	require.Len(t, d.active(waits.ID).Devices, 2)
}

func TestADeviceThatIsPulledIsLostAndToldApart(t *testing.T) {
	d := deskWith(t, 2)
	r := d.active(d.ask(2).ID)
	pulled := r.Devices[0].Handle
	k, err := d.Rack.Find(pulled)
	require.NoError(t, err)
	name := map[string]string{}
	for i := range 2 {
		name[fmt.Sprintf("HH4 0100 %04d", i)] = fmt.Sprint("heron-", i+1)
	}
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodPull, standin.Steer{Body: name[k.Device().Serial]}))
	d.Eventually("it is away", func() bool {
		r, err = d.Heard(context.Background(), r.ID, "access/night")
		return err == nil && len(d.Away(r)) == 1
	})
	require.Empty(t, r.Devices[0].Lost, "a cable that is pulled may be plugged in again")
	d.Eventually("it is lost", func() bool {
		r, err = d.Heard(context.Background(), r.ID, "access/night")
		return err == nil && r.Devices[0].Lost != ""
	})
	require.Equal(t, "it cannot be reached any more", r.Devices[0].Lost)
	require.Empty(t, r.Devices[1].Lost)
	require.Equal(t, store.ReservationActive, r.State, "whoever has it decides what becomes of the other one")
}

func TestADeviceThatWillNotDoIsReplaced(t *testing.T) {
	d := deskWith(t, 2)
	r := d.active(d.ask(1).ID)
	first := r.Devices[0].Handle
	_, err := d.PutAside(t.Context(), r.ID, "access/night", "heron-99", "")
	require.Equal(t, problem.NotFound, problem.KindOf(err))
	r, err = d.PutAside(t.Context(), r.ID, "access/night", first, "it needs hands")
	require.NoError(t, err)
	require.Equal(t, store.ReservationWaiting, r.State)
	r = d.active(r.ID)
	require.NotEqual(t, first, r.Devices[0].Handle)
	_, err = d.PutAside(t.Context(), r.ID, "access/night", r.Devices[0].Handle, "it needs hands, too")
	require.NoError(t, err)
	d.Eventually("it is said why nothing is left", func() bool {
		r, err = d.Heard(context.Background(), r.ID, "access/night")
		return err == nil && strings.Contains(r.Reason, "it needs hands")
	})
}

func TestWhoWaitsForABorrowedDeviceIsToldWhatIsMissing(t *testing.T) {
	d := deskWith(t, 0)
	d.end()
	lends := make(chan struct{})
	d.peers = late{lends: lends}
	d.begin()
	r, err := d.Reserve.Ask(t.Context(), reserve.Request{Actor: "access/night", Title: "a test", Count: 1, Long: time.Hour, Peers: true})
	require.NoError(t, err)
	says := func(why string) {
		t.Helper()
		d.Eventually(why, func() bool {
			now, err := d.Heard(context.Background(), r.ID, "access/night")
			return err == nil && now.State == store.ReservationWaiting && now.Reason == why
		})
	}
	says("harbour-desk has not lent heron-9 yet")
	close(lends)
	says("heron-9 of harbour-desk is not reached yet")
}

func TestWhatCannotBeReservedIsRefused(t *testing.T) {
	d := deskWith(t, 1)
	for name, change := range map[string]func(*reserve.Request){
		"none":      func(r *reserve.Request) { r.Count = 0 },
		"too many":  func(r *reserve.Request) { r.Count = 51 },
		"too short": func(r *reserve.Request) { r.Long = time.Second },
		"too long":  func(r *reserve.Request) { r.Long = 25 * time.Hour },
		"waits on":  func(r *reserve.Request) { r.Within = 25 * time.Hour },
		"backwards": func(r *reserve.Request) { r.Within = -time.Second },
	} {
		t.Run(name, func(t *testing.T) {
			q := reserve.Request{Actor: "access/night", Title: "a test", Count: 1, Long: time.Hour}
			change(&q)
			_, err := d.Reserve.Ask(t.Context(), q)
			require.Equal(t, problem.Invalid, problem.KindOf(err))
		})
	}
	all, err := d.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, all)
}

// Package reserve keeps devices for runs of commands: those of this bench, and those that peers lend it. Whoever asked
// first is served first, and everything is returned when the run ends or is not heard from any more.
package reserve

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Far is a device on a peer's rack.
type Far struct {
	Peer   string
	Device peer.Device
}

// Choice tells which devices an expression chooses.
type Choice struct {
	Own func(*keeper.Keeper) (bool, error)
	Far func(Far) (bool, error)
}

// Lending borrows devices of peers.
type Lending interface {
	// Free are the devices of connected peers that this bench may use and that nobody has.
	Free() []Far
	// Borrow asks for one. It is returned if this bench is not connected for longer than lapse.
	Borrow(ctx context.Context, far Far, long, lapse time.Duration) (store.Loan, error)
	// Loan is a loan as it is now, or as it was when it ended.
	Loan(ctx context.Context, id string) (store.Loan, error)
	Return(ctx context.Context, id string) error
}

// Config is what reserving needs. All fields are needed.
type Config struct {
	Store   *store.Store
	Rack    *rack.Rack
	Lending Lending
	// Ready reports whether a device needs nothing.
	Ready func(*keeper.Keeper) bool
	Clock clock.Clock
	Log   *slog.Logger
	// Lapse is how long a run may be silent, and Away how long a device may be away before it is lost; 0 stands
	// for 30 seconds, a little more than a bench takes to restart.
	Lapse, Away time.Duration
}

// Bounds.
const (
	usualLapse = 30 * time.Second
	longest    = 24 * time.Hour
	mostOpen   = 200
	most       = 50 // devices of one reservation
)

// Reserve keeps reservations. It is made by New, and works while Run runs.
type Reserve struct {
	cfg Config

	mu      sync.Mutex
	choose  func(where string) (Choice, error) // nil: nothing is given to anybody yet
	all     map[string]*reservation            // that have not ended, by id
	changed chan struct{}                      // closed and replaced at every change
	closed  bool                               // Run ends
	work    sync.WaitGroup
}

// reservation is one that has not ended.
type reservation struct {
	changing sync.Mutex // held while the record is changed, before the lock of all

	store.Reservation
	choice   *Choice
	heard    time.Time            // when whoever asked for it was heard last, by the monotonic clock
	since    time.Time            // when it was asked for, or taken up again, by the monotonic clock
	release  map[string]func()    // of devices, by their ids
	away     map[string]time.Time // since when a device is not reached, by its id
	coming   map[string]time.Time // since when a device of a peer is awaited, by its loan
	fetching bool                 // devices of peers are being borrowed for it
}

// New makes it. Nothing runs before Run.
func New(cfg Config) *Reserve {
	cfg.Lapse, cfg.Away = cmp.Or(cfg.Lapse, usualLapse), cmp.Or(cfg.Away, usualLapse)
	return &Reserve{cfg: cfg, all: map[string]*reservation{}, changed: make(chan struct{})}
}

// Choose sets the function that evaluates expressions. No device is reserved before.
func (r *Reserve) Choose(f func(where string) (Choice, error)) {
	r.mu.Lock()
	r.choose = f
	r.mu.Unlock()
	r.tell()
}

// chosen reads an expression.
func (r *Reserve) chosen(where string) (Choice, error) {
	r.mu.Lock()
	choose := r.choose
	r.mu.Unlock()
	if choose == nil {
		return Choice{}, problem.New(problem.Unavailable, "the bench is starting")
	}
	return choose(where)
}

func newReservation(of store.Reservation) *reservation {
	now := time.Now()
	return &reservation{Reservation: of, heard: now, since: now, release: map[string]func(){}, away: map[string]time.Time{}, coming: map[string]time.Time{}}
}

// Read takes up the reservations that are on record. It is called once, after the devices were read and before Run.
func (r *Reserve) Read(ctx context.Context) error {
	all, err := r.cfg.Store.OpenReservations(ctx)
	if err != nil {
		return fmt.Errorf("read the reservations: %w", err)
	}
	for _, of := range all {
		one := newReservation(of)
		r.all[of.ID] = one
		for _, d := range of.Devices {
			if k := r.cfg.Rack.ByID(d.Device); k != nil && d.Lost == "" {
				if release, err := k.Reserve(of.ID, titleOf(of), true); err == nil {
					one.release[d.Device] = release
				}
			}
		}
	}
	return nil
}

// titleOf says what a device is reserved for.
func titleOf(r store.Reservation) string { return fmt.Sprintf("by %s for %s", r.Actor, r.Title) }

// Request is what is asked for.
type Request struct {
	Actor, Title, Where string
	Count               int
	Peers               bool
	Long, Within        time.Duration
}

// Ask asks for devices. The caller must renew the reservation regularly, see [Reserve.Heard].
func (r *Reserve) Ask(ctx context.Context, n Request) (store.Reservation, error) {
	switch {
	case n.Count < 1 || n.Count > most:
		return store.Reservation{}, problem.Errorf(problem.Invalid, "from 1 to %d devices can be reserved, not %d", most, n.Count)
	case n.Long < time.Minute || n.Long > longest:
		return store.Reservation{}, problem.Errorf(problem.Invalid, "devices are reserved for a minute to %d hours", longest/time.Hour)
	case n.Within < 0 || n.Within > longest:
		return store.Reservation{}, problem.Errorf(problem.Invalid, "a reservation can wait for at most %d hours", longest/time.Hour)
	}
	choice, err := r.chosen(n.Where)
	if err != nil {
		return store.Reservation{}, err
	}
	r.mu.Lock()
	open := len(r.all)
	r.mu.Unlock()
	if open >= mostOpen {
		return store.Reservation{}, problem.Errorf(problem.Refused, "there are already %d open reservations", open)
	}
	one := newReservation(store.Reservation{ID: store.NewID(), State: store.ReservationWaiting, Actor: n.Actor, Title: plain.Cut(plain.Line(n.Title), 200), Where: n.Where, Count: n.Count, Peers: n.Peers,
		Seconds: int(n.Long / time.Second), Within: int(n.Within / time.Second), Asked: r.cfg.Clock.Now().UTC(), Devices: []store.ReservedDevice{}})
	one.choice = &choice
	if one.Number, err = r.cfg.Store.SaveReservation(context.WithoutCancel(ctx), one.Reservation); err != nil {
		return store.Reservation{}, fmt.Errorf("keep the reservation: %w", err)
	}
	r.mu.Lock()
	r.all[one.ID] = one
	out := one.Reservation
	r.mu.Unlock()
	r.tell()
	return out, nil
}

// find is an open reservation, of the actor if one is given.
func (r *Reserve) find(id, actor string) (*reservation, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	one := r.all[id]
	if one == nil || one.Over() || actor != "" && one.Actor != actor {
		return nil, noReservation(id)
	}
	return one, nil
}

func noReservation(id string) error {
	return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("There is no reservation %.60q of yours, or it has ended.", id), Remedy: "List them: earlybench reservation"}
}

// Heard renews a reservation, and returns it.
func (r *Reserve) Heard(ctx context.Context, id, actor string) (store.Reservation, error) {
	one, err := r.find(id, actor)
	if err != nil {
		if over, serr := r.cfg.Store.Reservation(ctx, id); serr == nil && over.Actor == actor {
			return over, nil
		}
		return store.Reservation{}, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	one.heard = time.Now()
	return one.copy(), nil
}

// Under returns an error unless work of an actor may be done under a reservation.
func (r *Reserve) Under(id, actor string) error {
	if _, err := r.find(id, actor); err != nil {
		return &problem.Problem{Kind: problem.Gone, Text: "The reservation for this has ended, or is not yours.", Remedy: "Reserve devices again: earlybench with"}
	}
	return nil
}

// PutAside releases a device that is not suitable, so that another one is waited for.
func (r *Reserve) PutAside(ctx context.Context, id, actor, handle, why string) (store.Reservation, error) {
	one, err := r.find(id, actor)
	if err != nil {
		return store.Reservation{}, err
	}
	var gone store.ReservedDevice
	err = r.change(ctx, one, func(s *store.Reservation) bool {
		i := slices.IndexFunc(s.Devices, func(d store.ReservedDevice) bool { return d.Handle == handle })
		if i < 0 {
			return false
		}
		gone = s.Devices[i]
		s.Devices = slices.Delete(slices.Clone(s.Devices), i, i+1)
		s.Aside = maps.Clone(s.Aside)
		if s.Aside == nil {
			s.Aside = map[string]string{}
		}
		s.Aside[keyOf(gone)] = why
		s.State, s.Began, s.Ends = store.ReservationWaiting, time.Time{}, time.Time{}
		return true
	})
	if err != nil {
		return store.Reservation{}, err
	}
	if gone.Handle == "" {
		return store.Reservation{}, problem.Errorf(problem.NotFound, "%.60q is not reserved here", handle)
	}
	r.let(one, gone)
	r.mu.Lock()
	defer r.mu.Unlock()
	return one.copy(), nil
}

// keyOf names a device for a reservation's list of unsuitable ones.
func keyOf(d store.ReservedDevice) string {
	if d.Peer != "" {
		return d.Peer + "/" + d.Handle
	}
	return d.Device
}

// End ends a reservation and gives its devices back; actor "" is anybody.
func (r *Reserve) End(ctx context.Context, id, actor, why string) (store.Reservation, error) {
	one, err := r.find(id, actor)
	if err != nil {
		return store.Reservation{}, err
	}
	if err := r.finish(ctx, one, why); err != nil {
		return store.Reservation{}, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return one.copy(), nil
}

// List returns those that have not ended, in the order of asking, and after them those that ended last.
func (r *Reserve) List(ctx context.Context) ([]store.Reservation, error) {
	var out []store.Reservation
	r.mu.Lock()
	for _, one := range r.sorted() {
		out = append(out, one.copy())
	}
	r.mu.Unlock()
	ended, err := r.cfg.Store.EndedReservations(ctx, 50)
	return append(out, ended...), err
}

// copy is the record; the lock is held.
func (one *reservation) copy() store.Reservation {
	out := one.Reservation
	out.Devices = slices.Clone(out.Devices)
	out.Aside = maps.Clone(out.Aside)
	return out
}

// sorted are all in the order of asking; the lock is held.
func (r *Reserve) sorted() []*reservation {
	return slices.SortedFunc(maps.Values(r.all), func(a, b *reservation) int { return cmp.Compare(a.Number, b.Number) })
}

// Place is the place of one that waits among those that wait, from 1; 0 if it does not.
func (r *Reserve) Place(id string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	place := 0
	for _, one := range r.sorted() {
		if one.State == store.ReservationWaiting {
			place++
		}
		if one.ID == id && one.State == store.ReservationWaiting {
			return place
		}
	}
	return 0
}

// change changes a reservation, first on disk. f gets the saved one, and returns false to leave it.
func (r *Reserve) change(ctx context.Context, one *reservation, f func(*store.Reservation) bool) error {
	one.changing.Lock()
	defer one.changing.Unlock()
	r.mu.Lock()
	next := one.copy()
	r.mu.Unlock()
	if next.Over() || !f(&next) {
		return nil
	}
	if _, err := r.cfg.Store.SaveReservation(context.WithoutCancel(ctx), next); err != nil {
		return fmt.Errorf("keep the reservation: %w", err)
	}
	r.mu.Lock()
	one.Reservation = next
	if next.Over() {
		delete(r.all, next.ID)
	}
	r.mu.Unlock()
	r.tell()
	return nil
}

// tell wakes Run and those who wait for a change.
func (r *Reserve) tell() {
	r.mu.Lock()
	defer r.mu.Unlock()
	close(r.changed)
	r.changed = make(chan struct{})
}

// Touch makes everything be checked again. It does not block.
func (r *Reserve) Touch() { r.tell() }

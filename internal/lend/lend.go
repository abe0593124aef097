// Package lend lends this bench's devices to peers, and borrows theirs (docs/formats/peer.md). A borrower's link is
// end to end with the device, which enforces the end of the loan and its rights; the lender passes the bytes on.
package lend

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/strict"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/rawusb"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what lending and borrowing need. All fields are needed.
type Config struct {
	Store   *store.Store
	Peers   *peer.Peers
	Rack    *rack.Rack
	Outlook *outlook.Outlook
	// Reach connects to a borrowed device until end is called.
	Reach func(k *keeper.Keeper, b *Borrowed) (end func())
	// TakeUSB takes the USB of a device that is connected by cable from whoever has it here, for by.
	TakeUSB func(ctx context.Context, k *keeper.Keeper, by string) (rawusb.Taken, error)
	// EpochFile stores the epoch of loans. It is not part of backups.
	EpochFile string
	Clock     clock.Clock
	Log       *slog.Logger
}

// Lend lends and borrows. It is made by New, and works while Run runs.
type Lend struct {
	cfg   Config
	ctx   context.Context
	end   context.CancelFunc
	work  sync.WaitGroup
	epoch uint64

	mu       sync.Mutex
	loans    map[string]*loan   // that are not over, by id
	over     []store.Loan       // that have ended in the last hour
	devices  map[string]*worker // of devices that are lent, by id
	far      map[string]*far    // what peers show, by name
	changed  chan struct{}      // closed and replaced at every change
	borrowed map[string]*taken  // devices that are borrowed and reached, by loan
}

// loan is a loan that is not over.
type loan struct {
	of       store.Loan // as it was asked for; of it is read only what never changes
	changing sync.Mutex // held while the record is changed, before the lock of all

	store.Loan                    // as it is on record
	release    func()             // the lease on the device; nil: none is held
	streams    map[string]*stream // of the borrower, by their numbers
	settled    device.Session     // the session with the device on which the borrower was let in last; nil: none
	again      time.Time          // not before that it is tried again what has failed
	asking     bool               // it is being asked for
	answered   time.Time          // when that was answered; zero before
	telling    bool               // its lender is being told that it was returned
	away       time.Time          // since when the borrower is not connected; zero while it is
	usb        *rawusb.Lent       // of an exclusive loan, while its borrower may have it; nil: it is this bench's
	usbAt      string             // where the USB of a borrowed device is offered here
	usbID      string             // its bus id there
}

func newLoan(r store.Loan) *loan { return &loan{of: r, Loan: r, streams: map[string]*stream{}} }

// New makes it. Nothing runs before Run.
func New(cfg Config) *Lend {
	l := &Lend{cfg: cfg, loans: map[string]*loan{}, devices: map[string]*worker{}, far: map[string]*far{}, changed: make(chan struct{}), borrowed: map[string]*taken{}}
	l.ctx, l.end = context.WithCancel(context.Background())
	return l
}

// Read reads the loans that are on record. It is called once, after the devices were read and before Run.
func (l *Lend) Read(ctx context.Context) error {
	var err error
	if l.epoch, err = readEpoch(l.cfg.EpochFile); err != nil {
		return fmt.Errorf("read the epoch of what is lent: %w", err)
	}
	all, err := l.cfg.Store.OpenLoans(ctx)
	if err != nil {
		return fmt.Errorf("read the loans: %w", err)
	}
	for _, r := range all {
		if r.Lent && r.Epoch != l.epoch && r.State == store.LoanActive {
			r.State, r.Reason = store.LoanReturning, "the records of its lender were restored from a backup"
		}
		l.loans[r.ID] = newLoan(r)
	}
	return nil
}

// readEpoch reads the epoch, or begins a new one.
func readEpoch(file string) (uint64, error) {
	raw, err := os.ReadFile(file)
	if err == nil {
		if n, err := strconv.ParseUint(strings.TrimSpace(string(raw)), 10, 64); err == nil && n > 0 {
			return n, nil
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	var random [8]byte
	_, _ = rand.Read(random[:]) // it never fails
	n := binary.BigEndian.Uint64(random[:])>>12 | 1
	return n, os.WriteFile(file, []byte(strconv.FormatUint(n, 10)+"\n"), 0o600)
}

// Run lends and borrows until ctx ends.
func (l *Lend) Run(ctx context.Context) {
	defer l.Close()
	l.work.Go(l.followPeers)
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		changed := l.nextChange()
		l.look()
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-changed:
			if clock.Sleep(ctx, clock.System{}, 20*time.Millisecond) != nil { // of many changes one is looked at
				return
			}
		}
	}
}

// Close ends the work, not the loans: they continue when the bench runs again.
func (l *Lend) Close() {
	l.end()
	l.mu.Lock()
	for _, one := range l.loans {
		for _, s := range one.streams {
			s.Close()
		}
	}
	for _, b := range l.borrowed {
		b.end()
	}
	all := slices.Collect(maps.Values(l.loans))
	l.mu.Unlock()
	for _, one := range all {
		l.releaseUSB(one)
	}
	l.work.Wait()
}

// Touch makes the loans of a device be checked again. It does not block.
func (l *Lend) Touch() { l.tell() }

// tell wakes those who wait for a change.
func (l *Lend) tell() {
	l.mu.Lock()
	defer l.mu.Unlock()
	close(l.changed)
	l.changed = make(chan struct{})
}

func (l *Lend) nextChange() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.changed
}

// look takes care of each device that has loans.
func (l *Lend) look() {
	l.mu.Lock()
	ids := map[string]bool{}
	for _, one := range l.loans {
		if one.of.Lent {
			ids[one.of.Device] = true
		}
	}
	l.mu.Unlock()
	for id := range ids {
		l.lookAfter(id)
	}
	l.lookOver()
	l.lookBorrowed()
}

// worker looks after the loans of one device, one thing after the other.
type worker struct {
	again bool
}

// lookAfter takes care of a device's loans in its own goroutine, since it may be slow.
func (l *Lend) lookAfter(device string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if w := l.devices[device]; w != nil {
		w.again = true
		return
	}
	if l.ctx.Err() != nil {
		return
	}
	w := &worker{}
	l.devices[device] = w
	l.work.Go(func() {
		for {
			l.settle(l.ctx, device)
			l.mu.Lock()
			if !w.again || l.ctx.Err() != nil {
				delete(l.devices, device)
				l.mu.Unlock()
				return
			}
			w.again = false
			l.mu.Unlock()
		}
	})
}

// change changes a loan, first on disk. f gets the saved loan, and returns false to leave it.
func (l *Lend) change(ctx context.Context, one *loan, f func(*store.Loan) bool) error {
	one.changing.Lock()
	defer one.changing.Unlock()
	l.mu.Lock()
	next := one.Loan
	l.mu.Unlock()
	if next.Over() || !f(&next) {
		return nil
	}
	if err := l.cfg.Store.SaveLoan(context.WithoutCancel(ctx), next); err != nil {
		return fmt.Errorf("keep the loan of %s: %w", next.Handle, err)
	}
	l.mu.Lock()
	one.Loan = next
	if next.Over() {
		delete(l.loans, next.ID)
		l.over = append(slices.DeleteFunc(l.over, func(o store.Loan) bool { return l.cfg.Clock.Now().Sub(o.Ended) > time.Hour }), next)
	}
	l.mu.Unlock()
	l.tell()
	return nil
}

// List returns the loans that are not over, in the order in which they were asked for, and after them those that
// ended last.
func (l *Lend) List(ctx context.Context) ([]store.Loan, error) {
	l.mu.Lock()
	var out []store.Loan
	for _, one := range l.loans {
		out = append(out, one.counted())
	}
	l.mu.Unlock()
	slices.SortFunc(out, func(a, b store.Loan) int {
		if d := a.Asked.Compare(b.Asked); d != 0 {
			return d
		}
		return strings.Compare(a.ID, b.ID)
	})
	ended, err := l.cfg.Store.EndedLoans(ctx, 50)
	return append(out, ended...), err
}

// Loan is a loan as it is now, or as it was when it ended.
func (l *Lend) Loan(ctx context.Context, id string) (store.Loan, error) {
	l.mu.Lock()
	one := l.loans[id]
	l.mu.Unlock()
	if one != nil {
		return l.record(one), nil
	}
	return l.cfg.Store.Loan(ctx, id)
}

// counted is the loan with the bytes of open streams. The lock is held.
func (one *loan) counted() store.Loan {
	r := one.Loan
	for _, s := range one.streams {
		r.In, r.Out = r.In+s.in.Load(), r.Out+s.out.Load()
	}
	return r
}

// decode reads the parameters of a request.
func decode[T any](params json.RawMessage) (T, error) {
	var v T
	if err := strict.JSON(params, &v); err != nil {
		return v, problem.Errorf(problem.Invalid, "the request cannot be read: %w", err)
	}
	return v, nil
}

// Call answers a peer.
func (l *Lend) Call(ctx context.Context, from store.Peer, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	switch method {
	case core.MethodDevices:
		return nil, l.show(ctx, from, notify)
	case core.MethodLoanStart:
		s, err := decode[core.StartLoan](params)
		if err != nil {
			return nil, err
		}
		return l.start(ctx, from, s)
	case core.MethodLoanEnd:
		r, err := decode[core.LoanRef](params)
		if err != nil {
			return nil, err
		}
		return nil, l.returned(ctx, from, r.Loan)
	case core.MethodLoanExtend:
		r, err := decode[core.LoanRef](params)
		if err != nil {
			return nil, err
		}
		return l.extend(ctx, from, r)
	}
	if method == core.MethodHandsAsk || method == core.MethodHandsWithdraw {
		return l.callForHands(ctx, from, method, params)
	}
	return nil, problem.Errorf(problem.Unsupported, "this bench does not know %.60q", method)
}

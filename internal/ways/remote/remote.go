// Package remote implements the way to a device that a peer lends: the device link over a stream that the peer forwards
// (docs/formats/peer.md). Who is reached is decided by the device key alone.
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/ways"
)

// Config is what the way needs. All fields are needed.
type Config struct {
	Key   ssh.Signer // the bench's link key, which the lender lets in on the device
	Clock clock.Clock
	Log   *slog.Logger
}

// Loan is what lends a device to this bench.
type Loan interface {
	// Peer is the lender, Handle the device's on its rack.
	Peer() string
	Handle() string
	// Open opens a stream to the device.
	Open(ctx context.Context) (io.ReadWriteCloser, error)
	// Now is when the loan ends, why its lender does not reach the device, "" while it does, what hands over there have to do
	// then, and a channel that is closed when any of it may have changed.
	Now() (ends time.Time, away, step string, changed <-chan struct{})
	// Why is why it has ended; "" while it lasts.
	Why() string
}

// Way is the way to one borrowed device, as long as it is borrowed.
type Way struct {
	cfg    Config
	keeper *keeper.Keeper
	scope  string
	loan   Loan
	over   chan struct{} // closed by End
	again  chan struct{} // it is worth another attempt
	once   sync.Once
}

var counted atomic.Int64

// Reach connects to a borrowed device until end is called.
func Reach(cfg Config, k *keeper.Keeper, l Loan) (end func()) {
	w := &Way{cfg: cfg, keeper: k, loan: l, scope: fmt.Sprintf("remote:%s/%d", k.Device().ID, counted.Add(1)), over: make(chan struct{}), again: make(chan struct{}, 1)}
	k.Reach(w)
	return func() { w.once.Do(func() { close(w.over) }) }
}

// Kind is remote.
func (w *Way) Kind() ways.Kind { return ways.Remote }

// Place is the peer, and the device's handle there.
func (w *Way) Place() ways.Place { return ways.Place{Port: w.loan.Handle() + " of " + w.loan.Peer()} }

// Scope is that of the loan, while this bench runs.
func (w *Way) Scope() string { return w.scope }

// Pins is false: the peer has reported the key.
func (w *Way) Pins() bool { return false }

const (
	firstPause = 500 * time.Millisecond
	mostPause  = 10 * time.Second
	steady     = 10 * time.Second // a link that lasted this long was a good one
	openWithin = 20 * time.Second
	linkWithin = 30 * time.Second
)

// Run keeps a link to the device until the loan has ended.
func (w *Way) Run(ctx context.Context, to ways.Sink) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var work sync.WaitGroup
	defer work.Wait()
	defer cancel()
	work.Go(func() {
		defer cancel()
		w.observe(ctx, to)
	})
	said := ""
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		began := time.Now()
		err := w.attempt(ctx, to)
		if ctx.Err() != nil {
			return nil
		}
		if errors.Is(err, ways.ErrMoved) {
			return err
		}
		if time.Since(began) > steady {
			pause, said = firstPause, ""
		}
		if err != nil {
			to.Down(err)
			if said != err.Error() {
				said = err.Error()
				w.cfg.Log.Info("link to a borrowed device", "device", w.keeper.Device().Handle, "error", err)
			}
		}
		t := time.NewTimer(pause)
		if _, changed := errors.AsType[*device.KeyChanged](err); changed { // nothing is tried again before another key was pinned
			t.Stop()
		}
		select {
		case <-ctx.Done():
		case <-t.C:
		case <-to.Retry():
			pause = firstPause
		case <-w.again:
			pause = firstPause
		}
		t.Stop()
	}
	return nil
}

// observe observes that the device is lent, until when, and whether its lender reaches it, until the loan has ended.
func (w *Way) observe(ctx context.Context, to ways.Sink) {
	seen := func(k fact.Key, v fact.Value) fact.Fact {
		return fact.Fact{Key: k, Value: v, Source: fact.Host, At: w.cfg.Clock.Now()}
	}
	to.Observe(seen(fact.LoanSeen, fact.Of(true)), seen(fact.LoanOf, fact.Of(w.loan.Peer())))
	var known time.Time
	wasAway, wasStep := "?", "?"
	for {
		at, away, step, changed := w.loan.Now()
		if !at.Equal(known) {
			known = at
			to.Observe(seen(fact.LoanEnds, fact.Of(at)))
		}
		if away != wasAway || step != wasStep {
			if wasAway, wasStep = away, step; away == "" {
				select {
				case w.again <- struct{}{}:
				default:
				}
			}
			to.Observe(seen(fact.LoanAway, fact.Of(away)), seen(fact.LoanStep, fact.Of(step)))
		}
		select {
		case <-ctx.Done():
			return
		case <-w.over:
			return
		case <-changed:
		}
	}
}

// attempt links to the device, and uses the session until it ends.
func (w *Way) attempt(ctx context.Context, to ways.Sink) error {
	opening, opened := context.WithTimeout(ctx, openWithin)
	stream, err := w.loan.Open(opening)
	opened()
	if err != nil {
		return fmt.Errorf("%s does not reach it: %s", w.loan.Peer(), line(err))
	}
	linking, linked := context.WithTimeout(ctx, linkWithin)
	s, err := link.Dial(linking, link.Conn(stream), w.cfg.Key, func(key string) error {
		if err := device.Pinned(w.keeper.Device().Key)(key); err != nil {
			return err
		}
		return to.Proven(ctx, key)
	})
	linked()
	if err != nil {
		stream.Close()
		if _, changed := errors.AsType[*device.KeyChanged](err); changed || errors.Is(err, ways.ErrMoved) {
			return err
		}
		return fmt.Errorf("it could not be reached through %s: %s", w.loan.Peer(), line(err))
	}
	defer s.Close()
	to.Up(s)
	select {
	case <-ctx.Done():
		if why := w.loan.Why(); why != "" {
			s.Ending("the loan has ended: " + why)
		}
		return nil
	case <-s.Done():
	}
	if _, err := stream.Read(make([]byte, 1)); err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrClosedPipe) {
		return fmt.Errorf("%s", line(err)) // the lender says why
	}
	return fmt.Errorf("the connection through %s has ended", w.loan.Peer())
}

func line(err error) string { return plain.Cut(plain.Line(err.Error()), 200) }

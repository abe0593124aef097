package lend

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds what a bench does with the devices of others.

// Borrow asks a peer for a device. The loan may wait until the device is free. With a lapse, from 5 seconds on, it ends
// once this bench has not been connected for that long.
func (l *Lend) Borrow(ctx context.Context, peer, handle, rights string, long, lapse time.Duration) (store.Loan, error) {
	return l.borrow(ctx, store.Loan{Peer: peer, Handle: handle, Rights: rights, Lapse: int(lapse / time.Second)}, long)
}

// borrow asks a peer for what a loan says.
func (l *Lend) borrow(ctx context.Context, r store.Loan, long time.Duration) (store.Loan, error) {
	peer, handle := r.Peer, r.Handle
	p, err := l.cfg.Peers.Find(peer)
	if err != nil {
		return store.Loan{}, err
	}
	if long < shortest || long > device.LongestLoan {
		return store.Loan{}, problem.Errorf(problem.Invalid, "a loan lasts from a minute to %d days", device.LongestLoan/(24*time.Hour))
	}
	// It is saved before it is asked for, so that this bench knows about every device that is lent to it.
	r.ID, r.State, r.Peer, r.PeerKey, r.Seconds, r.Asked = store.NewID(), store.LoanWaiting, p.Name, p.Key, int(long/time.Second), l.cfg.Clock.Now().UTC()
	one := newLoan(r)
	one.asking = true
	if err := l.cfg.Store.SaveLoan(context.WithoutCancel(ctx), one.of); err != nil {
		return store.Loan{}, fmt.Errorf("keep the loan: %w", err)
	}
	l.mu.Lock()
	l.loans[one.of.ID] = one
	l.mu.Unlock()
	var t core.Loan
	err = l.cfg.Peers.Ask(ctx, peer, core.MethodLoanStart, core.StartLoan{Device: handle, Rights: r.Rights, Seconds: r.Seconds, Lapse: r.Lapse, Exclusive: r.Exclusive}, &t)
	l.mu.Lock()
	one.asking, one.answered = false, time.Now()
	l.mu.Unlock()
	if pr, is := errors.AsType[*problem.Problem](err); is && pr.Remedy == "" {
		pr.Text = fmt.Sprintf("%s does not lend %s: %s.", peer, handle, pr.Text)
		pr.Remedy = "See what it offers: earlybench rack --peers"
	}
	if err != nil {
		l.mu.Lock()
		delete(l.loans, one.of.ID)
		l.mu.Unlock()
		l.warn(one, l.cfg.Store.DropLoan(context.WithoutCancel(ctx), one.of.ID))
		return store.Loan{}, err
	}
	if err := l.apply(one, t); err != nil {
		return store.Loan{}, err
	}
	l.lookBorrowed()
	return l.record(one), nil
}

// borrowedOne finds a loan of this bench by its id, or by the handle of its device here or there.
func (l *Lend) borrowedOne(name string) (*loan, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.loans {
		if one.of.Lent || one.State == store.LoanReturning {
			continue
		}
		own := ""
		if k := l.cfg.Rack.ByID(one.Device); k != nil {
			own = k.Device().Handle
		}
		if name == one.ID || name == own || own == "" && name == one.of.Handle {
			return one, nil
		}
	}
	return nil, noLoan(name)
}

// Extend extends a loan; the time counts from now.
func (l *Lend) Extend(ctx context.Context, name string, long time.Duration) (store.Loan, error) {
	one, err := l.borrowedOne(name)
	if err != nil {
		return store.Loan{}, err
	}
	r := l.record(one)
	var t core.Loan
	if err := l.cfg.Peers.Ask(ctx, r.Peer, core.MethodLoanExtend, core.LoanRef{Loan: r.Far, Seconds: int(long / time.Second)}, &t); err != nil {
		return store.Loan{}, err
	}
	if err := l.apply(one, t); err != nil {
		return store.Loan{}, err
	}
	return l.record(one), nil
}

// Return returns a borrowed device. A lender that is not connected learns of it later.
func (l *Lend) Return(ctx context.Context, name string) (store.Loan, error) {
	one, err := l.borrowedOne(name)
	if err != nil {
		return store.Loan{}, err
	}
	err = l.change(ctx, one, func(r *store.Loan) bool {
		r.State, r.Reason = store.LoanReturning, "it was returned"
		return true
	})
	if err != nil {
		return store.Loan{}, err
	}
	l.lookBorrowed()
	l.tellReturned(one)
	return l.record(one), nil
}

// tellReturned tells the lender that a device was given back.
func (l *Lend) tellReturned(one *loan) {
	r := l.record(one)
	ctx, cancel := context.WithTimeout(l.ctx, openWithin)
	defer cancel()
	err := l.cfg.Peers.Ask(ctx, r.Peer, core.MethodLoanEnd, core.LoanRef{Loan: r.Far}, nil)
	if err == nil || problem.KindOf(err) == problem.NotFound {
		l.warn(one, l.apply(one, core.Loan{State: string(store.LoanEnded), Reason: r.Reason}))
	}
}

// lookOver ends loans whose end the lender does not report, because it is no longer a peer, or is not connected and
// the time is up.
func (l *Lend) lookOver() {
	l.mu.Lock()
	over := map[*loan]string{}
	for _, one := range l.loans {
		if one.of.Lent {
			continue
		}
		_, known := l.cfg.Peers.ByKey(one.of.PeerKey)
		f := l.far[one.of.Peer]
		switch {
		case !known:
			over[one] = "its lender is no longer a peer"
		case one.Far == "" && !one.asking && f != nil && f.connected && l.cfg.Clock.Now().Sub(one.Asked) > time.Minute:
			over[one] = "it was not lent"
		case one.State == store.LoanActive && l.cfg.Clock.Now().After(one.Ends.Add(time.Minute)) && (f == nil || !f.connected):
			over[one] = "its time is up"
		}
	}
	l.mu.Unlock()
	for one, why := range over {
		l.warn(one, l.apply(one, core.Loan{State: string(store.LoanEnded), Reason: why}))
	}
	l.sendBack()
}

// sendBack returns what this bench has not asked for, or whose answer came too late; otherwise nobody could use it
// until its time is up.
func (l *Lend) sendBack() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, f := range l.far {
		for _, t := range f.loans.Loans {
			if !f.connected || t.State == string(store.LoanEnded) || f.sentBack[t.ID] || l.expects(name, t) || l.ctx.Err() != nil {
				continue
			}
			if len(f.sentBack) >= mostLoans {
				f.sentBack = nil
			}
			if f.sentBack == nil {
				f.sentBack = map[string]bool{}
			}
			f.sentBack[t.ID] = true
			l.work.Go(func() {
				ctx, cancel := context.WithTimeout(l.ctx, openWithin)
				defer cancel()
				if err := l.cfg.Peers.Ask(ctx, name, core.MethodLoanEnd, core.LoanRef{Loan: t.ID}, nil); err != nil && problem.KindOf(err) != problem.NotFound && l.ctx.Err() == nil {
					l.cfg.Log.Info("give back what was not asked for", "peer", name, "error", err)
				}
			})
		}
	}
}

// expects reports whether a loan is one of this bench's, or may be the answer to what it is asking for. The lock is held.
func (l *Lend) expects(peer string, t core.Loan) bool {
	for _, one := range l.loans {
		if !one.of.Lent && one.of.Peer == peer && (one.Far == t.ID || one.asking || one.Far == "" && one.of.Handle == t.Device) {
			return true
		}
	}
	return false
}

// lookBorrowed reaches exactly the devices that are borrowed now.
func (l *Lend) lookBorrowed() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ctx.Err() != nil {
		return
	}
	for id, one := range l.loans {
		active := !one.of.Lent && one.State == store.LoanActive && one.Key != "" && l.cfg.Clock.Now().Before(one.Ends.Add(time.Minute))
		if active && l.borrowed[id] == nil {
			t := &taken{end: func() {}}
			l.borrowed[id] = t
			if one.of.Exclusive {
				l.work.Go(func() { l.offer(one, t) })
			} else {
				l.work.Go(func() { l.reach(one, t) })
			}
		}
		if !one.of.Lent && one.State == store.LoanReturning {
			if f := l.far[one.of.Peer]; f != nil && f.connected && !one.telling {
				one.telling = true
				l.work.Go(func() {
					l.tellReturned(one)
					clock.Sleep(l.ctx, clock.System{}, time.Second) //nolint:errcheck // it ends then
					l.mu.Lock()
					one.telling = false
					l.mu.Unlock()
				})
			}
		}
	}
	for id, t := range l.borrowed {
		if one := l.loans[id]; one == nil || one.State != store.LoanActive {
			delete(l.borrowed, id)
			l.work.Go(func() { l.give(id, t) })
		}
	}
}

// reach puts a borrowed device on the rack, and connects to it.
func (l *Lend) reach(one *loan, t *taken) {
	r := l.record(one)
	k, made, err := l.onRack(one)
	if err != nil {
		l.warn(one, errors.Join(err, l.waits(l.ctx, one, "this bench cannot use it: "+err.Error())))
		clock.Sleep(l.ctx, clock.System{}, 10*time.Second) //nolint:errcheck // it ends then
		l.mu.Lock()
		if l.borrowed[r.ID] == t { // a sheet for it may be there next time
			delete(l.borrowed, r.ID)
		}
		l.mu.Unlock()
		return
	}
	err = l.change(l.ctx, one, func(r *store.Loan) bool {
		r.Device, r.Made = k.Device().ID, r.Made || made
		return true
	})
	l.warn(one, err)
	end := l.cfg.Reach(k, &Borrowed{l, one})
	l.mu.Lock()
	over := l.borrowed[r.ID] != t || l.ctx.Err() != nil
	if !over {
		t.end = end
	}
	l.mu.Unlock()
	if over { // it has ended meanwhile
		end()
		if made {
			l.forget(k.Device().ID)
		}
	}
}

// Borrowed is a borrowed device, as the way to it needs it.
type Borrowed struct {
	lend *Lend
	loan *loan
}

// Peer is the lender.
func (b *Borrowed) Peer() string { return b.loan.of.Peer }

// Handle is the device's on the lender's rack.
func (b *Borrowed) Handle() string { return b.loan.of.Handle }

// Open opens a stream to the device.
func (b *Borrowed) Open(ctx context.Context) (io.ReadWriteCloser, error) {
	return b.lend.open(ctx, b.loan.of.Peer, b.lend.record(b.loan).Far)
}

// Now returns when the loan ends, why its lender cannot reach the device, what hands there have to do then, and a channel
// that is closed when any of it may have changed.
func (b *Borrowed) Now() (ends time.Time, away, step string, changed <-chan struct{}) {
	changed = b.lend.nextChange()
	r := b.lend.record(b.loan)
	return r.Ends, r.Away, r.Step, changed
}

// Why is why the loan has ended; "" while it lasts.
func (b *Borrowed) Why() string {
	if r := b.lend.record(b.loan); r.State == store.LoanReturning || r.Over() {
		return r.Reason
	}
	return ""
}

// onRack is the record of a borrowed device, which is made if there is none.
func (l *Lend) onRack(one *loan) (k *keeper.Keeper, made bool, err error) {
	r := l.record(one)
	for _, k := range l.cfg.Rack.All() {
		if k.Device().Key == r.Key {
			return k, false, nil
		}
	}
	k, err = l.cfg.Rack.Introduced(l.ctx, r.Key, introduction.Description{Name: r.Handle, Family: r.Family, Model: r.Code, Serial: r.Serial}, "")
	if err != nil {
		return nil, false, err
	}
	if k.Device().Handle != r.Handle {
		l.cfg.Rack.Set(l.ctx, k.Device().Handle, rack.Change{Handle: &r.Handle}) //nolint:errcheck // it is taken here: then it has another one
	}
	return k, true, nil
}

// give stops reaching a device that was borrowed, and forgets it if it was added for that.
func (l *Lend) give(id string, t *taken) {
	l.mu.Lock()
	end := t.end
	l.mu.Unlock()
	end()
	all, err := l.cfg.Store.Loan(context.WithoutCancel(l.ctx), id)
	if err == nil && all.Made {
		l.forget(all.Device)
	}
}

// forget takes a device off the rack, once its ways have ended.
func (l *Lend) forget(id string) {
	var err error
	for range 50 {
		k := l.cfg.Rack.ByID(id)
		if k == nil {
			return
		}
		if err = l.cfg.Rack.Drop(context.WithoutCancel(l.ctx), k.Device().Handle); err == nil {
			return
		}
		if clock.Sleep(l.ctx, clock.System{}, 100*time.Millisecond) != nil {
			return
		}
	}
	l.cfg.Log.Info("forget a device that was borrowed", "device", id, "error", err)
}

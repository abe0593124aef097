package lend

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/device"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds what a bench does for the peers that it lends devices to.

// Bounds of a loan.
const (
	shortest    = time.Minute
	mostOfPeer  = 50 // loans that are not over
	startWithin = 8 * time.Second

	shortestLapse = 5 // seconds
)

// noDevice is the same for a device that a peer may not see and for one that does not exist.
func noDevice(handle string) error {
	return problem.Errorf(problem.NotFound, "there is no device %.60q that is shared with you", handle)
}

// Visible is the device with a handle, if a peer may see it.
func (l *Lend) Visible(from store.Peer, handle string) (*keeper.Keeper, string, error) {
	for _, k := range l.cfg.Rack.All() {
		d := k.Device()
		if may := from.Rights.Of(d.ID); may != "" && d.Handle == handle {
			return k, may, nil
		}
	}
	return nil, "", noDevice(handle)
}

// start handles a peer's request to borrow a device, and returns the loan.
func (l *Lend) start(ctx context.Context, from store.Peer, s core.StartLoan) (core.Loan, error) {
	k, may, err := l.Visible(from, s.Device)
	if err != nil {
		return core.Loan{}, err
	}
	handle := k.Device().Handle
	seconds := time.Duration(s.Seconds) * time.Second
	switch {
	case s.Rights != string(device.RightsLook) && s.Rights != string(device.RightsUse):
		return core.Loan{}, problem.Errorf(problem.Invalid, "%.20q is not a right of a loan: use look or use", s.Rights)
	case s.Rights == string(device.RightsUse) && may != s.Rights:
		return core.Loan{}, problem.Errorf(problem.Refused, "you may look at %s, but not use it", handle)
	case s.Seconds <= 0 || seconds < shortest || seconds > device.LongestLoan:
		return core.Loan{}, problem.Errorf(problem.Invalid, "a loan lasts from a minute to %d days", device.LongestLoan/(24*time.Hour))
	case s.Exclusive && s.Rights != string(device.RightsUse):
		return core.Loan{}, problem.Errorf(problem.Invalid, "a device can only be lent with its USB for use")
	case s.Lapse != 0 && s.Lapse < shortestLapse:
		return core.Loan{}, problem.Errorf(problem.Invalid, "a loan must have at least %d seconds until it lapses", shortestLapse)
	}
	r := store.Loan{ID: store.NewID(), Lent: true, State: store.LoanWaiting, Peer: from.Name, PeerKey: from.Key, Device: k.Device().ID, Handle: handle, Rights: s.Rights, Seconds: s.Seconds, Lapse: s.Lapse, Exclusive: s.Exclusive,
		Asked: l.cfg.Clock.Now().UTC(), Epoch: l.epoch}
	one := newLoan(r)
	l.mu.Lock()
	of := 0
	for _, other := range l.loans {
		if !other.Lent || other.of.PeerKey != from.Key {
			continue
		}
		if of++; other.of.Device == r.Device && other.State != store.LoanReturning {
			l.mu.Unlock()
			return core.Loan{}, problem.Errorf(problem.Taken, "you already have %s, or are waiting for it", handle)
		}
	}
	if of >= mostOfPeer {
		l.mu.Unlock()
		return core.Loan{}, problem.Errorf(problem.Refused, "you already have %d loans", of)
	}
	l.loans[r.ID] = one
	l.mu.Unlock()
	if err := l.cfg.Store.SaveLoan(context.WithoutCancel(ctx), r); err != nil {
		l.mu.Lock()
		delete(l.loans, r.ID)
		l.mu.Unlock()
		return core.Loan{}, fmt.Errorf("keep the loan: %w", err)
	}
	l.audit(from.Name, "borrow-device", handle, 202)
	l.lookAfter(r.Device)
	return l.begun(ctx, one)
}

// begun waits until it is decided whether a loan begins now.
func (l *Lend) begun(ctx context.Context, one *loan) (core.Loan, error) {
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	for {
		changed := l.nextChange()
		l.mu.Lock()
		decided := one.State != store.LoanWaiting || one.Reason != ""
		l.mu.Unlock()
		if decided || ctx.Err() != nil {
			return l.told(one), nil
		}
		select {
		case <-ctx.Done():
		case <-changed:
		}
	}
}

// told is a loan as it is reported to the borrower.
func (l *Lend) told(one *loan) core.Loan {
	l.mu.Lock()
	out := l.tellOf(one.Loan)
	l.mu.Unlock()
	l.tellAway(&out, one.of.Device)
	return out
}

// tellAway adds why this bench cannot reach a lent device, as the bench itself explains it. The lock is not held.
func (l *Lend) tellAway(t *core.Loan, device string) {
	k := l.cfg.Rack.ByID(device)
	if t.State != string(store.LoanActive) || k == nil || k.Session() != nil {
		return
	}
	st := l.cfg.Outlook.Look(k, "")
	t.Away = strings.TrimSuffix(plain.Cut(plain.Line(st.Why.Text), 300), ".")
	if n := st.Readiness.Next; n != nil && n.Who == sheet.Hands {
		t.Step = plain.Cut(plain.Line(st.Fill(n.Text)), 300)
	}
}

// tellOf is told; the lock is held.
func (l *Lend) tellOf(r store.Loan) core.Loan {
	out := core.Loan{ID: r.ID, Device: r.Handle, State: string(r.State), Rights: r.Rights, Seconds: r.Seconds, Reason: r.Reason}
	now := l.cfg.Clock.Now()
	switch r.State {
	case store.LoanReturning: // nothing of it is the borrower's any more
		out.State, out.Seconds = string(store.LoanEnded), 0
	case store.LoanEnded:
		out.Seconds = 0
	case store.LoanActive:
		out.Hands = toldHands(r.Hands)
		out.Seconds = max(1, int(r.Ends.Sub(now).Round(time.Second)/time.Second))
		if k := l.cfg.Rack.ByID(r.Device); k != nil {
			d := k.Device()
			out.Key, out.Family, out.Code, out.Serial = d.Key, d.Family, d.Code, d.Serial
		}
	case store.LoanWaiting:
		out.Place, out.Wait = l.place(r, now)
	}
	return out
}

// place is the place of a loan in the queue for its device, and how many seconds it will likely wait. The lock is held.
func (l *Lend) place(r store.Loan, now time.Time) (place, wait int) {
	place = 1
	for _, other := range l.loans {
		if !other.Lent || other.of.Device != r.Device || other.ID == r.ID {
			continue
		}
		switch {
		case other.State == store.LoanActive:
			wait += max(0, int(other.Ends.Sub(now)/time.Second))
		case other.State == store.LoanWaiting && before(other.Loan, r):
			place++
			wait += other.Seconds
		}
	}
	return place, wait
}

// before reports whether a loan was asked for before another one.
func before(a, b store.Loan) bool {
	return a.Asked.Before(b.Asked) || a.Asked.Equal(b.Asked) && a.ID < b.ID
}

// ofPeer is a loan of a peer's that is not over.
func (l *Lend) ofPeer(from store.Peer, id string) (*loan, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	one := l.loans[id]
	if one == nil || !one.Lent || one.of.PeerKey != from.Key || one.State == store.LoanReturning {
		return nil, problem.Errorf(problem.NotFound, "there is no such loan, or it has ended")
	}
	return one, nil
}

// returned handles the return of a device by a peer.
func (l *Lend) returned(ctx context.Context, from store.Peer, id string) error {
	one, err := l.ofPeer(from, id)
	if err != nil {
		return err
	}
	return l.finish(ctx, one, "it was returned")
}

// finish ends a loan: at once for the borrower, and for the device once it is clean.
func (l *Lend) finish(ctx context.Context, one *loan, why string) error {
	err := l.change(ctx, one, func(r *store.Loan) bool {
		if r.State == store.LoanReturning || r.Over() {
			return false
		}
		if r.State == store.LoanWaiting { // nothing has begun
			r.State, r.Ended = store.LoanEnded, l.cfg.Clock.Now().UTC()
		} else {
			r.State = store.LoanReturning
		}
		r.Reason = why
		return true
	})
	if err != nil {
		return err
	}
	l.cut(one, why)
	l.lookAfter(one.of.Device)
	return nil
}

// cut ends the streams of a borrower, and takes the USB of the device back.
func (l *Lend) cut(one *loan, why string) {
	l.mu.Lock()
	all := one.streams
	one.streams = map[string]*stream{}
	l.mu.Unlock()
	for _, s := range all {
		s.CloseWith("the loan has ended: " + why)
	}
	l.releaseUSB(one)
}

// extend lets a loan last longer, if nobody waits for the device.
func (l *Lend) extend(ctx context.Context, from store.Peer, ref core.LoanRef) (core.Loan, error) {
	one, err := l.ofPeer(from, ref.Loan)
	if err != nil {
		return core.Loan{}, err
	}
	seconds := time.Duration(ref.Seconds) * time.Second
	l.mu.Lock()
	waits := slices.ContainsFunc(l.sorted(one.of.Device), func(o *loan) bool { return o.State == store.LoanWaiting })
	active := one.State == store.LoanActive
	l.mu.Unlock()
	switch {
	case ref.Seconds <= 0 || seconds < shortest || seconds > device.LongestLoan:
		return core.Loan{}, problem.Errorf(problem.Invalid, "a loan lasts from a minute to %d days", device.LongestLoan/(24*time.Hour))
	case !active:
		return core.Loan{}, problem.Errorf(problem.Blocked, "the loan has not begun")
	case waits:
		return core.Loan{}, problem.Errorf(problem.Taken, "somebody else is waiting for %s", one.of.Handle)
	}
	err = l.change(ctx, one, func(r *store.Loan) bool {
		if r.State != store.LoanActive {
			return false
		}
		r.Ends, r.Reason = l.cfg.Clock.Now().UTC().Add(seconds), ""
		return true
	})
	if err != nil {
		return core.Loan{}, err
	}
	l.unsettle(one)
	l.lookAfter(one.of.Device)
	return l.told(one), nil
}

// unsettle makes the device be told again how long the borrower is admitted.
func (l *Lend) unsettle(one *loan) {
	l.mu.Lock()
	one.settled = nil
	l.mu.Unlock()
}

// Recall ends a loan of one of this bench's devices after some time, or at once.
func (l *Lend) Recall(ctx context.Context, id string, grace time.Duration) error {
	l.mu.Lock()
	one := l.loans[id]
	l.mu.Unlock()
	switch {
	case one == nil || !one.Lent:
		return noLoan(id)
	case grace < 0 || grace > 24*time.Hour:
		return problem.Errorf(problem.Invalid, "a loan must be recalled within 24 hours")
	case grace == 0 || l.stateOf(one) == store.LoanWaiting:
		return l.finish(ctx, one, "its lender recalled it")
	}
	err := l.change(ctx, one, func(r *store.Loan) bool {
		ends := l.cfg.Clock.Now().UTC().Add(grace)
		if r.State != store.LoanActive || !ends.Before(r.Ends) {
			return false
		}
		r.Ends, r.Reason = ends, "its lender recalled it"
		return true
	})
	l.unsettle(one)
	l.lookAfter(one.of.Device)
	return err
}

// Finish ends a loan, by its id or the handle of its device: a borrowed device is returned, a lent one taken back
// after some grace.
func (l *Lend) Finish(ctx context.Context, name string, grace time.Duration) (store.Loan, error) {
	l.mu.Lock()
	var one *loan
	for _, o := range l.loans {
		own := ""
		if k := l.cfg.Rack.ByID(o.Device); k != nil {
			own = k.Device().Handle
		}
		current := o.State != store.LoanWaiting || !o.of.Lent
		if o.of.Lent && (name == o.of.ID || name == own && current) {
			one = o
		}
	}
	l.mu.Unlock()
	if one == nil {
		return l.Return(ctx, name)
	}
	if err := l.Recall(ctx, one.of.ID, grace); err != nil {
		return store.Loan{}, err
	}
	return l.record(one), nil
}

func noLoan(id string) error {
	return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("There is no loan %.60q, or it has ended.", id), Remedy: "List them: earlybench loan"}
}

// sorted are the loans of a device that are not over, in the order in which they were asked for. The lock is held.
func (l *Lend) sorted(device string) (out []*loan) {
	for _, one := range l.loans {
		if one.Lent && one.of.Device == device {
			out = append(out, one)
		}
	}
	slices.SortFunc(out, func(a, b *loan) int {
		if before(a.Loan, b.Loan) {
			return -1
		}
		return 1
	})
	return out
}

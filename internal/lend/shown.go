package lend

import (
	"cmp"
	"context"
	"reflect"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds what a bench shows its peers: the devices that they may see and their loans, and nothing else.

// showEvery is the shortest time between two reports of changes to a peer; againEvery is how often changes are looked for.
const (
	showEvery  = 200 * time.Millisecond
	againEvery = 2 * time.Second
)

// show tells a peer of the devices that it may see and of its loans, at once and at every change.
func (l *Lend) show(ctx context.Context, from store.Peer, notify func(string, any) error) error {
	var devices core.Devices
	var loans core.Loans
	for first := true; ; first = false {
		changed := l.nextChange()
		now, is := l.cfg.Peers.ByKey(from.Key)
		if !is {
			return noLoan("")
		}
		if d := l.shown(now); first || !sameDevices(d, devices) {
			if err := notify(core.MethodAll, d); err != nil {
				return err
			}
			devices = d
		}
		if ls := l.loansOf(now); first || !sameLoans(ls, loans) {
			if err := notify(core.MethodLoans, ls); err != nil {
				return err
			}
			loans = ls
		}
		if clock.Sleep(ctx, clock.System{}, showEvery) != nil {
			return ctx.Err()
		}
		t := time.NewTimer(againEvery)
		select {
		case <-ctx.Done():
		case <-t.C:
		case <-changed:
		}
		t.Stop()
	}
}

// sameDevices reports whether nothing has changed except that time has passed.
func sameDevices(a, b core.Devices) bool {
	timeless := func(d core.Devices) core.Devices {
		d.Devices = slices.Clone(d.Devices)
		for i := range d.Devices {
			d.Devices[i].Seconds = 0
		}
		return d
	}
	return reflect.DeepEqual(timeless(a), timeless(b))
}

// sameLoans is that of loans. The end of one that was extended differs by more than passes between two looks.
func sameLoans(a, b core.Loans) bool {
	return slices.EqualFunc(a.Loans, b.Loans, func(x, y core.Loan) bool {
		const passes = 60
		near := func(m, n int) bool { return m-n < passes && n-m < passes }
		if !near(x.Seconds, y.Seconds) || !near(x.Wait, y.Wait) {
			return false
		}
		x.Seconds, x.Wait, y.Seconds, y.Wait = 0, 0, 0, 0
		return reflect.DeepEqual(x, y)
	})
}

// shown are the devices that a peer may see.
func (l *Lend) shown(to store.Peer) core.Devices {
	out := core.Devices{Devices: []core.Device{}}
	for _, k := range l.cfg.Rack.All() {
		d := k.Device()
		may := to.Rights.Of(d.ID)
		if may == "" || d.Key == "" || d.Retirement != nil || l.isBorrowed(d.ID) {
			continue
		}
		one := core.Device{Handle: d.Handle, Family: d.Family, Maker: d.Maker, Model: d.Model, Code: d.Code, Serial: d.Serial, Key: d.Key, Rights: may, Hands: to.Rights.Hands(d.ID),
			Summary: string(l.cfg.Outlook.Glance(k, "").Readiness.Summary)}
		if f, ok := k.Facts().View().Get(fact.OSRelease, l.cfg.Clock.Now()); ok {
			one.Release = f.Value.String()
		}
		one.State, one.Seconds, one.Waiting = l.free(k, to)
		out.Devices = append(out.Devices, one)
	}
	slices.SortFunc(out.Devices, func(a, b core.Device) int { return cmp.Compare(a.Handle, b.Handle) })
	return out
}

// isBorrowed reports whether a device belongs to another bench; it is not lent on.
func (l *Lend) isBorrowed(device string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.loans {
		if !one.of.Lent && one.Device == device {
			return true
		}
	}
	return false
}

// free reports whether a peer could borrow a device now, and what is in the way.
func (l *Lend) free(k *keeper.Keeper, to store.Peer) (s core.State, seconds, waiting int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.sorted(k.Device().ID) {
		switch one.State {
		case store.LoanWaiting:
			waiting++
		case store.LoanActive:
			s, seconds = core.Lent, int(one.Ends.Sub(l.cfg.Clock.Now())/time.Second)
			if one.of.PeerKey == to.Key {
				s = core.Yours
			}
		case store.LoanReturning:
			s = core.Lent
		}
	}
	switch {
	case s != "":
	case k.Session() == nil:
		s = core.Absent
	case k.Working() != "" || k.Reserved() != "":
		s = core.InUse
	default:
		s = core.Free
	}
	return s, seconds, waiting
}

// loansOf are the loans of a peer that are not over, and those that have ended in the last hour.
func (l *Lend) loansOf(to store.Peer) core.Loans {
	out, devices := l.listOf(to)
	for i := range out.Loans {
		l.tellAway(&out.Loans[i], devices[out.Loans[i].ID])
	}
	return out
}

// listOf is loansOf without why a device is away; devices are their records, by id of the loan.
func (l *Lend) listOf(to store.Peer) (out core.Loans, devices map[string]string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	out, devices = core.Loans{Loans: []core.Loan{}}, map[string]string{}
	for _, one := range l.loans {
		if one.of.Lent && one.of.PeerKey == to.Key {
			out.Loans = append(out.Loans, l.tellOf(one.Loan))
			devices[one.ID] = one.of.Device
		}
	}
	for _, r := range l.over {
		if r.Lent && r.PeerKey == to.Key && l.cfg.Clock.Now().Sub(r.Ended) < time.Hour {
			out.Loans = append(out.Loans, l.tellOf(r))
		}
	}
	slices.SortFunc(out.Loans, func(a, b core.Loan) int { return strings.Compare(a.ID, b.ID) })
	return out, devices
}

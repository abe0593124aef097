package reserve

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file decides how long reservations last, what happens to their devices, and when they are returned.

// Run looks after the reservations until ctx ends. They go on when the bench runs again.
func (r *Reserve) Run(ctx context.Context) {
	defer func() {
		r.mu.Lock()
		r.closed = true
		r.mu.Unlock()
		r.work.Wait()
	}()
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		r.mu.Lock()
		changed := r.changed
		all := r.sorted()
		r.mu.Unlock()
		for _, one := range all {
			r.lookAfter(ctx, one)
		}
		r.deal(ctx)
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-changed:
			if clock.Sleep(ctx, clock.System{}, 100*time.Millisecond) != nil { // of many changes one is looked at
				return
			}
		}
	}
}

func (r *Reserve) warn(one *reservation, err error) {
	if err != nil {
		r.cfg.Log.Warn("look after a reservation", "reservation", one.ID, "error", err)
	}
}

// lookAfter ends a reservation that is over, and notes which of its devices were lost.
func (r *Reserve) lookAfter(ctx context.Context, one *reservation) {
	if why := r.whyOver(one); why != "" {
		r.warn(one, r.finish(ctx, one, why))
		return
	}
	r.mu.Lock()
	devices := slices.Clone(one.Devices)
	r.mu.Unlock()
	for _, d := range devices {
		if d.Lost != "" {
			continue
		}
		now, lost := r.hasNow(ctx, one, d)
		if now == d && lost == "" {
			continue
		}
		now.Lost = lost
		r.warn(one, r.change(ctx, one, func(s *store.Reservation) bool {
			i := slices.Index(s.Devices, d)
			if i < 0 {
				return false
			}
			if lost != "" && s.State == store.ReservationWaiting { // nothing was begun with it: another one will do
				s.Devices = slices.Delete(s.Devices, i, i+1)
				return true
			}
			s.Devices[i] = now
			return true
		}))
		if lost != "" {
			r.let(one, d)
		}
	}
}

// whyOver is why a reservation should end now; "" if it continues.
func (r *Reserve) whyOver(one *reservation) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case time.Since(one.heard) > r.cfg.Lapse:
		return "nothing was heard from its command any more"
	case one.State == store.ReservationActive && !r.cfg.Clock.Now().Before(one.Ends):
		return "its time is up"
	case one.State == store.ReservationWaiting && one.Within > 0 && time.Since(one.since) > time.Duration(one.Within)*time.Second:
		return cmp.Or(one.Reason, "the devices were not free in time")
	}
	return ""
}

// hasNow is a device as the reservation has it now, and why it was lost, if it was.
func (r *Reserve) hasNow(ctx context.Context, one *reservation, d store.ReservedDevice) (now store.ReservedDevice, lost string) {
	if d.Loan != "" {
		l, err := r.cfg.Lending.Loan(ctx, d.Loan)
		switch {
		case err != nil && problem.KindOf(err) != problem.NotFound:
			return d, "" // the records cannot be read now
		case err != nil:
			return d, fmt.Sprintf("%s no longer lends it", d.Peer)
		case l.State == store.LoanReturning || l.Over():
			return d, cmp.Or(l.Reason, "its loan has ended")
		}
		if l.State == store.LoanActive && l.Device != "" && d.Device == "" {
			d.Device = l.Device
		}
	}
	k := r.cfg.Rack.ByID(d.Device)
	switch {
	case d.Device == "" || k == nil && d.Loan != "":
		if since(one.coming, d.Loan) > r.cfg.Away {
			return d, fmt.Sprintf("%s did not lend it in time", d.Peer)
		}
		return d, ""
	case k == nil:
		return d, "it is no longer on the rack"
	case !r.keep(one, k, true):
		return d, "somebody else has reserved it"
	}
	d.Handle = k.Device().Handle
	if there(k) {
		delete(one.away, d.Device)
	} else if since(one.away, d.Device) > r.cfg.Away {
		return d, "it cannot be reached any more"
	}
	return d, ""
}

// since is how long something has been the case, counted from the first time it was asked.
func since(noted map[string]time.Time, what string) time.Duration {
	at, ok := noted[what]
	if !ok {
		noted[what] = time.Now()
		return 0
	}
	return time.Since(at)
}

// keep reserves a device for a reservation, if it is not reserved for it already.
func (r *Reserve) keep(one *reservation, k *keeper.Keeper, again bool) bool {
	id := k.Device().ID
	r.mu.Lock()
	has, title := one.release[id] != nil, titleOf(one.Reservation)
	r.mu.Unlock()
	if has {
		return true
	}
	release, err := k.Reserve(one.ID, title, again)
	if err != nil {
		return false
	}
	r.mu.Lock()
	one.release[id] = release
	r.mu.Unlock()
	return true
}

// there reports whether a device is reached, or sleeps and can be woken.
func there(k *keeper.Keeper) bool { return k.Session() != nil || k.Sleeps() }

// Away tells which devices of a reservation are not reached just now, by handle.
func (r *Reserve) Away(s store.Reservation) (out []string) {
	for _, d := range s.Devices {
		if k := r.cfg.Rack.ByID(d.Device); k == nil || !there(k) {
			out = append(out, d.Handle)
		}
	}
	return out
}

// begin begins a reservation that has as many devices as it needs, once all of them are reached.
func (r *Reserve) begin(ctx context.Context, one *reservation) {
	r.mu.Lock()
	devices := slices.Clone(one.Devices)
	r.mu.Unlock()
	if len(devices) < one.Count {
		return
	}
	var missing []string
	for _, d := range devices {
		if k := r.cfg.Rack.ByID(d.Device); k == nil || !there(k) || !r.keep(one, k, true) {
			missing = append(missing, named(d))
		}
	}
	if len(missing) > 0 {
		r.waits(ctx, one, strings.Join(missing, " and ")+map[bool]string{true: " is", false: " are"}[len(missing) == 1]+" not reached yet")
		return
	}
	r.warn(one, r.change(ctx, one, func(s *store.Reservation) bool {
		s.State, s.Reason = store.ReservationActive, ""
		if s.Began.IsZero() {
			s.Began = r.cfg.Clock.Now().UTC()
			s.Ends = s.Began.Add(time.Duration(s.Seconds) * time.Second)
		}
		return true
	}))
}

// named is a device as people say it: heron-1, or heron-9 of harbour-desk.
func named(d store.ReservedDevice) string {
	if d.Peer == "" {
		return d.Handle
	}
	return d.Handle + " of " + d.Peer
}

// finish ends a reservation and gives its devices back.
func (r *Reserve) finish(ctx context.Context, one *reservation, why string) error {
	var had []store.ReservedDevice
	err := r.change(ctx, one, func(s *store.Reservation) bool {
		had = s.Devices
		s.State, s.Reason, s.Ended = store.ReservationEnded, why, r.cfg.Clock.Now().UTC()
		return true
	})
	if err != nil {
		return err
	}
	for _, d := range had {
		r.let(one, d)
	}
	return nil
}

// let lets a device go.
func (r *Reserve) let(one *reservation, d store.ReservedDevice) {
	r.mu.Lock()
	release := one.release[d.Device]
	delete(one.release, d.Device)
	r.mu.Unlock()
	if release != nil {
		release()
	}
	if d.Loan == "" {
		return
	}
	back := func() {
		if err := r.cfg.Lending.Return(context.Background(), d.Loan); err != nil && problem.KindOf(err) != problem.NotFound {
			r.warn(one, err)
		}
	}
	r.mu.Lock()
	closed := r.closed
	if !closed {
		r.work.Go(back)
	}
	r.mu.Unlock()
	if closed {
		back()
	}
}

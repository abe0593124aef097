package reserve

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds who gets what, and when it is given back.

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

// whyOver is why a reservation is to end now; "" if it goes on.
func (r *Reserve) whyOver(one *reservation) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case time.Since(one.heard) > r.cfg.Lapse:
		return "whoever asked for it was not heard of any more"
	case one.State == store.ReservationActive && !r.cfg.Clock.Now().Before(one.Ends):
		return "its time is over"
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
			return d, fmt.Sprintf("%s does not lend it any more", d.Peer)
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
		return d, "it is not on the rack any more"
	case !r.keep(one, k, true):
		return d, "somebody else has reserved it"
	}
	d.Handle = k.Device().Handle
	if there(k) {
		delete(one.away, d.Device)
	} else if since(one.away, d.Device) > r.cfg.Away {
		return d, "it is not reached any more"
	}
	return d, ""
}

// since is for how long something has been so, which is noted when it is asked first.
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

// deal gives free devices to those who wait, in the order of asking. What somebody waits for is kept for him
// until he has all that he needs, so that nobody who needs several waits for ever; unless there are not so many.
func (r *Reserve) deal(ctx context.Context) {
	r.mu.Lock()
	if r.choose == nil {
		r.mu.Unlock()
		return
	}
	all := r.sorted()
	taken := map[string]bool{}
	for _, one := range all {
		for _, d := range one.Devices {
			taken[keyOf(d)], taken[d.Device] = true, true
		}
	}
	r.mu.Unlock()
	for _, one := range all {
		r.mu.Lock()
		s, fetching := one.copy(), one.fetching
		r.mu.Unlock()
		if s.State != store.ReservationWaiting || fetching {
			continue
		}
		if len(s.Devices) == s.Count {
			r.begin(ctx, one)
			continue
		}
		c, err := r.candidates(one, taken)
		if err != nil {
			r.warn(one, r.finish(ctx, one, err.Error()))
			continue
		}
		need := s.Count - len(s.Devices)
		switch {
		case c.possible < need:
			r.waits(ctx, one, c.why(s))
		case len(c.own)+len(c.far) < need:
			c.claim(taken, need)
			r.waits(ctx, one, fmt.Sprintf("%s free, %d needed", areOf(len(c.own)+len(c.far)+len(s.Devices)), s.Count))
		default:
			c.claim(taken, need)
			r.take(ctx, one, c, need)
		}
	}
}

// areOf is "1 device is" or "3 devices are".
func areOf(n int) string {
	switch n {
	case 0:
		return "no device is"
	case 1:
		return "1 device is"
	}
	return fmt.Sprintf("%d devices are", n)
}

// candidates are the devices that will do for a reservation.
type candidates struct {
	own      []*keeper.Keeper // that are free, the ready ones first
	far      []Far            // that are free
	possible int              // that will do, free or not
	aside    string           // why one of them will not
}

func (c candidates) why(s store.Reservation) string {
	text := fmt.Sprintf("%s there that will do, %d needed", areOf(c.possible+len(s.Devices)), s.Count)
	if c.aside != "" {
		text += "; " + c.aside
	}
	return text
}

// claim keeps what is free for one reservation.
func (c candidates) claim(taken map[string]bool, need int) {
	for _, k := range c.own[:min(need, len(c.own))] {
		taken[k.Device().ID] = true
	}
	for _, f := range c.far[:min(max(0, need-len(c.own)), len(c.far))] {
		taken[f.Peer+"/"+f.Device.Handle] = true
	}
}

func (r *Reserve) candidates(one *reservation, taken map[string]bool) (c candidates, err error) {
	if one.choice == nil { // it was taken up again
		choice, err := r.chosen(one.Where)
		if err != nil {
			return c, err
		}
		one.choice = &choice
	}
	r.mu.Lock()
	s := one.copy()
	r.mu.Unlock()
	mine := map[string]bool{}
	for _, d := range s.Devices {
		mine[d.Device] = true
	}
	for _, k := range r.cfg.Rack.All() {
		d := k.Device()
		if d.Retirement != nil || mine[d.ID] {
			continue
		}
		will, err := one.choice.Own(k)
		if err != nil {
			return c, err
		}
		if !will {
			continue
		}
		if why := s.Aside[d.ID]; why != "" {
			c.aside = d.Handle + ": " + why
			continue
		}
		if !there(k) {
			continue
		}
		c.possible++
		if !taken[d.ID] && k.Working() == "" && k.Reserved() == "" {
			c.own = append(c.own, k)
		}
	}
	slices.SortStableFunc(c.own, func(a, b *keeper.Keeper) int { return cmp.Compare(rank(r.cfg.Ready(a)), rank(r.cfg.Ready(b))) })
	if !s.Peers {
		return c, nil
	}
	for _, f := range r.cfg.Lending.Free() {
		key := f.Peer + "/" + f.Device.Handle
		if why := s.Aside[key]; why != "" {
			c.aside = f.Device.Handle + " of " + f.Peer + ": " + why
			continue
		}
		will, err := one.choice.Far(f)
		if err != nil {
			return c, err
		}
		if will {
			if c.possible++; !taken[key] {
				c.far = append(c.far, f)
			}
		}
	}
	return c, nil
}

func rank(ready bool) int {
	if ready {
		return 0
	}
	return 1
}

// waits notes what a reservation waits for.
func (r *Reserve) waits(ctx context.Context, one *reservation, why string) {
	r.warn(one, r.change(ctx, one, func(s *store.Reservation) bool {
		if s.Reason == why {
			return false
		}
		s.Reason = why
		return true
	}))
}

// take takes free devices for a reservation: its own at once, and what peers lend while others are looked after.
func (r *Reserve) take(ctx context.Context, one *reservation, c candidates, need int) {
	var got []store.ReservedDevice
	for _, k := range c.own[:min(need, len(c.own))] {
		d := k.Device()
		if !r.keep(one, k, false) { // work has begun on it meanwhile
			continue
		}
		got = append(got, store.ReservedDevice{Device: d.ID, Handle: d.Handle})
	}
	if err := r.add(ctx, one, got...); err != nil {
		r.warn(one, err)
		return
	}
	if len(got) == need {
		r.begin(ctx, one)
		return
	}
	far := c.far[:min(need-len(got), len(c.far))]
	if len(far) == 0 {
		return
	}
	r.mu.Lock()
	one.fetching = true
	r.mu.Unlock()
	r.work.Go(func() {
		for _, f := range far {
			r.warn(one, r.borrow(ctx, one, f))
		}
		r.mu.Lock()
		one.fetching = false
		r.mu.Unlock()
		r.tell()
	})
}

// add puts devices to a reservation; where that cannot be kept they are let go.
func (r *Reserve) add(ctx context.Context, one *reservation, got ...store.ReservedDevice) error {
	if len(got) == 0 {
		return nil
	}
	kept := false
	err := r.change(ctx, one, func(s *store.Reservation) bool {
		s.Devices = append(s.Devices, got...)
		kept = true
		return true
	})
	if err != nil || !kept {
		for _, d := range got {
			r.let(one, d)
		}
	}
	return err
}

// borrow borrows a device of a peer for a reservation. One that is not lent at once will not do.
func (r *Reserve) borrow(ctx context.Context, one *reservation, f Far) error {
	r.mu.Lock()
	long := time.Duration(one.Seconds) * time.Second
	r.mu.Unlock()
	l, err := r.cfg.Lending.Borrow(ctx, f, long, 2*r.cfg.Lapse)
	if err == nil && l.State != store.LoanActive {
		err = r.cfg.Lending.Return(ctx, l.ID)
		if err == nil {
			return nil // somebody else was faster
		}
	}
	d := store.ReservedDevice{Handle: f.Device.Handle, Peer: f.Peer, Loan: l.ID}
	if err != nil {
		return r.change(ctx, one, func(s *store.Reservation) bool {
			if s.Aside == nil {
				s.Aside = map[string]string{}
			}
			s.Aside[keyOf(d)] = err.Error()
			return true
		})
	}
	return r.add(ctx, one, d)
}

// begin begins a reservation whose devices are all here.
func (r *Reserve) begin(ctx context.Context, one *reservation) {
	r.mu.Lock()
	devices := slices.Clone(one.Devices)
	r.mu.Unlock()
	here := len(devices) == one.Count
	for _, d := range devices {
		k := r.cfg.Rack.ByID(d.Device)
		here = here && k != nil && there(k) && r.keep(one, k, true)
	}
	if !here {
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

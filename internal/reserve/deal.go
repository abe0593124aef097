package reserve

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file decides who gets which devices.

// deal gives free devices to those who wait, in the order of asking. What somebody waits for is kept for them
// until they have as many as they need, so that nobody who needs several waits for ever; unless there are not that many.
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

// candidates are the suitable devices for a reservation.
type candidates struct {
	own      []*keeper.Keeper // that are free, the ready ones first
	far      []Far            // that are free
	possible int              // that will do, free or not
	aside    string           // why one of them will not
}

func (c candidates) why(s store.Reservation) string {
	text := fmt.Sprintf("%s available, %d needed", areOf(c.possible+len(s.Devices)), s.Count)
	if c.aside != "" {
		text += "; " + c.aside
	}
	return text
}

// claim keeps free devices for one reservation.
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

// take takes free devices for a reservation: its own at once, and those of peers in the background.
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
	var asked []string
	for _, f := range far {
		asked = append(asked, fmt.Sprintf("%s has not lent %s yet", f.Peer, f.Device.Handle))
	}
	r.waits(ctx, one, strings.Join(asked, ", "))
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

// add adds devices to a reservation; if that cannot be saved they are released.
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

// borrow borrows a device of a peer for a reservation. One that is not lent at once is not suitable.
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

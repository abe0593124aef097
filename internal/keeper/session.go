package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/ways"
)

// Session returns the best session on which this bench is admitted; nil if there
// is none.
func (k *Keeper) Session() device.Session {
	return k.linked(func(*reach) bool { return true })
}

// linked returns the session of the best way for which wanted is true, of those on which this bench
// is admitted; nil for none.
func (k *Keeper) linked(wanted func(*reach) bool) device.Session {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, r := range k.reaches {
		if wanted(r) && r.open && r.session != nil && device.Lasts(r.session) {
			return r.session
		}
	}
	return nil
}

// WayOf returns by which way a session is; "" once it has ended.
func (k *Keeper) WayOf(s device.Session) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, r := range k.reaches {
		if r.session == s {
			return string(r.way.Kind())
		}
	}
	return ""
}

// wakeWithin is how long a device may take to be woken and linked.
const wakeWithin = 30 * time.Second

// Sleeps reports whether the device is asleep, and is woken when it is needed.
func (k *Keeper) Sleeps() bool {
	return k.Session() == nil && slices.ContainsFunc(k.Ways(), func(r Reached) bool { return !r.Asleep.IsZero() })
}

// Wake is Session for a device that may sleep: where it does, and a way can wake it, it is woken and
// waited for. It returns nil where there is no session and nobody to be woken.
func (k *Keeper) Wake(ctx context.Context) (device.Session, error) {
	waiting, cancel := context.WithTimeout(ctx, wakeWithin)
	defer cancel()
	for {
		if s := k.Session(); s != nil {
			return s, nil
		}
		r := k.best(func(r *reach) bool { _, can := r.way.(ways.Waker); return can })
		if r == nil || k.letsNobodyIn() {
			return nil, nil
		}
		err := r.way.(ways.Waker).Wake(waiting)
		if err == nil {
			err = k.untilLinked(waiting)
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if waiting.Err() == nil && clock.Sleep(waiting, clock.System{}, wakePause) == nil {
			continue // it may have fallen asleep again, or be heard by another device now
		}
		handle := k.Device().Handle
		return nil, &problem.Problem{Kind: problem.Unavailable, Gate: "awake", Text: fmt.Sprintf("%s was not reached within %s: %s.", handle, wakeWithin, reason(err)), Remedy: "Wake it by its button, or lay it on its cradle, then try again."}
	}
}

// wakePause is how long is waited before a device is woken again.
const wakePause = 100 * time.Millisecond

// reason is why a device was not woken.
func reason(err error) error {
	if err == nil || errors.Is(err, context.DeadlineExceeded) {
		return errors.New("it has not answered")
	}
	return err
}

// letsNobodyIn reports whether the device has said that this bench is not admitted.
func (k *Keeper) letsNobodyIn() bool {
	f, known := k.Facts().View().Get(fact.AdmitState, k.cfg.Clock.Now())
	return known && f.Value.Text() != string(device.Admitted)
}

// untilLinked waits until this bench is admitted on a session that is up; an error once none is, or
// it is not admitted.
func (k *Keeper) untilLinked(ctx context.Context) error {
	for {
		changed := k.Changed()
		switch {
		case k.Session() != nil:
			return nil
		case k.best(func(r *reach) bool { return r.session != nil }) == nil || k.letsNobodyIn():
			return ErrNoSession
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-changed:
		}
	}
}

// elsewhereWithin is how long another way may take to be linked.
const elsewhereWithin = 5 * time.Second

// Elsewhere returns a session by another way than the given one, on which this bench is admitted,
// after the session by that way has ended. A device that is reached by that way only, and has fallen
// asleep, is woken. It returns nil where there is neither.
func (k *Keeper) Elsewhere(ctx context.Context, lost string) device.Session {
	if s := k.Other(ctx, lost); s != nil {
		return s
	}
	s, err := k.Wake(ctx)
	if err != nil {
		return nil
	}
	return s
}

// WentOn says what has happened when something goes on by a way after the session by another one, or
// by the same, has ended.
func WentOn(was, now, what string) string {
	if was == now {
		return fmt.Sprintf("the link by %s was lost, as happens when a device falls asleep; it is up again, and %s", was, what)
	}
	return fmt.Sprintf("the link by %s was lost; %s by %s", was, what, now)
}

// Other is Elsewhere without waking anybody.
func (k *Keeper) Other(ctx context.Context, lost string) device.Session {
	ctx, cancel := context.WithTimeout(ctx, elsewhereWithin)
	defer cancel()
	for {
		changed := k.Changed()
		other := func(r *reach) bool { return string(r.way.Kind()) != lost }
		if s := k.linked(other); s != nil {
			return s
		}
		if k.best(other) == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-changed:
		}
	}
}

// Await returns the best session on which this bench is admitted, waiting for one;
// nil once ctx has ended. A device that is found asleep meanwhile is woken.
func (k *Keeper) Await(ctx context.Context) device.Session {
	for {
		changed := k.Changed()
		if s := k.Session(); s != nil {
			return s
		}
		if k.Sleeps() {
			if s, err := k.Wake(ctx); err == nil && s != nil {
				return s
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-changed:
		}
	}
}

// visitWithin is how long a session may take to come up.
const visitWithin = 10 * time.Second

// ErrNoSession is the error where no way has a session.
var ErrNoSession = problem.New(problem.Blocked, "there is no link to the device")

// restartWithin bounds a restart of the link; againWithin is how long the session is waited
// for afterwards.
const (
	restartWithin = 10 * time.Second
	againWithin   = 5 * time.Second
)

// RestartLink has the best way that can start its link over, and waits for a while until
// there is a session again. Work that uses the device keeps it from being restarted.
func (k *Keeper) RestartLink(ctx context.Context) error {
	release, err := k.Lease(ctx, "restart its link", Exclusive)
	if err != nil {
		return err
	}
	defer release()
	r := k.best(func(r *reach) bool { _, can := r.way.(ways.Restarter); return can })
	if r == nil {
		handle := k.Device().Handle
		return &problem.Problem{Kind: problem.Gone, Text: fmt.Sprintf("%s is not connected in a way whose link can be restarted.", handle), Remedy: "Plug it in. To find out what is wrong: earlybench why " + handle}
	}
	short, cancel := context.WithTimeout(ctx, restartWithin)
	defer cancel()
	if err := r.way.(ways.Restarter).RestartLink(short); err != nil {
		return problem.Errorf(problem.Unavailable, "restart the link of %s: %w", k.Device().Handle, err)
	}
	again, cancel := context.WithTimeout(ctx, againWithin)
	defer cancel()
	k.visit(again)
	return ctx.Err()
}

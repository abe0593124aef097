// Package retire retires devices: everything off the device, closed for
// development, this bench's admission withdrawn. The sheet says what is to be done, in
// order; whether it is done is observed. What cannot be done while a device is away is
// done when it is connected again.
package retire

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Retire is the use case. All fields are needed.
type Retire struct {
	Rack    *rack.Rack
	Outlook *outlook.Outlook
	Store   *store.Store
	// Leave frees the place of a device in the register, and reports whether nothing is left to
	// be done there.
	Leave func(ctx context.Context, k *keeper.Keeper) (bool, error)
	// TakeOff takes the grants and debug tokens off a device, and looks whether none is left.
	TakeOff func(ctx context.Context, k *keeper.Keeper) error
	Clock   clock.Clock
	Log     *slog.Logger
}

// Item is one thing that is to be done.
type Item struct {
	Step *sheet.Step
	Done store.Mark // zero: not yet
}

// ErrNothing is the error for a family whose sheet does not say how to retire it.
var ErrNothing = problem.New(problem.Invalid, "its prep sheet does not describe how to retire it")

// Items returns what is to be done to retire a device, in order.
func Items(st outlook.Standing) []Item {
	var out []Item
	for _, s := range st.Sheet.Retire {
		i := Item{Step: s}
		if r := st.Device.Retirement; r != nil {
			i.Done = r.Done[s.ID]
		}
		out = append(out, i)
	}
	return out
}

// Begin starts to retire a device.
func (r *Retire) Begin(ctx context.Context, handle string) (outlook.Standing, error) {
	k, err := r.Rack.Find(handle)
	if err != nil {
		return outlook.Standing{}, err
	}
	st := r.Outlook.Look(k, "")
	if len(st.Sheet.Retire) == 0 {
		return st, fmt.Errorf("%s: %w", handle, ErrNothing)
	}
	if st.Device.Retirement != nil {
		return st, nil
	}
	if f, lent := st.View.Get(fact.LoanSeen, st.Now); lent && f.Value == fact.Of(true) {
		return st, &problem.Problem{Kind: problem.Blocked, Text: handle + " belongs to another bench, which lends it.", Remedy: "Give it back: earlybench loan end " + handle}
	}
	release, err := k.LeaseToRetire(ctx, "Retire "+handle) // not while other work has it
	if err != nil {
		return st, err
	}
	defer release()
	err = k.Retire(ctx, func(now *store.Retirement) (*store.Retirement, error) {
		if now != nil {
			return now, nil
		}
		return &store.Retirement{Since: r.Clock.Now().UTC(), Done: map[string]store.Mark{}}, nil
	})
	if err != nil {
		return st, err
	}
	return r.Outlook.Look(k, ""), nil
}

// CallOff cancels the retirement of a device; what was removed stays removed.
func (r *Retire) CallOff(ctx context.Context, handle string) error {
	k, err := r.Rack.Find(handle)
	if err != nil {
		return err
	}
	return k.Retire(ctx, func(*store.Retirement) (*store.Retirement, error) { return nil, nil })
}

// Told records that a person did something that the bench cannot observe.
func (r *Retire) Told(ctx context.Context, handle, step, by string) error {
	k, err := r.Rack.Find(handle)
	if err != nil {
		return err
	}
	st := r.Outlook.Look(k, "")
	if st.Device.Retirement == nil {
		return problem.Errorf(problem.Invalid, "%s is not being retired", handle)
	}
	for _, i := range Items(st) {
		if i.Step.ID != step {
			continue
		}
		if !Confirmable(st, i.Step) {
			return problem.Errorf(problem.Invalid, "step %s cannot be confirmed: the bench observes whether it is done", step)
		}
		return r.mark(ctx, k, st, step, by)
	}
	return fmt.Errorf("step %q: %w", step, store.ErrNotFound)
}

// Confirmable reports whether a person says of a step that it is done: the bench does not do it, and
// does not see it, now that the device is not reached. One that closes its link without a cable is
// gone from the network before the bench sees that it is closed.
func Confirmable(st outlook.Standing, s *sheet.Step) bool {
	return s.Action == "" && (s.Done == nil || !st.Reached())
}

// Run does what can be done for the devices that are being retired, and records what has
// been done, until ctx ends.
func (r *Retire) Run(ctx context.Context) {
	for ctx.Err() == nil {
		changed := r.Store.Changed()
		for _, k := range r.Rack.All() {
			if !k.Retiring() {
				continue
			}
			if err := r.goOn(ctx, k); err != nil && ctx.Err() == nil {
				r.Log.Info("retire a device", "device", k.Device().Handle, "error", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-changed:
		}
	}
}

// stepWithin bounds one thing that the bench does on a device.
const stepWithin = 20 * time.Second

// goOn does the first thing that is left, if it can be done now.
func (r *Retire) goOn(ctx context.Context, k *keeper.Keeper) error {
	st := r.Outlook.Look(k, "")
	for _, i := range Items(st) {
		if !i.Done.At.IsZero() {
			continue
		}
		if !r.observed(st, i.Step) {
			ctx, cancel := context.WithTimeout(ctx, stepWithin)
			defer cancel()
			if did, err := r.do(ctx, k, st, i.Step); !did || err != nil {
				return err
			}
		}
		return r.mark(ctx, k, st, i.Step.ID, "")
	}
	return nil
}

// observed reports whether a thing was observed to be done.
func (r *Retire) observed(st outlook.Standing, s *sheet.Step) bool {
	return s.Done != nil && st.Reached() && s.Done.Eval(&sheet.Attributes{Family: st.Device.Family, Maker: st.Device.Maker, Code: st.Device.Code}, st.View.At(st.Now)) == sheet.True
}

// do does what the bench can do itself, and reports whether it did.
func (r *Retire) do(ctx context.Context, k *keeper.Keeper, st outlook.Standing, s *sheet.Step) (bool, error) {
	if s.Action == sheet.Leave {
		return r.Leave(ctx, k)
	}
	if !st.Linked() && !k.Sleeps() || s.Action == "" {
		return false, nil
	}
	release, err := k.LeaseToRetire(ctx, "Retire "+st.Device.Handle)
	if err != nil {
		return false, nil // it is done once that work has ended
	}
	defer release()
	session, err := r.Outlook.Session(ctx, k)
	if err != nil {
		return false, err
	}
	switch s.Action {
	case sheet.RemoveApps:
		return r.removeApps(ctx, session)
	case sheet.TakeOff:
		return true, r.TakeOff(ctx, k)
	case sheet.Withdraw:
		return true, k.Withdraw(ctx)
	}
	return false, nil
}

// removeApps removes every app and checks that none is left.
func (r *Retire) removeApps(ctx context.Context, s device.Session) (bool, error) {
	apps, err := s.Apps()
	if err != nil {
		return false, err
	}
	list, err := apps.List(ctx)
	if err != nil {
		return false, err
	}
	for _, a := range list {
		if err := apps.Remove(ctx, a.ID); err != nil {
			return false, fmt.Errorf("take %s off: %w", a.ID, err)
		}
	}
	left, err := apps.List(ctx)
	return len(left) == 0, err
}

func (r *Retire) mark(ctx context.Context, k *keeper.Keeper, st outlook.Standing, step, by string) error {
	now := r.Clock.Now().UTC()
	return k.Retire(ctx, func(on *store.Retirement) (*store.Retirement, error) {
		if on == nil {
			return nil, nil // it was called off meanwhile
		}
		next := on.With(step, store.Mark{At: now, By: by})
		if len(next.Done) == len(st.Sheet.Retire) {
			next.Ended = now
		}
		return next, nil
	})
}

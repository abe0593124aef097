package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/ways"
)

// reach is one running way: what it reports, and its session.
type reach struct {
	keeper   *Keeper
	way      ways.Way
	ctx      context.Context
	retry    chan struct{}
	admitted chan struct{}
	using    sync.WaitGroup // what uses sessions

	moved *Keeper // where the way goes on; only Run's

	// Guarded by the keeper's mu.
	session  device.Session // nil: none is up
	greeted  bool           // the state of this bench was observed
	open     bool           // this bench is admitted
	sessions int            // that were up, so that each has a scope of its own
	down     error          // why no session is up
	told     deviceClock    // as it told it last on the session that is open
}

// deviceClock is a device's clock, with the scope of the session on which it was told.
type deviceClock struct {
	clock.Other
	scope string
}

// Reached describes a way by which the device is reached.
type Reached struct {
	Kind  ways.Kind
	Place ways.Place
	// Linked says that a session is up and this bench is admitted on it.
	Linked bool
	// Asleep is since when the device is asleep, where it is woken when it is needed; zero else.
	Asleep time.Time
	Up     bool  // a session is up, be this bench admitted on it or not
	Down   error // why none is up; nil while nothing is wrong
}

// Wireless reports whether no cable is needed there.
func (r Reached) Wireless() bool { return r.Kind == ways.Wireless }

// Cabled reports whether it is reached there by a cable.
func (r Reached) Cabled() bool { return r.Kind == ways.Cable }

// Reach runs a way until it ends. The facts of its scope end with it.
func (k *Keeper) Reach(w ways.Way) {
	k.mu.Lock()
	if k.closed {
		k.mu.Unlock()
		return
	}
	r := &reach{keeper: k, way: w, ctx: k.ctx, retry: make(chan struct{}, 1), admitted: make(chan struct{}, 1)}
	k.reaches = append(k.reaches, r)
	slices.SortStableFunc(k.reaches, func(a, b *reach) int {
		switch {
		case a.way.Kind().Before(b.way.Kind()):
			return -1
		case b.way.Kind().Before(a.way.Kind()):
			return 1
		}
		return 0
	})
	if host := w.Place().Host; host != "" {
		k.host = host
	}
	k.work.Go(r.run)
	k.mu.Unlock()
}

// run runs the way and then releases what belonged to it.
func (r *reach) run() {
	k, scope := r.keeper, r.way.Scope()
	k.cfg.Facts.Begin(scope)
	k.tell()
	k.takeUpAgain(r.ctx)
	err := defect.Contain("a way to a device", func() error { return r.way.Run(r.ctx, r) })
	r.using.Wait()
	k.mu.Lock()
	k.reaches = slices.DeleteFunc(k.reaches, func(other *reach) bool { return other == r })
	k.mu.Unlock()
	k.cfg.Facts.End(scope, r.troubleScope())
	k.tell()
	moved := errors.Is(err, ways.ErrMoved) && r.moved != nil
	switch {
	case moved:
		r.moved.Reach(r.way)
	case err != nil && r.ctx.Err() == nil:
		k.cfg.Log.Error("a way has ended", "device", k.Device().Handle, "way", string(r.way.Kind()), "error", err)
	}
	k.cfg.Ended(k, r.way, moved)
}

// takeUpAgain returns a retired device that is connected again to the rack.
func (k *Keeper) takeUpAgain(ctx context.Context) {
	if r := k.Device().Retirement; r == nil || r.Ended.IsZero() {
		return
	}
	if err := k.Retire(ctx, func(*store.Retirement) (*store.Retirement, error) { return nil, nil }); err != nil {
		k.cfg.Log.Error("take up a device that was retired", "device", k.Device().Handle, "error", err)
	}
}

// Observe records facts that were observed by this way.
func (r *reach) Observe(seen ...fact.Fact) {
	r.keeper.observe(r.ctx, r.way.Scope(), "", seen)
}

// observe records facts, each with the scope at whose end its key ends. Keys that the
// device's sheets do not declare are ignored.
func (k *Keeper) observe(ctx context.Context, way, session string, seen []fact.Fact) {
	registry := k.cfg.Facts.View().Registry()
	released := k.Series().Released
	var good []fact.Fact
	for _, f := range seen {
		if f.Key == released && f.Source == fact.Bus { // the family states its OS release there
			seen = append(seen, fact.Fact{Key: fact.OSRelease, Value: f.Value, Source: fact.Bus, At: f.At})
		}
	}
	for _, f := range seen {
		if f.At.IsZero() {
			f.At = k.cfg.Clock.Now()
		}
		spec, ok := registry.Lookup(f.Key)
		switch {
		case !ok || registry.Check(f) != nil:
			continue
		case spec.Ends == fact.EndsUnplug:
			f.Scope = way
		case spec.Ends == fact.EndsLink:
			f.Scope = session
		default:
			f.Scope = ""
		}
		good = append(good, f)
	}
	k.cfg.Facts.ObserveUntilKept(ctx, good...)
}

// Proven finds the keeper that a proven key belongs to.
func (r *reach) Proven(ctx context.Context, key string) error {
	to, err := r.keeper.cfg.Proven(ctx, r.keeper, r.way, key)
	if err != nil {
		return err
	}
	if to != r.keeper {
		r.moved = to
		return ways.ErrMoved
	}
	return nil
}

// Retry receives a value when a retry may help.
func (r *reach) Retry() <-chan struct{} { return r.retry }

// troubleScope is the scope of the reason for a missing session. It ends once a session is up.
func (r *reach) troubleScope() string { return r.way.Scope() + "/trouble" }

// Down records why there is no session.
func (r *reach) Down(reason error) {
	k := r.keeper
	k.mu.Lock()
	r.down = reason
	k.mu.Unlock()
	text := reason.Error()
	changed, isChanged := errors.AsType[*device.KeyChanged](reason)
	if isChanged {
		text = "Pinned is " + changed.Pinned + ", it shows " + changed.Shown + "."
		k.cfg.Log.Error("another device key", "device", k.Device().Handle, "pinned", changed.Pinned, "shown", changed.Shown)
	}
	f := k.Seen(fact.LinkTrouble, fact.Of(cut(text)), fact.Device)
	f.Scope = r.troubleScope()
	k.cfg.Facts.End(r.troubleScope())
	k.cfg.Facts.Begin(r.troubleScope())
	k.cfg.Facts.ObserveUntilKept(r.ctx, f)
	if isChanged { // the sentence about it says what the trouble is
		r.Observe(k.Seen(fact.LinkKey, fact.Of("changed"), fact.Device), k.Seen(fact.LinkShown, fact.Of(changed.Shown), fact.Device))
	}
	k.tell()
}

// Up uses a session until it ends.
func (r *reach) Up(s device.Session) {
	k := r.keeper
	k.mu.Lock()
	r.session, r.down = s, nil
	r.sessions++
	scope := fmt.Sprintf("%s/link/%d", r.way.Scope(), r.sessions)
	k.mu.Unlock()
	k.cfg.Facts.End(r.troubleScope())
	r.using.Go(func() {
		if err := defect.Contain("a session with a device", func() error { r.use(s, scope); return nil }); err != nil {
			r.Down(err)
			s.Close()
		}
		k.mu.Lock()
		if r.session == s {
			r.session, r.greeted, r.open = nil, false, false
		}
		k.mu.Unlock()
		k.tell()
	})
	k.tell()
}

// Ways returns the ways by which the device is reached, the best first.
func (k *Keeper) Ways() []Reached {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out []Reached
	for _, r := range k.reaches {
		one := Reached{Kind: r.way.Kind(), Place: r.way.Place(), Linked: r.open, Up: r.session != nil, Down: r.down}
		if sleeps, ok := r.way.(ways.Waker); ok && r.session == nil {
			one.Asleep = sleeps.Asleep()
		}
		out = append(out, one)
	}
	slices.SortStableFunc(out, func(a, b Reached) int { // what is linked is used
		if a.Linked == b.Linked {
			return 0
		}
		if a.Linked {
			return -1
		}
		return 1
	})
	return out
}

// best returns the best way for which wanted is true; nil for none.
func (k *Keeper) best(wanted func(*reach) bool) *reach {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, r := range k.reaches {
		if wanted(r) {
			return r
		}
	}
	return nil
}

// Reaches reports whether the keeper has the way with a scope.
func (k *Keeper) Reaches(scope string) bool {
	return k.best(func(r *reach) bool { return r.way.Scope() == scope }) != nil
}

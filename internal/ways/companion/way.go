package companion

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/ways"
)

// Way is the way to one device through others, for as long as one of them hears it.
type Way struct {
	of     *Companions
	keeper *keeper.Keeper
	id     string // of the device on record
	scope  string
	told   chan struct{} // the candidates have changed, or it is wanted

	mu         sync.Mutex
	candidates map[string]candidate  // by id of the device through which it is heard
	used       string                // handle of the one through which it was reached last
	another    map[heardAs]bool      // where somebody with another key has answered
	linked     device.Session        // the session that is up; nil: none is
	wanted     map[chan<- error]bool // who waits until it is woken
}

// candidate is a device through which it is heard.
type candidate struct {
	name    string // under which it is heard
	through string // handle
	session device.Session
	slept   time.Time // since when it is asleep; zero while it is awake
}

// heardAs is through which device, and under which name, something is heard.
type heardAs struct{ through, name string }

func (c candidate) heardAs() heardAs { return heardAs{c.through, c.name} }

func newWay(c *Companions, k *keeper.Keeper, n int) *Way {
	id := k.Device().ID
	return &Way{of: c, keeper: k, id: id, scope: fmt.Sprintf("companion:%s/%d", id, n), told: make(chan struct{}, 1), wanted: map[chan<- error]bool{}}
}

// Kind is companion.
func (w *Way) Kind() ways.Kind { return ways.Companion }

// Place is the device through which it is reached, or was last: its handle.
func (w *Way) Place() ways.Place {
	w.mu.Lock()
	defer w.mu.Unlock()
	if c, ok := w.best(); ok && w.linked == nil {
		return ways.Place{Port: c.through}
	}
	return ways.Place{Port: w.used}
}

// Scope is that of the time in which the device is heard without a break.
func (w *Way) Scope() string { return w.scope }

// Pins is false: the handset may connect to anybody.
func (w *Way) Pins() bool { return false }

// Asleep is since when the device is asleep, as those tell that hear it; zero while it is awake.
func (w *Way) Asleep() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	if c, ok := w.best(); ok && w.linked == nil {
		return c.slept
	}
	return time.Time{}
}

// set replaces the candidates.
func (w *Way) set(all map[string]candidate) {
	w.mu.Lock()
	changed := !maps.Equal(w.candidates, all)
	w.candidates = all
	w.mu.Unlock()
	if changed {
		w.wake()
	}
}

func (w *Way) wake() {
	select {
	case w.told <- struct{}{}:
	default:
	}
}

// best is the candidate to try first: one that is awake, and the one that was used last. The lock
// is held.
func (w *Way) best() (candidate, bool) {
	all := slices.SortedFunc(maps.Values(w.candidates), func(a, b candidate) int {
		rank := func(c candidate) (n int) {
			if w.another[c.heardAs()] {
				n += 4
			}
			if !c.slept.IsZero() {
				n += 2
			}
			if c.through != w.used {
				n++
			}
			return n
		}
		return rank(a) - rank(b)
	})
	if len(all) == 0 {
		return candidate{}, false
	}
	return all[0], true
}

func (w *Way) hopeful() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.linked != nil || len(w.candidates) > 0
}

// Wake wakes the device, until a session is up or ctx ends.
func (w *Way) Wake(ctx context.Context) error {
	var last error
	for {
		done := make(chan error, 1)
		w.mu.Lock()
		if w.linked != nil && device.Lasts(w.linked) {
			w.mu.Unlock()
			return nil
		}
		w.wanted[done] = true
		w.mu.Unlock()
		w.wake()
		select {
		case <-ctx.Done():
			w.mu.Lock()
			delete(w.wanted, done)
			w.mu.Unlock()
			if last == nil {
				last = context.Cause(ctx)
			}
			return last
		case err := <-done:
			if err == nil || errors.Is(err, errGone) {
				return err
			}
			last = err
		}
		if clock.Sleep(ctx, clock.System{}, firstPause) != nil {
			return last
		}
	}
}

var errGone = errors.New("no device hears it any more")

// answer tells those who wait how an attempt ended.
func (w *Way) answer(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for done := range w.wanted {
		done <- err
		delete(w.wanted, done)
	}
}

// next is the candidate to try now, if there is one: a device that is asleep is left
// alone until it is wanted.
func (w *Way) next() (c candidate, try, any bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	c, any = w.best()
	return c, any && (c.slept.IsZero() || len(w.wanted) > 0), any
}

const (
	firstPause = 250 * time.Millisecond
	mostPause  = 10 * time.Second
	steady     = 5 * time.Second // a link that lasted this long was a good one
	// asleepEvery is how often it is observed that a device is still asleep: such a fact is good for
	// a short time only.
	asleepEvery = time.Minute
)

// Run keeps a link to the device while it is awake, or wanted, for as long as it is heard.
func (w *Way) Run(ctx context.Context, to ways.Sink) error {
	defer w.answer(errGone)
	said := "" // the last error: it is told once, however often it is tried
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		c, try, any := w.next()
		if !any {
			if w.of.forget(w) {
				return nil
			}
			continue
		}
		w.heard(c, to)
		if !try {
			w.wait(ctx, to, asleepEvery)
			pause = firstPause
			continue
		}
		began := time.Now()
		err := w.try(ctx, c, to)
		if ctx.Err() != nil {
			break
		}
		w.answer(err)
		if err == nil {
			w.wait(ctx, to, firstPause)
		}
		if err == nil || time.Since(began) > steady+openWithin+linkWithin {
			pause, said = firstPause, ""
			continue
		}
		if errors.Is(err, ways.ErrMoved) {
			w.of.forget(w)
			return err
		}
		if said != err.Error() {
			said = err.Error()
			w.of.cfg.Log.Info("link through another device", "device", w.keeper.Device().Handle, "error", err)
		}
		if _, changed := errors.AsType[*device.KeyChanged](err); changed {
			if !w.isAnother(c) {
				to.Down(err)
				w.waitForKey(ctx, to)
			}
			w.wait(ctx, to, firstPause)
			continue
		}
		to.Down(err)
		if w.wait(ctx, to, pause) {
			pause = firstPause
		}
	}
	w.of.forget(w)
	return nil
}

// wait waits until there is news, or for a while; true for news.
func (w *Way) wait(ctx context.Context, to ways.Sink, long time.Duration) bool {
	t := time.NewTimer(long)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
		return false
	case <-w.told:
	case <-to.Retry():
	}
	return true
}

// mostOthers bounds the remembered candidates with another key.
const mostOthers = 100

// isAnother notes that somebody with another key has answered, and reports whether the device is
// heard elsewhere, too: anybody may repeat a name.
func (w *Way) isAnother(c candidate) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.another == nil || len(w.another) >= mostOthers {
		w.another = map[heardAs]bool{}
	}
	w.another[c.heardAs()] = true
	next, any := w.best()
	return any && !w.another[next.heardAs()]
}

// waitForKey waits until another key was pinned, or the device is heard otherwise: nothing is tried
// again before that.
func (w *Way) waitForKey(ctx context.Context, to ways.Sink) {
	select {
	case <-ctx.Done():
	case <-w.told:
	case <-to.Retry():
		w.mu.Lock()
		w.another = nil
		w.mu.Unlock()
	}
}

// heard observes what a handset reports about the device.
func (w *Way) heard(c candidate, to ways.Sink) {
	now := w.of.cfg.Clock.Now()
	to.Observe(
		fact.Fact{Key: fact.CompanionSeen, Value: fact.Of(true), Source: fact.Host, At: now},
		fact.Fact{Key: fact.CompanionOf, Value: fact.Of(c.through), Source: fact.Host, At: now},
		fact.Fact{Key: fact.Asleep, Value: fact.Of(!c.slept.IsZero()), Source: fact.Device, At: now})
}

// settle is how long after the end of a link a handset may take to report that the device fell asleep.
const settle = time.Second

// try links to the device, and uses the session until it ends. An error is why there was none, or
// why it ended although the device is awake.
func (w *Way) try(ctx context.Context, c candidate, to ways.Sink) error {
	s, err := w.of.dial(ctx, c, func(key string) error {
		if err := device.Pinned(w.keeper.Device().Key)(key); err != nil {
			return err
		}
		return to.Proven(ctx, key)
	})
	if err != nil {
		return err
	}
	defer s.Close()
	w.mu.Lock()
	w.used, w.linked = c.through, s
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		w.linked = nil
		w.mu.Unlock()
	}()
	to.Observe(fact.Fact{Key: fact.Asleep, Value: fact.Of(false), Source: fact.Device, At: w.of.cfg.Clock.Now()})
	to.Up(s.Session)
	w.answer(nil)
	silent := s.heard.Lasts(ctx, s, nil)
	if ctx.Err() != nil || !device.Lasts(c.session) {
		return nil // the handset has gone, which says nothing of this device
	}
	if silent != nil {
		return fmt.Errorf("it no longer answers through %s", c.through)
	}
	s.Close()
	why := s.Err()
	switch {
	case w.fellAsleep(ctx):
		return nil
	case why == nil:
		return c.cut()
	}
	return c.trouble(ctx, why, 0)
}

// fellAsleep reports whether a handset reports, within a moment, that the device is asleep or gone.
func (w *Way) fellAsleep(ctx context.Context) bool {
	late := time.After(settle)
	for {
		w.mu.Lock()
		c, any := w.best()
		w.mu.Unlock()
		if !any || !c.slept.IsZero() {
			return true
		}
		select {
		case <-ctx.Done():
			return true
		case <-late:
			return false
		case <-w.told:
		}
	}
}

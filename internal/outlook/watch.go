package outlook

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Run watches until ctx ends. A change is announced at once; changes that arrive
// meanwhile are announced together.
func (o *Outlook) Run(ctx context.Context) {
	var alarm sync.WaitGroup
	defer alarm.Wait()
	for {
		waiting, stop := context.WithCancel(ctx)
		if due := o.due(); !due.IsZero() {
			alarm.Go(func() {
				if o.cfg.Clock.Until(waiting, due) == nil {
					o.rouse()
				}
			})
		}
		select {
		case <-ctx.Done():
			stop()
			return
		case <-o.wake:
		}
		stop()
		for _, k := range o.changed() {
			o.recompute(k)
		}
		o.tell(ctx, o.takeUntold())
	}
}

// tell announces devices that have changed. Those for which that fails are announced
// later.
func (o *Outlook) tell(ctx context.Context, changed []*keeper.Keeper) {
	if len(changed) == 0 {
		return
	}
	handles := make([]string, len(changed))
	for i, k := range changed {
		handles[i] = k.Device().Handle
	}
	err := o.cfg.Store.Tell(ctx, "device.changed", handles...)
	if err != nil && ctx.Err() == nil {
		o.cfg.Log.Error("tell of a change", "error", err)
	}
	if err == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, k := range changed {
		if m := o.minds[k]; m != nil {
			o.untold[k] = true
			o.dueAt(m, o.cfg.Clock.Now().Add(time.Second))
		}
	}
}

// takeUntold takes the devices whose change is to be announced.
func (o *Outlook) takeUntold() []*keeper.Keeper {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := slices.Collect(maps.Keys(o.untold))
	clear(o.untold)
	return out
}

// due is when the passage of time next changes a device, or earlier; zero means never.
func (o *Outlook) due() time.Time {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.next
}

// dueAt schedules a device to be recomputed at a time, unless that is zero. The lock is held.
func (o *Outlook) dueAt(m *mind, at time.Time) {
	m.due = at
	o.next = sooner(o.next, at)
}

// sooner is the earlier of two times; zero is never.
func sooner(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// changed takes the devices that are to be recomputed.
func (o *Outlook) changed() []*keeper.Keeper {
	now := o.cfg.Clock.Now()
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.next.IsZero() && !now.Before(o.next) {
		o.next = time.Time{}
		for k, m := range o.minds {
			if !m.due.IsZero() && !now.Before(m.due) {
				o.dirty[k] = true
				m.due = time.Time{}
			}
			o.next = sooner(o.next, m.due)
		}
	}
	out := slices.Collect(maps.Keys(o.dirty))
	clear(o.dirty)
	return slices.DeleteFunc(out, func(k *keeper.Keeper) bool {
		gone := o.cfg.Rack.ByID(k.Device().ID) != k
		if gone { // it was merged into another, or is another edition's
			delete(o.minds, k)
		}
		return gone
	})
}

// recompute computes the standing of a device. Where something that a person decides by
// has changed, it raises the revision, and the change is to be announced.
func (o *Outlook) recompute(k *keeper.Keeper) {
	m := o.mind(k)
	m.busy.Lock()
	defer m.busy.Unlock()
	o.mu.Lock()
	delete(o.dirty, k) // what changes from now on is computed again
	o.mu.Unlock()
	s := o.explained(k, "")
	found := o.found(m, &s)
	returns := m.returns(&s)
	if telling(s.Why) {
		m.asked = s.Why
	}
	now := o.trace(&s)
	changed := m.trace.Swap(now) != now
	o.mu.Lock()
	if o.dueAt(m, s.Readiness.NextChange); changed {
		o.newest++
		m.revision = o.newest
		o.untold[k] = true
	}
	o.mu.Unlock()
	if changed {
		o.rouse()
	}
	if !returns.IsZero() {
		seen := k.Seen(fact.USBReturns, fact.Of(returns), fact.Bus)
		if err := k.Facts().Observe(context.Background(), seen); err != nil {
			o.cfg.Log.Error("keep when a device returns", "device", k.Device().Handle, "error", err)
		}
	}
	o.learn(k, found)
}

// returns is when a device that has just left the bus will be back, if the step that came next
// was to restart it; zero otherwise.
func (m *mind) returns(s *Standing) time.Time {
	next, restarts := s.Readiness.Next, m.restarts
	m.restarts = 0
	switch {
	case s.Readiness.Gate("seen").State == ready.Open && next != nil:
		m.restarts = next.Restarts
	case s.Readiness.Gate("seen").State != ready.Open && restarts > 0:
		return s.Now.Add(restarts)
	}
	return time.Time{}
}

// telling reports whether something can be learned from an explanation once its gate
// opens: somebody answered or did something, or it names a cause.
func telling(e cause.Explanation) bool {
	said := slices.ContainsFunc(e.Answers, func(g cause.Given) bool { return !g.Seen })
	return said || len(e.Causes) > 0 && e.Causes[0].Probability >= cause.Named ||
		slices.ContainsFunc(e.Causes, func(c cause.Ranked) bool { return c.Done })
}

// finding is what the opening of a gate has shown.
type finding struct {
	cause string // "" where nobody can tell
	over  []fact.Key
}

// found returns the finding if the gate that was asked about has opened.
func (o *Outlook) found(m *mind, s *Standing) *finding {
	if m.asked.Gate == "" || s.Readiness.Gate(m.asked.Gate).State != ready.Open {
		return nil
	}
	asked := m.asked
	m.asked = cause.Explanation{}
	return findingOf(asked, s.View)
}

// findingOf is the result of an inquiry.
func findingOf(asked cause.Explanation, v fact.View) *finding {
	var words []fact.Fact
	for _, f := range v.All() {
		if f.Source == fact.Person && isWord(f.Key) && !strings.HasPrefix(string(f.Key), "told.") {
			words = append(words, f)
		}
	}
	f := &finding{cause: cause.Turned(asked, words)}
	for _, w := range words {
		f.over = append(f.over, w.Key)
	}
	return f
}

package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/strict"
	"earlybench.invalid/earlybench/internal/ways"
)

// stateWithin bounds asking a device for the state of its admission.
const stateWithin = 10 * time.Second

// use records the state of this bench's admission, waits until it is admitted, and then
// records what the device reports, until the session ends.
func (r *reach) use(s device.Session, scope string) {
	ctx, end := whileUp(r.ctx, s)
	defer end()
	if !r.letIn(ctx, s) {
		return
	}
	r.follow(ctx, s, scope)
}

// whileUp returns a context that is also cancelled when a session ends; end must be called.
func whileUp(ctx context.Context, s device.Session) (up context.Context, end func()) {
	up, cancel := context.WithCancel(ctx)
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		select {
		case <-s.Done():
			cancel()
		case <-up.Done():
		}
	}()
	return up, func() { cancel(); <-watched }
}

// letIn waits until this bench is admitted; false means that the session ended first.
func (r *reach) letIn(ctx context.Context, s device.Session) bool {
	k := r.keeper
	admission, err := s.Admission()
	if errors.Is(err, errors.ErrUnsupported) {
		return true // nobody is asked on this way
	}
	short, cancel := context.WithTimeout(ctx, stateWithin)
	defer cancel()
	var a device.Admittance
	if err == nil {
		a, err = admission.State(short)
	}
	if err != nil {
		if !endsNow(ctx) {
			r.Down(err)
			s.Close()
		}
		return false
	}
	seen := append(k.admissionFacts(a), k.Seen(fact.LinkKey, fact.Of("known"), fact.Device))
	before, known := k.cfg.Facts.View().Get(fact.AdmitState, k.cfg.Clock.Now())
	// The outcome of the last question is kept until the bench is admitted or asks again.
	if !known || a.State == device.Admitted || before.Value.Text() == string(device.AdmitAsking) || before.Value.Text() == string(device.Admitted) {
		seen = append(seen, k.Seen(fact.AdmitState, fact.Of(string(a.State)), fact.Device))
	}
	r.observeAdmission(a, seen...)
	k.mu.Lock()
	r.greeted = true // from now on it may be asked, and nothing older is observed after that
	k.mu.Unlock()
	k.tell()
	if a.State == device.Admitted {
		return true
	}
	return r.untilAdmitted(ctx, admission, a.Locked)
}

// lookEvery is how often a visitor asks for the state of its admission, since a device
// reports nothing else to it: somebody may unlock the device.
const lookEvery = 2 * time.Second

// untilAdmitted records whether the device is locked until this bench is admitted; false means
// that the session ended first.
func (r *reach) untilAdmitted(ctx context.Context, admission device.Admission, locked bool) bool {
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return false
		case <-r.admitted:
			return true
		case <-look.C:
		}
		short, cancel := context.WithTimeout(ctx, stateWithin)
		a, err := admission.State(short)
		cancel()
		if err == nil && a.State != device.Admitted && a.Locked != locked {
			locked = a.Locked
			r.Observe(r.keeper.Seen(fact.Locked, fact.Of(locked), fact.Device))
		}
	}
}

// observeAdmission records an admission. The end of an earlier one is forgotten if this one
// has none.
func (r *reach) observeAdmission(a device.Admittance, seen ...fact.Fact) {
	k := r.keeper
	if _, known := k.cfg.Facts.View().Get(fact.AdmitEnds, k.cfg.Clock.Now()); known && a.State == device.Admitted && a.Until.IsZero() {
		if err := k.cfg.Facts.Forget(r.ctx, fact.Device, fact.AdmitEnds); err != nil && r.ctx.Err() == nil {
			k.cfg.Log.Error("forget the end of an earlier admission", "device", k.Device().Handle, "error", err)
		}
	}
	r.Observe(seen...)
}

// longestQuestion is for how long a device is believed to ask; what it says beyond that is a mistake.
const longestQuestion = time.Hour

// admissionFacts are the facts that follow from an admission beside its state.
func (k *Keeper) admissionFacts(a device.Admittance) []fact.Fact {
	var out []fact.Fact
	if !a.Until.IsZero() {
		out = append(out, k.Seen(fact.AdmitEnds, fact.Of(a.Until), fact.Device))
	}
	if a.State == device.AdmitAsking && a.Waits > 0 {
		waits := min(time.Duration(min(a.Waits, 1e6))*time.Second, longestQuestion)
		out = append(out, k.Seen(fact.AdmitLapses, fact.Of(k.cfg.Clock.Now().Add(waits)), fact.Device))
	}
	if a.Number != "" {
		out = append(out, k.Seen(fact.AdmitNumber, fact.Of(a.Number), fact.Device))
	}
	if a.State != device.Admitted {
		out = append(out, k.Seen(fact.Locked, fact.Of(a.Locked), fact.Device))
	}
	return out
}

// toldWithin is how long a device may take to tell the first of its facts. One that has told none
// then is linked all the same.
const toldWithin = 3 * time.Second

// follow records what an admitted device reports until the session ends. That it is linked is
// recorded together with what it tells first: what it does not tell then is not known, instead
// of not known yet.
func (r *reach) follow(ctx context.Context, s device.Session, scope string) {
	k := r.keeper
	k.cfg.Facts.Begin(scope)
	defer k.cfg.Facts.End(scope)
	defer func() {
		k.mu.Lock()
		r.open, r.told = false, deviceClock{}
		k.apps = nil
		k.mu.Unlock()
	}()
	var once sync.Once
	linked := func(told ...fact.Fact) (first bool) {
		once.Do(func() {
			first = true
			k.observe(ctx, r.way.Scope(), scope, append(told, k.Seen(fact.LinkUp, fact.Of(true), fact.Device), k.Seen(fact.Met, fact.Of(true), fact.Device)))
			k.mu.Lock()
			r.open = true
			k.mu.Unlock()
			k.tell()
		})
		return first
	}
	told, err := s.Facts()
	if errors.Is(err, errors.ErrUnsupported) {
		linked()
		<-ctx.Done()
		return
	}
	late := time.AfterFunc(toldWithin, func() { linked() })
	defer once.Do(func() {}) // waits for one that runs
	defer late.Stop()
	if err == nil {
		err = told.Follow(ctx, func(batch []device.Fact) {
			seen := r.read(batch, scope)
			if !linked(seen...) {
				k.observe(ctx, r.way.Scope(), scope, seen)
			}
		})
	}
	if errors.Is(err, device.ErrNotAdmitted) {
		r.Observe(k.Seen(fact.AdmitState, fact.Of(string(device.AdmitNone)), fact.Device))
	}
	if !endsNow(ctx) { // it reports nothing more: start again
		r.Down(err)
		s.Close()
	}
}

// endShows is how long the end of a session may take to show: its channels may end before it.
const endShows = 300 * time.Millisecond

// endsNow reports whether a session has ended, or does in a moment. Why it has, its way tells.
func endsNow(up context.Context) bool {
	select {
	case <-up.Done():
		return true
	case <-time.After(endShows):
		return false
	}
}

// read converts what a device reports into facts. Keys that a device may not report,
// and values that cannot be read, are ignored.
func (r *reach) read(told []device.Fact, scope string) []fact.Fact {
	k := r.keeper
	registry := k.cfg.Facts.View().Registry()
	var out []fact.Fact
	for _, t := range told {
		if len(t.Value) > mostFact {
			k.cfg.Log.Warn("leave out a fact that is too large", "device", k.Device().Handle, "key", plain.Cut(plain.Line(t.Key), 60), "bytes", len(t.Value))
			continue
		}
		switch t.Key {
		case device.FactClock: // what time it has; how far that is off is seen here
			var at time.Time
			if json.Unmarshal(t.Value, &at) == nil {
				k.mu.Lock()
				r.told = deviceClock{clock.Read(at), scope}
				k.mu.Unlock()
				out = append(out, k.clockFact(r.told.Other))
			}
		case device.FactApps:
			var apps []device.App
			if strict.NewerJSON(t.Value, &apps) == nil {
				apps = device.Bounded(apps)
				k.mu.Lock()
				k.apps = apps
				k.mu.Unlock()
				k.tell()
			}
		default:
			spec, ok := registry.Lookup(fact.Key(t.Key))
			if !ok {
				continue
			}
			if v, err := fact.ParseValue(spec.Type, t.Value); err == nil {
				out = append(out, k.Seen(spec.Key, v, r.source()))
			}
		}
	}
	return out
}

// source is who tells what the session reports.
func (r *reach) source() fact.Source {
	if r.way.Kind() == ways.Adapter {
		return fact.Adapter
	}
	return fact.Device
}

func (k *Keeper) clockFact(c clock.Other) fact.Fact {
	return k.Seen(fact.DeviceClock, fact.Of(int64(c.Ahead(k.cfg.Clock.Now()).Round(time.Second).Seconds())), fact.Device)
}

// clockNoise is by how much what is known of a clock may be off.
const clockNoise = 5 * time.Second

// CompareClocks observes again how far the device's clock is off, if this computer's clock was set since the
// device told its time.
func (k *Keeper) CompareClocks() {
	k.mu.Lock()
	var use *reach
	var told deviceClock
	for _, r := range k.reaches {
		if r.open && r.told.Known() {
			use, told = r, r.told
			break
		}
	}
	k.mu.Unlock()
	if use == nil {
		return
	}
	now := k.clockFact(told.Other)
	before, ok := k.cfg.Facts.View().Get(fact.DeviceClock, k.cfg.Clock.Now())
	if ok && (time.Duration(now.Value.Int()-before.Value.Int())*time.Second).Abs() > clockNoise {
		k.observe(use.ctx, use.way.Scope(), told.scope, []fact.Fact{now})
	}
}

// mostFact is how long a fact may be that a device tells, in bytes; a longer one is left out.
const mostFact = 256 << 10

// maxSentence bounds what is kept of an error's text, in bytes.
const maxSentence = 200

func cut(s string) string { return plain.Cut(s, maxSentence) }

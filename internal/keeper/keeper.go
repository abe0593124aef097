package keeper

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/store"
)

// Attachment is a device's hanging on a host's bus.
type Attachment struct {
	Host       store.Host
	BusID      string
	Port       string
	Plugging   int
	Run        string // of the host, so that its counting is not taken for another's
	Interfaces []hostlink.Interface
}

func (a Attachment) scope() string {
	return fmt.Sprintf("cable:%s/%s/%s/%d", a.Host.Name, a.Run, a.BusID, a.Plugging)
}

// driver is the driver that the host has bound to the bench link.
func (a Attachment) driver() (name string, has bool) {
	for _, i := range a.Interfaces {
		if i.Name == linkName {
			return i.Driver, true
		}
	}
	return "", false
}

// Keeper keeps one device.
type Keeper struct {
	rack *Rack

	mu       sync.Mutex
	series   *sheet.Series
	asked    cause.Explanation // the last that somebody's words or a proof had a part in
	host     string            // on which it was seen last
	left     []time.Time       // when it left the bus of late
	pending  time.Time         // when it will be looked at anew for time's sake; zero: never
	device   store.Device
	view     fact.View
	at       *Attachment   // nil: not on any bus
	live     []string      // scopes that last
	session  *link.Session // a visitor's, or an admitted bench's
	linked   *Link         // once admitted
	apps     []link.App
	working  string // title of the work that has the lease
	revision int
	state    string // what the revision counts
	rebound  chan struct{}
	admitted chan struct{}

	stop context.CancelFunc // of what was started by Attach
	held sync.WaitGroup
}

// keeper makes the keeper of a device on record; nil if its sheet has gone.
func (r *Rack) keeper(ctx context.Context, d store.Device) (*Keeper, error) {
	s := r.library().Named(d.Family, d.Maker, d.Code)
	if s == nil {
		r.cfg.Log.Warn("no sheet fits a device on record", "device", d.Handle)
		return nil, nil
	}
	return r.keeperBy(ctx, s, d)
}

func (r *Rack) keeperBy(ctx context.Context, s *sheet.Series, d store.Device) (*Keeper, error) {
	facts, err := r.cfg.Store.Facts(ctx, d.ID)
	if err != nil {
		return nil, fmt.Errorf("read the facts of %s: %w", d.Handle, err)
	}
	k := &Keeper{rack: r, series: s, device: d, view: fact.NewView(s.Registry, nil, facts...),
		rebound: make(chan struct{}, 1), admitted: make(chan struct{}, 1)}
	k.mu.Lock()
	k.count()
	k.mu.Unlock()
	return k, nil
}

// resheet goes over to another edition of its sheets. What is on record of it
// is read anew, since the other edition may know more keys.
func (k *Keeper) resheet(ctx context.Context, s *sheet.Series) error {
	facts, err := k.rack.cfg.Store.Facts(ctx, k.Device().ID)
	if err != nil {
		return fmt.Errorf("read the facts of %s: %w", k.Device().Handle, err)
	}
	k.mu.Lock()
	k.series = s
	k.view = fact.NewView(s.Registry, k.live, facts...)
	k.count()
	handle := k.device.Handle
	k.mu.Unlock()
	k.touch(handle)
	return nil
}

// registry is the registry of its sheets.
func (k *Keeper) registry() *fact.Registry {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.series.Registry
}

// sheet is the sheet for the release that it is known to have. The lock is held.
func (k *Keeper) sheet(now time.Time) *sheet.Sheet {
	f, _ := k.view.Get(fact.OSRelease, now)
	return k.series.At(fact.Release(f.Value.Text()))
}

// Device is the device's record.
func (k *Keeper) Device() store.Device {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.device
}

// Retire keeps how far putting the device away has come; nil: it stays.
func (k *Keeper) Retire(ctx context.Context, r *store.Retirement) error {
	k.mu.Lock()
	d := k.device
	k.mu.Unlock()
	d.Retirement = r
	if err := k.rack.cfg.Store.SaveDevice(ctx, d); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.device.Retirement = r
	return nil
}

func (k *Keeper) set(ctx context.Context, c Change) error {
	k.mu.Lock()
	d := k.device
	if c.Handle != nil {
		d.Handle = *c.Handle
	}
	if c.HandsURL != nil {
		d.HandsURL = *c.HandsURL
	}
	repin := c.Key != nil && *c.Key != d.Key
	if c.Key != nil {
		d.Key = *c.Key
	}
	k.mu.Unlock()
	if err := k.rack.cfg.Store.SaveDevice(ctx, d); err != nil {
		return err
	}
	k.mu.Lock()
	k.device = d
	k.mu.Unlock()
	if repin {
		k.wake(k.rebound)
	}
	return nil
}

func (k *Keeper) wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// seen makes a fact of now.
func (k *Keeper) seen(key fact.Key, v fact.Value, src fact.Source, scope string) fact.Fact {
	return fact.Fact{Key: key, Value: v, Source: src, At: k.rack.cfg.Clock.Now(), Scope: scope}
}

// observe takes facts in and keeps them.
func (k *Keeper) observe(facts ...fact.Fact) {
	k.mu.Lock()
	k.view = k.view.With(facts...)
	before := k.revision
	found := k.count()
	d, standing := k.device, k.revision != before
	k.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := k.rack.cfg.Store.SaveFacts(ctx, d, facts, standing); err != nil {
		k.rack.cfg.Log.Error("keep what was seen", "device", d.Handle, "error", err)
	}
	k.learn(ctx, found)
}

// setLive says which scopes last, and tells those who look.
func (k *Keeper) setLive(change func([]string) []string) {
	k.mu.Lock()
	k.live = change(k.live)
	k.view = k.view.Live(k.live...)
	found := k.count()
	handle := k.device.Handle
	k.mu.Unlock()
	k.touch(handle)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	k.learn(ctx, found)
}

func (k *Keeper) touch(handle string) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := k.rack.cfg.Store.Touch(ctx, handle); err != nil {
		k.rack.cfg.Log.Error("tell of a change", "device", handle, "error", err)
	}
}

// standingOf is all of how a device stands that people see on the rack and in its
// plan, as one text: where two are the same, nothing they see has changed.
func standingOf(q cause.Question, says string) string {
	r := q.Readiness
	var s strings.Builder
	fmt.Fprint(&s, r.First, r.Summary, r.Path.Name, r.Ending, says)
	for _, g := range append(slices.Clone(r.Gates), r.Host...) {
		fmt.Fprint(&s, "/", g.State, g.Waits)
	}
	for _, st := range r.Steps {
		fmt.Fprint(&s, "/", st.ID, st.Done, st.Told, st.Denied != nil)
	}
	for _, key := range []fact.Key{fact.OSRelease, fact.Language, fact.LinkTrouble, fact.USBHolder} { // they stand in its words
		if f, ok := q.View.Get(key, q.Now); ok {
			fmt.Fprint(&s, "/", f.Value)
		}
	}
	return s.String()
}

// count raises the revision when what a person decides by has changed, asks to
// be woken when time alone will change it, and tells what was found out if a
// gate has opened. The lock is held.
func (k *Keeper) count() *finding {
	now := k.rack.cfg.Clock.Now()
	sh := k.sheet(now)
	subject := k.subject("", fact.Release(""))
	r := ready.Evaluate(sh, subject, k.view, now)
	q := cause.Question{Sheet: sh, Subject: subject, Readiness: &r, View: k.view, Now: now, Learned: k.rack.learned(sh.Family, k.host)}
	e := cause.Explain(q)
	if state := standingOf(q, e.Text); state != k.state {
		k.state = state
		k.revision++
	}
	found := k.found(&r)
	if telling(e) {
		k.asked = e
	}
	if !r.NextChange.IsZero() {
		k.wakeAt(r.NextChange)
	}
	return found
}

// wakeAt has the device looked at anew at a time, unless that happens sooner
// anyway. The lock is held.
func (k *Keeper) wakeAt(at time.Time) {
	if !k.pending.IsZero() && !at.Before(k.pending) {
		return
	}
	k.pending = at
	due := k.rack.cfg.Clock.After(at.Sub(k.rack.cfg.Clock.Now()))
	go func() { // it ends with the rack, or when due
		select {
		case <-k.rack.ctx.Done():
			return
		case <-due:
		}
		k.mu.Lock()
		if k.pending.Equal(at) {
			k.pending = time.Time{}
		}
		before := k.revision
		k.count()
		changed, handle := k.revision != before, k.device.Handle
		k.mu.Unlock()
		if changed {
			k.touch(handle)
		}
	}()
}

// Lease gives one piece of work the device for itself; release gives it back.
func (k *Keeper) Lease(title string) (release func(), err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.working != "" {
		return nil, &job.Problem{Kind: job.Blocked, Text: fmt.Sprintf("%s is busy: %s.", k.device.Handle, k.working), Remedy: "Wait for that to end, or stop it."}
	}
	k.working = title
	k.count()
	handle := k.device.Handle
	go k.touch(handle)
	return func() {
		k.mu.Lock()
		k.working = ""
		k.count()
		k.mu.Unlock()
		k.touch(handle)
	}, nil
}

// offer looks anew which driver set fits.
func (k *Keeper) offer() {
	name := ""
	if s := k.rack.fitting(k.Device().USB); s != nil {
		name = s.Manifest.Name
	}
	k.observe(k.seen(fact.DriverOffered, fact.Of(name), fact.Host, ""))
}

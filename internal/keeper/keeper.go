package keeper

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

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
	rack  *Rack
	sheet *sheet.Sheet

	mu       sync.Mutex
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
	s := r.cfg.Sheets.Named(d.Family, d.Maker, d.Code)
	if s == nil {
		r.cfg.Log.Warn("no sheet fits a device on record", "device", d.Handle)
		return nil, nil
	}
	facts, err := r.cfg.Store.Facts(ctx, d.ID)
	if err != nil {
		return nil, fmt.Errorf("read the facts of %s: %w", d.Handle, err)
	}
	k := &Keeper{rack: r, sheet: s, device: d, view: fact.NewView(s.Registry, nil, facts...),
		rebound: make(chan struct{}, 1), admitted: make(chan struct{}, 1)}
	k.mu.Lock()
	k.count()
	k.mu.Unlock()
	return k, nil
}

// Device is the device's record.
func (k *Keeper) Device() store.Device {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.device
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
	k.count()
	d := k.device
	k.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := k.rack.cfg.Store.SaveFacts(ctx, d, facts); err != nil {
		k.rack.cfg.Log.Error("keep what was seen", "device", d.Handle, "error", err)
	}
}

// setLive says which scopes last, and tells those who look.
func (k *Keeper) setLive(change func([]string) []string) {
	k.mu.Lock()
	k.live = change(k.live)
	k.view = k.view.Live(k.live...)
	k.count()
	handle := k.device.Handle
	k.mu.Unlock()
	k.touch(handle)
}

func (k *Keeper) touch(handle string) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := k.rack.cfg.Store.Touch(ctx, handle); err != nil {
		k.rack.cfg.Log.Error("tell of a change", "device", handle, "error", err)
	}
}

// count raises the revision when what a person decides by has changed, and asks
// to be woken when time alone will change it. The lock is held.
func (k *Keeper) count() {
	now := k.rack.cfg.Clock.Now()
	r := ready.Evaluate(k.sheet, k.subject(""), k.view, now)
	state := fmt.Sprint(r.First, r.Summary)
	for _, g := range r.Gates {
		state += "/" + string(g.State)
	}
	if r.Next != nil {
		state += r.Next.ID
	}
	if state != k.state {
		k.state = state
		k.revision++
	}
	if r.NextChange.IsZero() {
		return
	}
	due, revision := k.rack.cfg.Clock.After(r.NextChange.Sub(now)), k.revision
	go func() {
		select {
		case <-k.rack.ctx.Done():
		case <-due:
			k.mu.Lock()
			stale, handle := k.revision != revision, k.device.Handle
			k.mu.Unlock()
			if !stale {
				k.touch(handle)
			}
		}
	}()
}

func (k *Keeper) subject(app string) ready.Subject {
	return ready.Subject{WithApp: app != "", Busy: k.working != "",
		Attributes: sheet.Attributes{Family: k.sheet.Family, Maker: k.sheet.Maker, Code: k.sheet.Model.Code, App: app}}
}

// Standing is all that is known of a device at one moment.
type Standing struct {
	Device    store.Device
	Sheet     *sheet.Sheet
	Readiness ready.Readiness
	Why       cause.Explanation
	View      fact.View
	At        *Attachment
	Apps      []link.App
	Linked    bool
	Working   string
	Revision  int
	Words     map[string]string
	Offered   *store.DriverSet
	Now       time.Time
}

// Look computes how the device stands now; with an app, for that too.
func (k *Keeper) Look(ctx context.Context, app string) Standing {
	k.mu.Lock()
	s := Standing{Device: k.device, Sheet: k.sheet, View: k.view, At: k.at, Apps: slices.Clone(k.apps), Linked: k.linked != nil,
		Working: k.working, Revision: k.revision, Now: k.rack.cfg.Clock.Now()}
	subject := k.subject(app)
	k.mu.Unlock()
	s.Offered = k.rack.fitting(s.Device.USB)
	if app != "" {
		s.View = s.View.With(k.appFacts(ctx, s, app)...)
	}
	s.Words = k.words(s)
	s.Readiness = ready.Evaluate(s.Sheet, subject, s.View, s.Now)
	s.Why = cause.Explain(s.Sheet, subject, s.Readiness, s.View, s.Now, s.Words)
	return s
}

// appFacts are what was seen of an app on the device, in tryouts on record and
// in its list of apps.
func (k *Keeper) appFacts(ctx context.Context, s Standing, app string) []fact.Fact {
	var out []fact.Fact
	if t, err := k.rack.cfg.Store.LastTryout(ctx, s.Device.ID, app); err == nil {
		out = append(out, fact.Fact{Key: fact.AppTried, Value: fact.Of(t.Passed), Source: fact.Device, At: t.Created})
	}
	for _, a := range s.Apps {
		if a.ID == app {
			out = append(out, fact.Fact{Key: fact.AppInstalled, Value: fact.Of(a.Digest), Source: fact.Device, At: s.Now})
		}
	}
	return out
}

// words are what only this device knows, for the sheet's texts.
func (k *Keeper) words(s Standing) map[string]string {
	w := map[string]string{"handle": s.Device.Handle, "bench": k.rack.cfg.Bench,
		"fingerprint": ssh.FingerprintSHA256(k.rack.cfg.Key.PublicKey()), "set": "(none here fits)"}
	if s.Offered != nil {
		w["set"] = s.Offered.Manifest.Name + " " + s.Offered.Manifest.Version
	}
	if f, ok := s.View.Get(fact.LinkTrouble, s.Now); ok {
		w["trouble"] = f.Value.String()
	}
	return w
}

// Tell keeps a person's word that a step is done.
func (k *Keeper) Tell(step, by string) error {
	i := slices.IndexFunc(k.sheet.Steps, func(s *sheet.Step) bool { return s.ID == step })
	if i < 0 {
		return fmt.Errorf("step %q: %w", step, store.ErrNotFound)
	}
	if st := k.sheet.Steps[i]; st.Who != sheet.Hands || st.Sure || st.Action != "" {
		return fmt.Errorf("step %s: %w: the bench sees for itself whether it is done", step, ErrBad)
	}
	k.mu.Lock()
	scope := ""
	if k.at != nil {
		scope = k.at.scope()
	}
	k.mu.Unlock()
	f := k.seen(sheet.Told(step), fact.Of(true), fact.Person, scope)
	f.By = by
	k.observe(f)
	return nil
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

// Trouble tells whether the last attempt to link failed.
func (s Standing) Trouble() bool {
	_, ok := s.View.Get(fact.LinkTrouble, s.Now)
	return ok
}

// Blocked is the problem of work that cannot begin because a gate is not open.
func (s Standing) Blocked() *job.Problem {
	return &job.Problem{Kind: job.Blocked, Gate: s.Why.Gate, Text: s.Why.Text, Remedy: plain(s.Why.Remedy)}
}

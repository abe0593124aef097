// Package keeper keeps one device: its record, the ways by which it is reached,
// the session that is used, and the leases under which work is done on it. It
// knows no transport. It records what it is told; package outlook computes what that
// means for the device's readiness.
package keeper

import (
	"context"
	"log/slog"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/ways"
)

// Records is where the device's record is kept; *store.Store is one.
type Records interface {
	ChangeDevice(ctx context.Context, id, handle string, c store.DeviceChange) error
}

// Config is what a keeper needs. All fields are needed.
type Config struct {
	Records Records
	Facts   *facts.Record // of this device
	Clock   clock.Clock
	Log     *slog.Logger
	// Proven is called when a device has proven a key over one of this keeper's ways. It
	// pins the key where that is allowed, and returns the keeper that the device belongs
	// to, or an error where the bench must not talk to the device.
	Proven func(ctx context.Context, k *Keeper, w ways.Way, key string) (*Keeper, error)
	// Changed is called when something other than a fact has changed: a lease, a way or a
	// session. It must not block.
	Changed func(k *Keeper)
	// Ended is called when one of the keeper's ways has ended; moved says that the way
	// continues at another keeper.
	Ended func(k *Keeper, w ways.Way, moved bool)
}

// Keeper keeps one device. It is made by New and ends with Close.
type Keeper struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	recording sync.Mutex // held while the record is changed, before mu

	mu       sync.Mutex // guards all below
	closed   bool
	device   store.Device
	series   *sheet.Series
	reaches  []*reach
	host     string // on which it was seen last
	apps     []device.App
	leases   []*lease
	reserved *reservation  // nil: anybody may use it
	changed  chan struct{} // closed and replaced at every change
}

// New makes the keeper of a device, with the sheets of its model.
func New(ctx context.Context, cfg Config, d store.Device, s *sheet.Series) *Keeper {
	k := &Keeper{cfg: cfg, device: d, series: s, changed: make(chan struct{})}
	k.ctx, k.end = context.WithCancel(ctx)
	cfg.Facts.Describe(d.Handle, s.Registry)
	return k
}

// Close ends every way, and waits.
func (k *Keeper) Close() {
	k.mu.Lock()
	k.closed = true
	k.mu.Unlock()
	k.end()
	k.work.Wait()
}

// Discard is Close without waiting, for a keeper that has no work left.
func (k *Keeper) Discard() {
	k.mu.Lock()
	k.closed = true
	k.mu.Unlock()
	k.end()
}

// Device is the device's record.
func (k *Keeper) Device() store.Device {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.device
}

// Series returns the sheets that apply to the device.
func (k *Keeper) Series() *sheet.Series {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.series
}

// SetSeries replaces the device's sheets by another edition.
func (k *Keeper) SetSeries(s *sheet.Series) {
	k.mu.Lock()
	k.series = s
	handle := k.device.Handle
	k.mu.Unlock()
	k.cfg.Facts.Describe(handle, s.Registry)
	k.tell()
}

// Facts is what is known of the device.
func (k *Keeper) Facts() *facts.Record { return k.cfg.Facts }

// Host is the host on which it was seen last; "" for none.
func (k *Keeper) Host() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.host
}

// Apps is the list of apps that the device tells while it is linked.
func (k *Keeper) Apps() []device.App {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Clone(k.apps)
}

// Change changes just the given columns of the record.
func (k *Keeper) Change(ctx context.Context, c store.DeviceChange) error {
	k.recording.Lock()
	defer k.recording.Unlock()
	return k.change(ctx, c)
}

// change is Change; recording is held.
func (k *Keeper) change(ctx context.Context, c store.DeviceChange) error {
	d := k.Device()
	// Whoever asks may leave meanwhile: what is on disk is known here, too.
	if err := k.cfg.Records.ChangeDevice(context.WithoutCancel(ctx), d.ID, d.Handle, c); err != nil {
		return err
	}
	k.mu.Lock()
	repinned := false
	if c.Handle != nil {
		k.device.Handle = *c.Handle
	}
	if c.HandsURL != nil {
		k.device.HandsURL = *c.HandsURL
	}
	if c.Serial != nil {
		k.device.Serial = *c.Serial
	}
	if c.Place != nil {
		k.device.Place = *c.Place
	}
	if c.Key != nil {
		repinned = k.device.Key != "" && k.device.Key != *c.Key
		k.device.Key = *c.Key
	}
	if c.Retirement != nil {
		k.device.Retirement = *c.Retirement
	}
	handle, reaches := k.device.Handle, slices.Clone(k.reaches)
	k.mu.Unlock()
	k.cfg.Facts.Describe(handle, nil)
	if repinned {
		for _, r := range reaches {
			wake(r.retry)
		}
	}
	k.tell()
	return nil
}

// Retiring reports whether the device is being retired.
func (k *Keeper) Retiring() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	r := k.device.Retirement
	return r != nil && r.Ended.IsZero()
}

// Retire changes how far retiring the device has come: next gets what is on record and
// returns what is to be kept. nil means that the device is not being retired.
func (k *Keeper) Retire(ctx context.Context, next func(*store.Retirement) (*store.Retirement, error)) error {
	k.recording.Lock()
	defer k.recording.Unlock()
	r, err := next(k.Device().Retirement)
	if err != nil {
		return err
	}
	return k.change(ctx, store.DeviceChange{Retirement: &r})
}

// Changed returns a channel that is closed at the next change other than a fact.
func (k *Keeper) Changed() <-chan struct{} {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.changed
}

// tell wakes those who wait for a change.
func (k *Keeper) tell() {
	k.mu.Lock()
	close(k.changed)
	k.changed = make(chan struct{})
	k.mu.Unlock()
	k.cfg.Changed(k)
}

func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Seen makes a fact that was observed now.
func (k *Keeper) Seen(key fact.Key, v fact.Value, src fact.Source) fact.Fact {
	return fact.Fact{Key: key, Value: v, Source: src, At: k.cfg.Clock.Now()}
}

// Told makes a fact that a person states now. Where scoped is set it ends when the
// device is unplugged.
func (k *Keeper) Told(key fact.Key, v fact.Value, by string, scoped bool) fact.Fact {
	f := k.Seen(key, v, fact.Person)
	f.By = by
	if r := k.best(func(*reach) bool { return true }); r != nil && scoped {
		f.Scope = r.way.Scope()
	}
	return f
}

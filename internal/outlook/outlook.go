// Package outlook computes the state of devices on demand: readiness, and why, from what
// is known. It reads memory only, and holds no lock that observers need.
//
// It also watches: whenever something has changed it recomputes the devices
// concerned, raises their revision where something that a person decides by has
// changed, announces that, and learns what the cause of a fault was.
package outlook

import (
	"context"
	"hash/maphash"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what an outlook needs. All fields are needed.
type Config struct {
	Rack        *rack.Rack
	Book        *facts.Book
	Store       *store.Store
	Clock       clock.Clock
	Bench       func() string // the bench's name
	Fingerprint string        // of the bench's link key
	// Offered is the driver set to install for a device; nil for none.
	Offered func(*keeper.Keeper) *driver.Candidate
	// Allowed is what is known of the grants and debug tokens for an app on a device.
	Allowed func(k *keeper.Keeper, app string) []fact.Fact
	// Means are those that the bench has for the steps of a device.
	Means func(*keeper.Keeper) []string
	Log   *slog.Logger
}

// Outlook is made by New, before the rack is read, and watches while Run runs.
type Outlook struct {
	cfg   Config
	wake  chan struct{}
	cases learning
	seed  maphash.Seed // of traces

	mu     sync.Mutex // guards all below
	minds  map[*keeper.Keeper]*mind
	dirty  map[*keeper.Keeper]bool // to be computed
	untold map[*keeper.Keeper]bool // of which others are to hear
	newest int64                   // revision
	next   time.Time               // when time alone alters a device, or earlier; zero: never
}

// mind is what is remembered of a device between two computations. Restarts and asked are
// guarded by busy, which is taken before the outlook's mu.
type mind struct {
	trace atomic.Uint64 // of what the revision counts; 0: nobody has seen the device yet

	busy     sync.Mutex
	restarts time.Duration     // of the step that came next while the device was seen
	asked    cause.Explanation // the last that somebody's words or a proof had a part in

	// Guarded by the outlook's mu.
	due      time.Time // when time alone alters it; zero: never
	revision int64
	stating  int // statements of people being recorded, after which it is recomputed at once
}

// New makes an outlook, which is told of every change from then on.
func New(ctx context.Context, cfg Config) (*Outlook, error) {
	o := &Outlook{cfg: cfg, wake: make(chan struct{}, 1), seed: maphash.MakeSeed(), minds: map[*keeper.Keeper]*mind{}, dirty: map[*keeper.Keeper]bool{}, untold: map[*keeper.Keeper]bool{}}
	// Revisions continue after a restart: each came with at least one event.
	last, err := cfg.Store.Last(ctx)
	if err != nil {
		return nil, err
	}
	o.newest = last
	if err := o.readLearned(ctx); err != nil {
		return nil, err
	}
	cfg.Rack.OnChange(o.touch)
	cfg.Book.OnChange(func(s facts.Subject) {
		if s.Kind != facts.Device {
			return // asked for with an app or host, and have events of their own
		}
		if k := cfg.Rack.ByID(s.ID); k != nil {
			o.touch(k)
		}
	})
	return o, nil
}

// touch makes Run recompute a device soon. Where a statement about it is being recorded,
// stating does that.
func (o *Outlook) touch(k *keeper.Keeper) {
	o.mu.Lock()
	o.dirty[k] = true
	m := o.minds[k]
	soon := m != nil && m.stating > 0
	o.mu.Unlock()
	if !soon {
		o.rouse()
	}
}

// Stating records a person's statement about a device, and recomputes the device at once,
// so that what the statement comes to is known before anything else happens.
func (o *Outlook) Stating(k *keeper.Keeper, record func() error) error {
	m := o.mind(k)
	o.mu.Lock()
	m.stating++
	o.mu.Unlock()
	err := record()
	if err == nil {
		o.recompute(k)
	}
	o.mu.Lock()
	m.stating--
	left := o.dirty[k] && m.stating == 0 // changed since, or the record failed
	o.mu.Unlock()
	if left {
		o.rouse()
	}
	return err
}

// Again makes Run recompute all devices soon: something has changed that no fact of them tells.
func (o *Outlook) Again() {
	for _, k := range o.cfg.Rack.All() {
		o.touch(k)
	}
}

// rouse wakes Run.
func (o *Outlook) rouse() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// mind returns what is remembered of a device.
func (o *Outlook) mind(k *keeper.Keeper) *mind {
	o.mu.Lock()
	defer o.mu.Unlock()
	m := o.minds[k]
	if m == nil {
		o.newest++
		m = &mind{revision: o.newest}
		o.minds[k] = m
	}
	return m
}

func (o *Outlook) revision(k *keeper.Keeper) int64 {
	m := o.mind(k)
	o.mu.Lock()
	defer o.mu.Unlock()
	return m.revision
}

// Check returns an error where an action was decided on an older revision of a device;
// 0 means on none in particular.
func (o *Outlook) Check(k *keeper.Keeper, decided int64) error {
	if decided == 0 {
		return nil
	}
	o.recompute(k)
	if o.revision(k) == decided {
		return nil
	}
	s := o.Look(k, "")
	text := "Nothing is shut now."
	if s.Why.Gate != "" {
		text = unmarked(s.Why.Text)
	}
	return &problem.Problem{Kind: problem.Changed, Text: s.Device.Handle + " has changed since this was decided. Now: " + text, Remedy: "Look again, and decide again."}
}

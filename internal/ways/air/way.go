package air

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
	"earlybench.invalid/earlybench/internal/ways"
)

// Way is the way to one device without a cable, for as long as it is heard or answers.
type Way struct {
	air    *Air
	keeper *keeper.Keeper
	id     string // of the device on record
	scope  string
	told   chan struct{} // the candidates have changed

	mu         sync.Mutex
	candidates []candidate // those that were heard last come first
	at         string      // where it answered last
	up         bool        // a session is up
}

// candidate is where a device may be.
type candidate struct {
	name      string // of the announcement, or the address
	addresses []string
	announced bool // it is heard; else the address is known from before, or given
}

func newWay(a *Air, k *keeper.Keeper, n int) *Way {
	id := k.Device().ID
	return &Way{air: a, keeper: k, id: id, scope: fmt.Sprintf("air:%s/%d", id, n), told: make(chan struct{}, 1)}
}

// Kind is wireless.
func (w *Way) Kind() ways.Kind { return ways.Wireless }

// Place is the address at which the device answered last.
func (w *Way) Place() ways.Place {
	w.mu.Lock()
	defer w.mu.Unlock()
	at := w.at
	if at == "" && len(w.candidates) > 0 {
		at = w.candidates[0].addresses[0]
	}
	return ways.Place{Port: at}
}

// Scope is that of the time in which the device is heard without a break.
func (w *Way) Scope() string { return w.scope }

// Pins is false: anybody on the network may announce themselves.
func (w *Way) Pins() bool { return false }

func (w *Way) wake() {
	select {
	case w.told <- struct{}{}:
	default:
	}
}

// add adds a candidate, or changes where it is.
func (w *Way) add(c candidate) {
	if len(c.addresses) == 0 {
		return
	}
	w.mu.Lock()
	w.candidates = slices.DeleteFunc(w.candidates, func(have candidate) bool { return have.name == c.name })
	w.candidates = slices.Insert(w.candidates, 0, c)
	w.mu.Unlock()
	w.wake()
}

// drop removes a candidate.
func (w *Way) drop(name string) {
	w.mu.Lock()
	w.candidates = slices.DeleteFunc(w.candidates, func(c candidate) bool { return c.name == name })
	w.mu.Unlock()
	w.wake()
}

// hopeful reports whether there is anywhere to try, or a session is up.
func (w *Way) hopeful() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.up || len(w.candidates) > 0
}

func (w *Way) all() []candidate {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.candidates)
}

const (
	firstPause = 100 * time.Millisecond
	mostPause  = 5 * time.Second
	steady     = 5 * time.Second // a link that lasted this long was a good one
)

// Run keeps a link to the device for as long as it is heard or answers.
func (w *Way) Run(ctx context.Context, to ways.Sink) error {
	said := "" // the last error: it is told once, however often it is tried
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		began := time.Now()
		err := w.try(ctx, to)
		if ctx.Err() != nil {
			break
		}
		if err != nil && w.hopeful() {
			if said != err.Error() {
				said = err.Error()
				w.air.cfg.Log.Info("link without a cable", "device", w.keeper.Device().Handle, "error", err)
			}
			to.Down(network.Trouble(err))
		}
		if w.air.forget(w) {
			return nil
		}
		if time.Since(began) > steady {
			pause, said = firstPause, ""
		}
		if w.wait(ctx, to, err, pause) {
			pause = firstPause
		}
	}
	w.air.retire(w)
	return nil
}

// wait waits until a further attempt is worth while; true if it is worth as much as the first.
func (w *Way) wait(ctx context.Context, to ways.Sink, err error, pause time.Duration) bool {
	late := time.NewTimer(pause)
	defer late.Stop()
	timer := late.C
	if _, changed := errors.AsType[*device.KeyChanged](err); changed {
		timer = nil // nothing is tried again until somebody pins the new one, or it is elsewhere
	}
	select {
	case <-ctx.Done():
	case <-w.told:
		return true
	case <-to.Retry():
		return true
	case <-timer:
	}
	return false
}

// dialWithin bounds connecting to one address and setting up the link.
const (
	connectWithin = 5 * time.Second
	dialWithin    = 20 * time.Second
)

// try tries each candidate, and stays with the first that is the device until the session ends.
// Somebody else who answers at an address that is only known from before is not worth reporting: addresses
// are reassigned.
func (w *Way) try(ctx context.Context, to ways.Sink) error {
	var worst error
	for _, c := range w.all() {
		var err error
		for _, address := range c.addresses {
			var s *session
			if s, err = w.dial(ctx, address, to); err == nil {
				w.use(ctx, s, c, address, to)
				return nil
			}
			if ctx.Err() != nil {
				return err
			}
		}
		if !c.announced {
			w.drop(c.name) // it is probed for
			continue
		}
		if _, changed := errors.AsType[*device.KeyChanged](err); !changed {
			w.air.doubt(c.name)
		}
		if _, changed := errors.AsType[*device.KeyChanged](worst); !changed {
			worst = err
		}
	}
	return worst
}

// doubt asks for confirmation of an announcement if nobody answers at its address.
func (a *Air) doubt(name string) {
	a.mu.Lock()
	b := a.browser
	a.mu.Unlock()
	if b != nil {
		b.Reconfirm(name)
	}
}

// dial links to the device at an address. Whoever proves another key is not the device: an
// announcement is only a hint, and changes nothing.
func (w *Way) dial(ctx context.Context, address string, to ways.Sink) (*session, error) {
	return w.air.dial(ctx, address, func(key string) error {
		if err := device.Pinned(w.keeper.Device().Key)(key); err != nil {
			return err
		}
		return to.Proven(ctx, key)
	})
}

// session is a session and when something was heard on it.
type session struct {
	*link.Session
	heard *network.Heard
}

// dial links to whoever is at an address, unless accept refuses the key.
func (a *Air) dial(ctx context.Context, address string, accept func(key string) error) (*session, error) {
	ctx, cancel := context.WithTimeout(ctx, dialWithin)
	defer cancel()
	connecting, connected := context.WithTimeout(ctx, connectWithin)
	c, err := a.cfg.Dial(connecting, "tcp", address)
	connected()
	if err != nil {
		return nil, err
	}
	h := &network.Heard{Conn: c}
	s, err := link.Dial(ctx, h, a.cfg.Key, accept)
	if err != nil {
		return nil, err
	}
	return &session{s, h}, nil
}

// use reports a session until it ends.
func (w *Way) use(ctx context.Context, s *session, c candidate, address string, to ways.Sink) {
	defer s.Close()
	w.mu.Lock()
	w.at, w.up = address, true
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		w.up = false
		w.mu.Unlock()
	}()
	w.air.answered(ctx, w.id, address)
	to.Observe(fact.Fact{Key: fact.AirSeen, Value: fact.Of(true), Source: fact.Host, At: w.air.cfg.Clock.Now()})
	to.Up(s.Session)
	s.heard.Lasts(ctx, s, w.told) //nolint:errcheck // it is tried again, which tells more
	if !c.announced {
		w.drop(c.name)
	}
}

// retire removes a way that has ended.
func (a *Air) retire(w *Way) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ways[w.id] == w {
		delete(a.ways, w.id)
	}
	a.tell()
}

// answered keeps where a device has answered.
func (a *Air) answered(ctx context.Context, id, address string) {
	a.mu.Lock()
	known := a.last[id] == address
	a.last[id] = address
	if g := a.given[address]; g != nil {
		g.device, g.trouble, g.tried = id, "", true
	}
	a.tell()
	a.mu.Unlock()
	if known {
		return
	}
	if err := a.cfg.Records.Answered(ctx, address, id, a.cfg.Clock.Now()); err != nil && ctx.Err() == nil {
		a.cfg.Log.Error("keep where a device answers", "address", address, "error", err)
	}
}

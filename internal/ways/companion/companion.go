// Package companion implements the way to a device through another one, such as to a watch
// through its handset (docs/formats/companion.md). The inner link is end to end: who is reached
// is decided by the device key alone, and the handset sees ciphertext.
package companion

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// Config is what the way through another device needs. All fields are needed.
type Config struct {
	Rack    network.Rack
	Key     ssh.Signer // the bench's link key
	Changed func()     // is called when what is heard has changed
	Clock   clock.Clock
	Log     *slog.Logger
}

// Companions holds the ways through other devices. It is made by New, and runs from Start to Close.
type Companions struct {
	cfg   Config
	ctx   context.Context
	end   context.CancelFunc
	work  sync.WaitGroup
	news  chan struct{} // sessions or keys may have changed
	known network.Recogniser

	mu      sync.Mutex
	follows map[string]*follow // what is heard through a device, by its id
	heard   map[place]*heard
	ways    map[string]*Way  // by id of the device
	counted int              // ways that were made
	named   int              // of those that were heard
	entries map[place]string // by which people speak of those that were heard, also while they are not
}

// follow is a session of a device through which others are reached.
type follow struct {
	session device.Session
	stop    context.CancelFunc
}

// place is where something is heard: through which device, and under which name.
type place struct{ through, name string }

// heard is a device that another one hears.
type heard struct {
	device.Companion
	entry   string // by which people speak of it
	through *keeper.Keeper
	session device.Session
	since   time.Time // when it was heard first
	slept   time.Time // since when it is asleep; zero while it is awake
	device  string    // id of the one on record that it is taken for; "" for none
}

// New makes the ways. Nothing runs before Start.
func New(cfg Config) *Companions {
	c := &Companions{cfg: cfg, news: make(chan struct{}, 1), follows: map[string]*follow{}, heard: map[place]*heard{}, ways: map[string]*Way{}, entries: map[place]string{}}
	c.ctx, c.end = context.WithCancel(context.Background())
	return c
}

// Start begins to listen through the devices that are linked.
func (c *Companions) Start() {
	c.work.Go(func() {
		for {
			select {
			case <-c.ctx.Done():
				return
			case <-c.news:
			}
			c.look()
			if clock.Sleep(c.ctx, clock.System{}, againEvery) != nil {
				return
			}
		}
	})
	c.work.Go(c.observe)
	c.Again()
}

// Close ends everything but the ways, which end with their keepers.
func (c *Companions) Close() {
	c.end()
	c.work.Wait()
}

// againEvery is how often at most the sessions are looked at again.
const againEvery = 100 * time.Millisecond

// Again identifies again which devices are heard through which. It does not block.
func (c *Companions) Again() {
	select {
	case c.news <- struct{}{}:
	default:
	}
}

// look follows what each linked device hears over its best session.
func (c *Companions) look() {
	there := map[string]bool{}
	for _, k := range c.cfg.Rack.All() {
		id, s := k.Device().ID, k.Session()
		there[id] = true
		c.mu.Lock()
		f := c.follows[id]
		if f != nil && f.session == s {
			c.mu.Unlock()
			continue
		}
		if f != nil {
			f.stop()
			delete(c.follows, id)
		}
		if s != nil {
			ctx, stop := context.WithCancel(c.ctx)
			f := &follow{session: s, stop: stop}
			c.follows[id] = f
			c.work.Go(func() { c.follow(ctx, k, f) })
		}
		c.mu.Unlock()
	}
	c.mu.Lock()
	for id, f := range c.follows {
		if !there[id] {
			f.stop()
			delete(c.follows, id)
		}
	}
	changed := false
	for at := range c.heard {
		if c.follows[at.through] == nil {
			delete(c.heard, at)
			changed = true
		}
	}
	c.mu.Unlock()
	if changed {
		c.cfg.Changed()
	}
	c.recogniseAll()
}

// follow takes what a device hears until its session ends.
func (c *Companions) follow(ctx context.Context, k *keeper.Keeper, f *follow) {
	defer f.stop()
	through, err := f.session.Companions()
	if err == nil {
		err = through.Follow(ctx, func(all []device.Companion) { c.take(k, f, all) })
	}
	if err != nil && ctx.Err() == nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, device.ErrEnded) {
		c.cfg.Log.Info("listen through a device", "device", k.Device().Handle, "error", err)
	}
	c.take(k, f, nil)
}

// take notes everything that is heard through a device, by a session.
func (c *Companions) take(k *keeper.Keeper, f *follow, all []device.Companion) {
	id, now := k.Device().ID, c.cfg.Clock.Now()
	c.mu.Lock()
	if c.follows[id] != f {
		c.mu.Unlock()
		return // a newer session tells
	}
	changed := false
	there := map[place]bool{}
	for _, told := range all {
		at := place{id, told.Name}
		there[at] = true
		h := c.heard[at]
		if h == nil {
			h = &heard{entry: c.entry(at), since: now}
			c.heard[at] = h
		}
		changed = changed || h.Asleep != told.Asleep || h.session != f.session
		h.Companion, h.through, h.session, h.slept = told, k, f.session, time.Time{}
		if told.Asleep {
			h.slept = now.Add(-time.Duration(told.Slept) * time.Second)
		}
	}
	for at := range c.heard {
		if at.through == id && !there[at] {
			delete(c.heard, at)
			changed = true
		}
	}
	c.mu.Unlock()
	if changed {
		c.cfg.Changed()
		c.recogniseAll()
	}
}

// mostEntries bounds the remembered names of entries.
const mostEntries = 1000

// entry is the name of what is heard at a place: the same as before, if it was heard before. The
// lock is held.
func (c *Companions) entry(at place) string {
	if c.entries[at] == "" {
		if len(c.entries) >= mostEntries {
			clear(c.entries)
		}
		c.named++
		c.entries[at] = fmt.Sprintf("near-%d", c.named)
	}
	return c.entries[at]
}

// recogniseAll finds the devices on record that are heard, and connects to them.
func (c *Companions) recogniseAll() {
	type found struct {
		k   *keeper.Keeper
		all map[string]candidate
	}
	met := map[string]*found{}
	c.mu.Lock()
	for at, h := range c.heard {
		h.device = ""
		k := c.known.Recognise(c.cfg.Rack, h.Name)
		if k == nil {
			continue
		}
		h.device = k.Device().ID
		if met[h.device] == nil {
			met[h.device] = &found{k, map[string]candidate{}}
		}
		met[h.device].all[at.through] = candidate{name: h.Name, through: h.through.Device().Handle, session: h.session, slept: h.slept}
	}
	var begin []*Way
	for id, f := range met {
		w := c.ways[id]
		if w == nil {
			c.counted++
			w = newWay(c, f.k, c.counted)
			c.ways[id] = w
			begin = append(begin, w)
		}
		w.set(f.all)
	}
	for id, w := range c.ways {
		if met[id] == nil {
			w.set(nil)
		}
	}
	c.mu.Unlock()
	for _, w := range begin {
		w.keeper.Reach(w)
	}
}

// forget removes a way that has nowhere to go; false if it has got a candidate meanwhile.
func (c *Companions) forget(w *Way) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if w.hopeful() && c.ctx.Err() == nil {
		return false
	}
	if c.ways[w.id] == w {
		delete(c.ways, w.id)
	}
	return true
}

// List returns what is heard, by name.
func (c *Companions) List() []network.Entry {
	handles := network.Handles(c.cfg.Rack)
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []network.Entry
	for at, h := range c.heard {
		e := network.Entry{Name: h.entry, State: network.NotMet, Device: handles[h.device], Family: line(h.Family), Through: handles[at.through], Since: h.since, Asleep: h.slept}
		if e.Device != "" {
			e.State = network.Known
		}
		out = append(out, e)
	}
	network.Sort(out)
	return out
}

// Dial links to the device of an entry, whoever that is.
func (c *Companions) Dial(ctx context.Context, e network.Entry) (s *link.Session, at string, err error) {
	c.mu.Lock()
	var found *candidate
	for _, h := range c.heard {
		if h.entry == e.Name {
			found = &candidate{name: h.Name, through: h.through.Device().Handle, session: h.session, slept: h.slept}
		}
	}
	c.mu.Unlock()
	if found == nil {
		return nil, e.Name, fmt.Errorf("%s no longer hears it", e.Through)
	}
	inner, err := c.dial(ctx, *found, func(string) error { return nil })
	if err != nil {
		return nil, "through " + found.through, err
	}
	return inner.Session, "through " + found.through, nil
}

// Met makes the bench reach a device on record where it has answered.
func (c *Companions) Met(*keeper.Keeper, string) { c.Again() }

// session is a session and when something was heard on it.
type session struct {
	*link.Session
	heard *network.Heard
}

// openWithin bounds waking a device and connecting to it, linkWithin setting up the link: a device
// gives that up after 15 s, and it is more helpful to report that nothing came than that the connection ended.
const (
	openWithin = 20 * time.Second
	linkWithin = 10 * time.Second
)

// dial links to whoever is heard there, unless accept refuses the key.
func (c *Companions) dial(ctx context.Context, at candidate, accept func(key string) error) (*session, error) {
	opening, opened := context.WithTimeout(ctx, openWithin)
	defer opened()
	through, err := at.session.Companions()
	if err != nil {
		return nil, err
	}
	stream, err := through.Open(opening, at.name)
	if err != nil {
		return nil, at.trouble(opening, err, openWithin)
	}
	linking, linked := context.WithTimeout(ctx, linkWithin)
	defer linked()
	h := &network.Heard{Conn: link.Conn(stream)}
	var refused error
	s, err := link.Dial(linking, h, c.cfg.Key, func(key string) error { refused = accept(key); return refused })
	if refused != nil {
		return nil, refused
	}
	if err != nil {
		return nil, at.trouble(linking, err, linkWithin)
	}
	return &session{s, h}, nil
}

// trouble is an error of reaching a device through another one, for people.
func (at candidate) trouble(ctx context.Context, err error, within time.Duration) error {
	not, isNot := errors.AsType[*device.NotCarried](err)
	switch {
	case isNot:
		return fmt.Errorf("%s cannot connect to it: %s", at.through, line(not.Text))
	case errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil:
		return fmt.Errorf("it has not answered through %s within %s", at.through, within)
	case errors.Is(err, device.ErrEnded), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return at.cut()
	}
	return fmt.Errorf("what arrives through %s is not what it sent, but was changed on the way (%s)", at.through, line(err.Error()))
}

func (at candidate) cut() error { return fmt.Errorf("the stream through %s was cut", at.through) }

// line is a text of a device in one line.
func line(s string) string { return plain.Cut(plain.Line(s), 100) }

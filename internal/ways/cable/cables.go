// Package cable implements the way by cable. What hosts report about their buses becomes
// ways; a way imports its device by USB/IP, reads its descriptors, and keeps a device link
// to it over two bulk endpoints.
package cable

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what cables need. All fields are needed.
type Config struct {
	Resolve func(context.Context, rack.Claim) (*keeper.Keeper, error)
	// Unrecognised is called with what is at an address and fits no sheet; nil for nothing.
	Unrecognised func(ctx context.Context, address string, u *rack.Unrecognised) error
	// Drivers names the driver set that fits a device on a host, and says how its driver is
	// there, as the fact driver.state does; each is "" for nothing.
	Drivers func(host string, d *hostlink.Device) (offered, state string)
	// Open opens a device on a host's bus.
	Open func(ctx context.Context, host, busID string) (usb.Device, error)
	// Private reports whether nobody else can be at the other end of the way to a host.
	Private func(host string) bool
	// Appeared is called with the host of every device that shows up.
	Appeared func(host string)
	Key      ssh.Signer // the bench's link key
	Clock    clock.Clock
	Log      *slog.Logger
}

// Cables holds the ways by cable, and receives what hosts report about their buses. It is
// made by New and ends with Close.
type Cables struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	mu     sync.Mutex             // guards all below
	ways   map[string]*Way        // by address
	others map[string]plugged     // what has no keeper yet, by address
	left   map[string][]time.Time // when a device was unplugged, by its id
	failed map[string][]time.Time // when a transfer of it failed on the wire
}

// plugged is a device on a host's bus.
type plugged struct {
	host   store.Host
	device hostlink.Device
	unfit  bool // no sheet fits it
}

// ordinary reports whether the system has a driver of its own for all that the device offers,
// as for a keyboard or a camera. It is in the tree of its host, and nobody need write a sheet.
func (p plugged) ordinary() bool {
	return len(p.device.Interfaces) > 0 && !slices.ContainsFunc(p.device.Interfaces, func(i hostlink.Interface) bool { return i.Driver == "" })
}

func (p plugged) address() string { return p.host.Name + " " + p.device.BusID }

// same reports whether two reports are about the same connection of a device.
func (p plugged) same(other plugged) bool {
	return p.address() == other.address() && p.device.Plugging == other.device.Plugging && p.device.Run == other.device.Run
}

// New makes no cables yet.
func New(cfg Config) *Cables {
	c := &Cables{cfg: cfg, ways: map[string]*Way{}, others: map[string]plugged{}, left: map[string][]time.Time{}, failed: map[string][]time.Time{}}
	c.ctx, c.end = context.WithCancel(context.Background())
	return c
}

// Close stops attempts to put devices on the rack. Their ways end with the rack.
func (c *Cables) Close() {
	c.end()
	c.work.Wait()
}

// Bus handles a report of all that is connected to the buses of a host.
func (c *Cables) Bus(ctx context.Context, h store.Host, bus hostlink.Bus) {
	here := map[string]plugged{}
	for _, d := range bus.Devices {
		p := plugged{host: h, device: d}
		here[p.address()] = p
	}
	c.gone(ctx, h, func(p plugged) bool { return !p.same(here[p.address()]) }, true)
	for _, d := range bus.Devices {
		c.attach(ctx, plugged{host: h, device: d})
	}
}

// Lost handles that a host is no longer reached. Nothing is known of its buses then; it
// does not mean that a cable was pulled.
func (c *Cables) Lost(ctx context.Context, h store.Host) {
	c.gone(ctx, h, func(plugged) bool { return true }, false)
}

// gone ends the ways of a host whose devices are no longer connected, and waits for
// them.
func (c *Cables) gone(ctx context.Context, h store.Host, is func(plugged) bool, unplugged bool) {
	var ended []*Way
	c.mu.Lock()
	for address, w := range c.ways {
		if w.host.Name != h.Name || !is(w.plugged) {
			continue
		}
		ended = append(ended, w)
		delete(c.ways, address)
		if unplugged {
			c.left[w.id] = append(c.left[w.id], c.cfg.Clock.Now())
		}
	}
	var forgotten []string
	for address, p := range c.others {
		if p.host.Name == h.Name && is(p) {
			forgotten = append(forgotten, address)
			delete(c.others, address)
		}
	}
	c.mu.Unlock()
	for _, w := range ended {
		w.unplug()
	}
	for _, w := range ended {
		<-w.ended
	}
	for _, address := range forgotten {
		c.say(ctx, address, nil)
	}
}

func (c *Cables) say(ctx context.Context, address string, u *rack.Unrecognised) {
	if err := c.cfg.Unrecognised(ctx, address, u); err != nil {
		c.cfg.Log.Error("tell of something that no sheet fits", "address", address, "error", err)
	}
}

// attach gives a connected device to its keeper. For a device that stayed connected it
// only passes on changes of drivers.
func (c *Cables) attach(ctx context.Context, p plugged) {
	c.mu.Lock()
	w, other := c.ways[p.address()], c.others[p.address()]
	c.mu.Unlock()
	switch {
	case w != nil:
		w.news(&p.device)
		return
	case p.same(other): // no sheet fits it, or it is tried again already
		if p.unfit = other.unfit; p.unfit && p.ordinary() != other.ordinary() {
			c.unrecognised(ctx, p)
		}
		return
	}
	if err := c.resolve(ctx, p); err != nil {
		c.cfg.Log.Error("put a device on the rack", "host", p.host.Name, "port", p.device.Port, "error", err)
		c.work.Go(func() { c.resolveLater(p) })
	}
}

// resolve identifies a device. One that no sheet fits is remembered.
func (c *Cables) resolve(ctx context.Context, p plugged) error {
	k, err := c.cfg.Resolve(ctx, rack.Claim{USB: p.device.USB, Serial: p.device.Serial, Address: p.address()})
	c.mu.Lock()
	c.others[p.address()] = p
	c.mu.Unlock()
	if errors.Is(err, rack.ErrUnrecognised) {
		p.unfit = true
		c.unrecognised(ctx, p)
		return nil
	}
	if err != nil {
		return err
	}
	w := newWay(c, p, k.Device().ID)
	c.mu.Lock()
	delete(c.others, p.address())
	c.ways[p.address()] = w
	c.mu.Unlock()
	c.say(ctx, p.address(), nil)
	c.cfg.Appeared(p.host.Name)
	k.Reach(w)
	return nil
}

// unrecognised tells of a device that no sheet fits, unless it is an ordinary one.
func (c *Cables) unrecognised(ctx context.Context, p plugged) {
	c.mu.Lock()
	c.others[p.address()] = p
	c.mu.Unlock()
	if p.ordinary() {
		c.say(ctx, p.address(), nil)
		return
	}
	u := rack.Unrecognised{Host: p.host.Name, Port: p.device.Port, USB: p.device.USB}
	for _, i := range p.device.Interfaces {
		u.Interfaces = append(u.Interfaces, interfaceName(i.Class, i.Name))
	}
	c.say(ctx, p.address(), &u)
}

// resolveLater retries for as long as the device is connected.
func (c *Cables) resolveLater(p plugged) {
	for pause := 500 * time.Millisecond; clock.Sleep(c.ctx, clock.System{}, pause) == nil; pause = min(2*pause, 5*time.Second) {
		c.mu.Lock()
		now, there := c.others[p.address()]
		c.mu.Unlock()
		if !there || !p.same(now) || c.resolve(c.ctx, p) == nil {
			return
		}
	}
}

// Again checks again what no sheet fitted, and which driver sets fit the others.
func (c *Cables) Again(ctx context.Context) {
	c.mu.Lock()
	var others []plugged
	for _, p := range c.others {
		others = append(others, p)
	}
	ways := make([]*Way, 0, len(c.ways))
	for _, w := range c.ways {
		ways = append(ways, w)
	}
	c.mu.Unlock()
	for _, p := range others {
		if err := c.resolve(ctx, p); err != nil {
			c.cfg.Log.Error("look again at what no sheet fitted", "error", err)
		}
	}
	for _, w := range ways {
		w.news(nil)
	}
}

// wornWithin is how long a break of the cable, or a transfer that failed on it, counts;
// mostFailed bounds how many of those are kept.
const (
	wornWithin = 10 * time.Minute
	mostFailed = 1000
)

// breaks counts how often a device was unplugged recently.
func (c *Cables) breaks(id string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.recent(c.left, id)
}

// failures counts the transfers of a device that failed on the wire recently.
func (c *Cables) failures(id string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.recent(c.failed, id)
}

// fail notes that a transfer failed on the wire.
func (c *Cables) fail(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if all := append(c.failed[id], c.cfg.Clock.Now()); len(all) <= mostFailed {
		c.failed[id] = all
	}
}

func (c *Cables) recent(times map[string][]time.Time, id string) int {
	now := c.cfg.Clock.Now()
	times[id] = slices.DeleteFunc(times[id], func(t time.Time) bool { return now.Sub(t) > wornWithin })
	return len(times[id])
}

// reason is a text of a host about a device, such as who has it, in one line.
func reason(text string) string { return plain.Cut(plain.Line(text), 200) }

// interfaceName describes an interface for people. Its name comes from the device.
func interfaceName(class, name string) string {
	return plain.Cut(fmt.Sprintf("%s %s", class, name), 120)
}

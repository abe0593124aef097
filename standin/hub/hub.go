// Package hub is a stand-in USB hub with an exporter: bodies are plugged into its ports
// and pulled out, and are reached by USB/IP.
package hub

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

// Body is a device that can be connected to a hub.
type Body interface {
	Name() string
	// Descriptor returns the USB descriptor that it presents now.
	Descriptor() usb.Descriptor
	// Changed is closed at the next change of anything.
	Changed() <-chan struct{}
	// ServeLink serves the device link over one pipe until that ends.
	ServeLink(ctx context.Context, pipe io.ReadWriteCloser)
	// On reports whether it runs: one that restarts is not on the bus.
	On() bool
	// Plugged and Unplugged tell it that the cable, with its power, was connected or removed.
	Plugged()
	Unplugged()
	// Reset tells it that the computer has reset its port.
	Reset()
}

// Cable is what connects a body.
type Cable string

// The kinds of cable, and of port at its other end.
const (
	Data   Cable = ""
	Charge Cable = "charge" // carries power only
	Worn   Cable = "worn"   // breaks for a moment, now and then
	Dead   Cable = "dead"   // a port without power or data
)

// Over a worn cable a transfer fails after wornBytes bytes to the device; after as many
// more, it loses contact for wornFor.
const (
	wornBytes = 48 << 10
	wornFor   = 150 * time.Millisecond
	wornEvery = 3 * time.Second
)

// Config is how a hub is started.
type Config struct {
	Address string // to listen on, such as 127.0.0.1:0
	// Driver names the driver that the host has bound to an interface, "" if
	// none; the endpoints of an interface without one answer EACCES.
	Driver func(d usb.Descriptor, i usb.Interface) string
	// Importers are the names of the computer's other programs, by the addresses from which
	// they import devices.
	Importers map[string]string
}

// Hub is a running hub, from Start to Close.
type Hub struct {
	cfg      Config
	listener net.Listener
	ctx      context.Context
	cancel   context.CancelFunc
	work     sync.WaitGroup

	mu      sync.Mutex
	ports   []*port
	dev     uint32 // last device number given
	changed chan struct{}
}

// Port is a port as others see it.
type Port struct {
	Number     int
	Cable      Cable
	Held       string // by whom, of the computer's other programs
	BusID      string
	Body       string
	Plugged    bool // the cable is in
	Shown      bool // it shows on the bus
	Plugging   int  // counts the times that a body showed itself here
	Descriptor usb.Descriptor
}

type port struct {
	number int
	body   Body
	cable  Cable
	in     bool    // the cable is in
	gadget *gadget // nil while nothing shows on the bus
	count  int

	keeper   string    // address of the program that gets it whenever it is plugged in; "" for none
	refused  string    // address of the importer from which it was taken away
	reserved string    // address of the importer that gets it next; "" for none
	until    time.Time // it is reserved
}

// Start starts a hub.
func Start(ctx context.Context, cfg Config) (*Hub, error) {
	l, err := net.Listen("tcp", cfg.Address)
	if err != nil {
		return nil, fmt.Errorf("hub: %w", err)
	}
	h := &Hub{cfg: cfg, listener: l, changed: make(chan struct{})}
	h.ctx, h.cancel = context.WithCancel(ctx)
	h.work.Go(func() { usbip.Serve(h.ctx, l, h) }) //nolint:errcheck // it ends with the context
	return h, nil
}

// Address is where the exporter listens.
func (h *Hub) Address() string { return h.listener.Addr().String() }

// Close unplugs every body and waits for the connections to end.
func (h *Hub) Close() error {
	h.mu.Lock()
	for _, p := range h.ports {
		p.unplug()
	}
	h.mu.Unlock()
	h.cancel()
	h.work.Wait()
	return nil
}

// Attach gives a body the next port, not plugged in yet.
func (h *Hub) Attach(b Body) {
	h.mu.Lock()
	p := &port{number: len(h.ports) + 1, body: b}
	h.ports = append(h.ports, p)
	h.mu.Unlock()
	h.work.Go(func() { h.follow(p) })
}

// follow presents a plugged body again whenever its descriptor changes, as a real
// device leaves the bus and returns. While a body restarts it is off the bus.
func (h *Hub) follow(p *port) {
	worn := time.NewTicker(wornEvery)
	defer worn.Stop()
	for {
		changed := p.body.Changed()
		d, on := p.body.Descriptor(), p.body.On()
		h.mu.Lock()
		shown := p.gadget != nil
		switch {
		case shown && !on:
			p.unplug()
			h.change()
		case shown && (!slices.EqualFunc(d.Interfaces, p.gadget.descriptor.Interfaces, sameInterface) || d.Serial != p.gadget.descriptor.Serial || d.Revision != p.gadget.descriptor.Revision):
			p.unplug()
			h.plug(p)
		case !shown && on && p.in:
			h.plug(p)
		}
		h.mu.Unlock()
		select {
		case <-h.ctx.Done():
			return
		case <-changed:
		case <-worn.C:
			h.wear(p)
		}
	}
}

// wear interrupts a worn cable for a moment.
func (h *Hub) wear(p *port) {
	h.mu.Lock()
	broken := p.cable == Worn && p.gadget != nil
	if broken {
		p.unplug()
		h.change()
	}
	h.mu.Unlock()
	if !broken {
		return
	}
	select {
	case <-h.ctx.Done():
	case <-time.After(wornFor):
	}
}

func sameInterface(a, b usb.Interface) bool { return a.Class == b.Class && a.Name == b.Name }

// plug puts the body on the bus, if its cable carries data. The lock is held.
func (h *Hub) plug(p *port) {
	if !p.in || p.gadget != nil || p.cable == Charge || p.cable == Dead || !p.body.On() {
		return
	}
	h.dev++
	p.count++
	p.refused, p.reserved, p.until = "", p.keeper, time.Now().Add(reservedFor)
	p.gadget = newGadget(h.ctx, h, p, h.dev)
	if p.cable == Worn {
		p.gadget.cutAfter(wornBytes, true)
	}
	h.change()
}

func (h *Hub) change() {
	close(h.changed)
	h.changed = make(chan struct{})
}

func (p *port) unplug() {
	if p.gadget != nil {
		p.gadget.pull()
		p.gadget = nil
	}
}

// Changed is closed the next time that a cable is plugged in or pulled.
func (h *Hub) Changed() <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.changed
}

// Rebound tells the hub that the host has bound or released drivers.
func (h *Hub) Rebound() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.change()
}

func (h *Hub) find(name string) (*port, error) {
	var names []string
	for _, p := range h.ports {
		if p.body.Name() == name {
			return p, nil
		}
		names = append(names, p.body.Name())
	}
	return nil, fmt.Errorf("no body %q is connected to the hub; there are %v", name, names)
}

// Plug plugs a body in.
func (h *Hub) Plug(name string) error {
	h.mu.Lock()
	p, err := h.find(name)
	if err != nil {
		h.mu.Unlock()
		return err
	}
	was := p.in
	p.in = true
	h.plug(p)
	h.change()
	powered := p.cable != Dead
	h.mu.Unlock()
	if !was && powered {
		p.body.Plugged()
	}
	return nil
}

// Pull pulls a body's cable, at once or after that many more bytes have gone to its
// device link.
func (h *Hub) Pull(name string, after int64) error {
	h.mu.Lock()
	p, err := h.find(name)
	if err == nil && !p.in {
		err = fmt.Errorf("%s is not plugged in", name)
	}
	if err == nil && after > 0 && p.gadget == nil {
		err = fmt.Errorf("the cable of %s carries no data", name)
	}
	if err != nil {
		h.mu.Unlock()
		return err
	}
	if after > 0 {
		p.gadget.cutAfter(after, false)
		h.mu.Unlock()
		return nil
	}
	p.unplug()
	p.in = false
	h.change()
	h.mu.Unlock()
	p.body.Unplugged()
	return nil
}

// SetCable replaces a body's cable, or changes the state of its port, and plugs the
// body in.
func (h *Hub) SetCable(name string, c Cable) error {
	h.mu.Lock()
	p, err := h.find(name)
	if err != nil {
		h.mu.Unlock()
		return err
	}
	p.unplug()
	p.cable = c
	h.change()
	h.mu.Unlock()
	p.body.Unplugged()
	if c != Dead {
		p.body.Plugged()
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	p.in = true
	h.plug(p)
	return nil
}

// reservedFor is how long a device that was taken away waits for the importer that gets it.
const reservedFor = 10 * time.Second

// Release takes a device away from its importer, if it has one. The program named next gets
// it; with "" anybody except the old importer may import it, until it is plugged in again.
func (h *Hub) Release(id, next string) error {
	address := ""
	for a, name := range h.cfg.Importers {
		if name == next {
			address = a
		}
	}
	if next != "" && address == "" {
		return fmt.Errorf("no program here is called %q", next)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range h.ports {
		if p.gadget == nil || busID(p) != id {
			continue
		}
		p.keeper, p.refused, p.reserved, p.until = "", "", address, time.Now().Add(reservedFor)
		if p.gadget.claim != nil {
			if next == "" {
				p.refused = p.gadget.claimedBy
			}
			p.gadget.claim()
		}
		return nil
	}
	return usb.ErrNotFound
}

// cut pulls the cable of a gadget after its last byte; a worn cable then makes contact
// again.
func (h *Hub) cut(g *gadget) {
	h.mu.Lock()
	p := g.port
	if p.gadget != g {
		h.mu.Unlock()
		return
	}
	p.unplug()
	worn := p.cable == Worn
	p.in = worn
	h.change()
	h.mu.Unlock()
	if !worn {
		p.body.Unplugged()
		return
	}
	h.work.Go(func() {
		select {
		case <-h.ctx.Done():
			return
		case <-time.After(wornFor):
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		h.plug(p)
	})
}

// Ports returns the ports with what is connected to each.
func (h *Hub) Ports() []Port {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := make([]Port, 0, len(h.ports))
	for _, p := range h.ports {
		info := Port{Number: p.number, BusID: busID(p), Body: p.body.Name(), Cable: p.cable, Plugged: p.in, Shown: p.gadget != nil, Plugging: p.count}
		if p.gadget != nil {
			info.Descriptor = p.gadget.descriptor
			info.Held = h.cfg.Importers[p.gadget.claimedBy]
		}
		out = append(out, info)
	}
	return out
}

func busID(p *port) string { return fmt.Sprintf("1-%d", p.number) }

// List returns the devices that the exporter lists.
func (h *Hub) List() []usb.Info {
	h.mu.Lock()
	defer h.mu.Unlock()
	var out []usb.Info
	for _, p := range h.ports {
		if p.gadget != nil {
			out = append(out, p.gadget.info())
		}
	}
	return out
}

// Claim reserves a device for one importer.
func (h *Hub) Claim(id string, from net.Addr) (context.Context, usbip.Target, func(), error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range h.ports {
		if p.gadget == nil || busID(p) != id {
			continue
		}
		g, by := p.gadget, host(from)
		if g.claim != nil || p.refused == by && by != "" || p.reserved != "" && p.reserved != by && time.Now().Before(p.until) {
			return nil, nil, nil, usb.ErrBusy
		}
		ctx, cancel := context.WithCancel(g.ctx)
		g.claim, g.claimedBy, p.reserved = cancel, by, ""
		if h.cfg.Importers[by] != "" {
			p.keeper = by
		}
		h.change()
		return ctx, usbip.Emulate(g), func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			cancel()
			g.claim, g.claimedBy = nil, ""
			h.change()
		}, nil
	}
	return nil, nil, nil, usb.ErrNotFound
}

// host is the address without its port; "" for none.
func host(a net.Addr) string {
	if t, ok := a.(*net.TCPAddr); ok {
		return t.IP.String()
	}
	return ""
}

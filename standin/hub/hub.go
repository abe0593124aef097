// Package hub is a stand-in USB hub with an exporter: bodies hang on its ports,
// are plugged in and pulled out, and are reached by USB/IP.
package hub

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

// Body is a device that can hang on a hub.
type Body interface {
	Name() string
	// Descriptor is how it shows itself now.
	Descriptor() usb.Descriptor
	// Changed is closed at the next change of anything.
	Changed() <-chan struct{}
	// ServeLink serves the bench link over one pipe until that ends.
	ServeLink(ctx context.Context, pipe io.ReadWriteCloser)
	// Unplugged tells that the cable was pulled.
	Unplugged()
}

// Config is how a hub is started.
type Config struct {
	Address string // to listen on, such as 127.0.0.1:0
	// Driver names the driver that the host has bound to an interface, "" if
	// none; the endpoints of an interface without one answer EACCES.
	Driver func(d usb.Descriptor, i usb.Interface) string
}

// Hub is a hub that runs. It is made by Start and ends with Close.
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
	BusID      string
	Body       string
	Plugged    bool
	Plugging   int // counts the times that a body showed itself here
	Descriptor usb.Descriptor
}

type port struct {
	number int
	body   Body
	gadget *gadget // nil while unplugged
	count  int
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

// Close unplugs everything and waits.
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

// follow shows a plugged body anew whenever its descriptor changes, as a real
// device leaves the bus and comes back.
func (h *Hub) follow(p *port) {
	for {
		changed := p.body.Changed()
		d := p.body.Descriptor()
		h.mu.Lock()
		if p.gadget != nil && !slices.EqualFunc(d.Interfaces, p.gadget.descriptor.Interfaces, sameInterface) || p.gadget != nil && d.Serial != p.gadget.descriptor.Serial {
			p.unplug()
			h.plug(p)
		}
		h.mu.Unlock()
		select {
		case <-h.ctx.Done():
			return
		case <-changed:
		}
	}
}

func sameInterface(a, b usb.Interface) bool { return a.Class == b.Class && a.Name == b.Name }

// plug shows the body on the bus. The lock is held.
func (h *Hub) plug(p *port) {
	h.dev++
	p.count++
	p.gadget = newGadget(h.ctx, h, p, h.dev)
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

// Changed is closed at the next plugging in or out.
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
	return nil, fmt.Errorf("no body %q hangs on the hub; there are %v", name, names)
}

// Plug plugs a body in.
func (h *Hub) Plug(name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	p, err := h.find(name)
	if err != nil {
		return err
	}
	if p.gadget == nil {
		h.plug(p)
	}
	return nil
}

// Pull pulls a body's cable: at once, or once after bytes more have gone to its
// bench link.
func (h *Hub) Pull(name string, after int64) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	p, err := h.find(name)
	if err != nil {
		return err
	}
	if p.gadget == nil {
		return fmt.Errorf("%s is not plugged in", name)
	}
	if after > 0 {
		p.gadget.cutAfter(after)
		return nil
	}
	p.unplug()
	p.body.Unplugged()
	h.change()
	return nil
}

// cut pulls the cable of a gadget whose last byte has gone.
func (h *Hub) cut(g *gadget) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if g.port.gadget == g {
		g.port.unplug()
		g.port.body.Unplugged()
		h.change()
	}
}

// Ports tells what hangs where.
func (h *Hub) Ports() []Port {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := make([]Port, 0, len(h.ports))
	for _, p := range h.ports {
		info := Port{Number: p.number, BusID: busID(p), Body: p.body.Name(), Plugged: p.gadget != nil, Plugging: p.count}
		if p.gadget != nil {
			info.Descriptor = p.gadget.descriptor
		}
		out = append(out, info)
	}
	return out
}

func busID(p *port) string { return fmt.Sprintf("1-%d", p.number) }

// List is what the exporter lists.
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
func (h *Hub) Claim(id string) (context.Context, usbip.Gadget, func(), error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range h.ports {
		if p.gadget == nil || busID(p) != id {
			continue
		}
		g := p.gadget
		if g.claimed {
			return nil, nil, nil, usb.ErrBusy
		}
		g.claimed = true
		return g.ctx, g, func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			g.claimed = false
		}, nil
	}
	return nil, nil, nil, usb.ErrNotFound
}

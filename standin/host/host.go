// Package host is a stand-in computer to which devices are connected: it reports what
// is plugged in and which drivers are bound, and installs driver sets.
package host

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/standin/hub"
)

// Config is how a host is started.
type Config struct {
	Address string
	Name    string
	Dir     string // where installed sets are kept
	// Common are the interface classes for which the system itself has drivers.
	Common []string
}

// Host is a stand-in host. Create it with New, pass its Driver to the hub, then call
// Serve.
type Host struct {
	cfg Config
	run string
	hub *hub.Hub

	mu        sync.Mutex
	installed []hostlink.Driver
	coming    map[string]*coming

	listener net.Listener
	cancel   context.CancelFunc
	work     sync.WaitGroup
}

// coming is a file being received.
type coming struct {
	size int64
	data []byte
}

// maxSet is the largest driver set file, in bytes.
const maxSet = 64 << 20

// New returns a host with the driver sets that were installed before.
func New(cfg Config) (*Host, error) {
	h := &Host{cfg: cfg, run: rand.Text()[:8], coming: map[string]*coming{}}
	if err := os.MkdirAll(cfg.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("host: %w", err)
	}
	names, err := filepath.Glob(filepath.Join(cfg.Dir, "*.ebset"))
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		raw, err := os.ReadFile(n)
		if err != nil {
			return nil, fmt.Errorf("host: %w", err)
		}
		if _, err := h.add(raw); err != nil {
			return nil, fmt.Errorf("host: %s: %w", n, err)
		}
	}
	return h, nil
}

// Install installs a driver set, as if it had been delivered with the host.
func (h *Host) Install(raw []byte) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	_, err := h.keep(raw)
	return err
}

// Serve starts answering benches about what is connected to hub.
func (h *Host) Serve(ctx context.Context, hb *hub.Hub) error {
	l, err := net.Listen("tcp", h.cfg.Address)
	if err != nil {
		return fmt.Errorf("host: %w", err)
	}
	h.hub, h.listener = hb, l
	ctx, h.cancel = context.WithCancel(ctx)
	stop := context.AfterFunc(ctx, func() { l.Close() })
	h.work.Go(func() {
		defer stop()
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			h.work.Go(func() { h.serve(ctx, c) })
		}
	})
	return nil
}

// Address is where it listens.
func (h *Host) Address() string { return h.listener.Addr().String() }

// Close ends all connections and waits.
func (h *Host) Close() error {
	if h.cancel != nil {
		h.cancel()
	}
	h.work.Wait()
	return nil
}

func (h *Host) serve(ctx context.Context, c net.Conn) {
	conn := rpc.New(c, h.handle)
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	<-conn.Done()
}

func (h *Host) handle(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
	switch method {
	case hostlink.MethodHello:
		return hostlink.Hello{Name: h.cfg.Name, Version: 1}, nil
	case hostlink.MethodWatch:
		h.work.Go(func() { h.watch(c) })
		return h.bus(), nil
	case hostlink.MethodDrivers:
		h.mu.Lock()
		defer h.mu.Unlock()
		return slices.Clone(h.installed), nil
	case hostlink.MethodDriverOffer:
		return decoded(params, h.offer)
	case hostlink.MethodDriverPiece:
		return decoded(params, h.piece)
	case hostlink.MethodDriverInstall:
		return decoded(params, h.install)
	case hostlink.MethodDriverRemove:
		return decoded(params, h.remove)
	case hostlink.MethodBind:
		return decoded(params, h.bind)
	}
	return rpc.NoMethod(ctx, c, method, params)
}

func decoded[T, R any](params json.RawMessage, f func(T) (R, error)) (any, error) {
	v, err := rpc.Decode[T](params)
	if err != nil {
		return nil, err
	}
	return f(v)
}

// watch reports every change to a bench until it disconnects.
func (h *Host) watch(c *rpc.Conn) {
	for {
		changed := h.hub.Changed()
		if c.Notify(hostlink.MethodBus, h.bus()) != nil {
			return
		}
		select {
		case <-c.Done():
			return
		case <-changed:
		}
	}
}

// highSpeed is that of USB 2.0, in 1000 bit/s.
const highSpeed = 480_000

func (h *Host) bus() hostlink.Bus {
	ports := h.hub.Ports()
	out := hostlink.Bus{Devices: []hostlink.Device{}, Hubs: []hostlink.Hub{{BusID: "usb1", Name: "Bench hub", Driver: "hub", Ports: len(ports), Joint: hostlink.Joint{Kilobits: highSpeed}}}}
	for _, p := range ports {
		if !p.Shown {
			continue
		}
		d := hostlink.Device{Joint: hostlink.Joint{Parent: "usb1", PortNumber: p.Number, Kilobits: highSpeed, MilliAmps: p.Descriptor.MilliAmps},
			Name: p.Descriptor.Product, Holder: p.Held, BusID: p.BusID, Port: fmt.Sprintf("hub port %d", p.Number), Plugging: p.Plugging, Run: h.run,
			USB: p.Descriptor.ID.String(), Serial: p.Descriptor.Serial}
		for _, i := range p.Descriptor.Interfaces {
			d.Interfaces = append(d.Interfaces, hostlink.Interface{Number: int(i.Number), Class: i.Class.String(), Name: i.Name,
				Driver: h.Driver(p.Descriptor, i)})
		}
		out.Devices = append(out.Devices, d)
	}
	return out
}

// Driver names the driver that is bound to an interface.
func (h *Host) Driver(d usb.Descriptor, i usb.Interface) string {
	if slices.Contains(h.cfg.Common, i.Class.String()) {
		return "system"
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, inst := range h.installed {
		if inst.Set.FitsInterface(d.ID, i.Class, i.Name) {
			return inst.Set.Name
		}
	}
	return ""
}

func (h *Host) offer(o hostlink.Offer) (hostlink.Have, error) {
	if o.Size <= 0 || o.Size > maxSet {
		return hostlink.Have{}, fmt.Errorf("a driver set of %d bytes: the bound is %d", o.Size, maxSet)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	c := h.coming[o.Digest]
	if c == nil {
		c = &coming{size: o.Size}
		h.coming[o.Digest] = c
	}
	return hostlink.Have{Bytes: int64(len(c.data))}, nil
}

func (h *Host) piece(p hostlink.Piece) (hostlink.Have, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	c := h.coming[p.Digest]
	switch {
	case c == nil:
		return hostlink.Have{}, errors.New("that file was not offered")
	case p.At != int64(len(c.data)) || int64(len(c.data)+len(p.Data)) > c.size:
		return hostlink.Have{}, fmt.Errorf("the piece begins at %d, %d bytes of %d are here", p.At, len(c.data), c.size)
	}
	c.data = append(c.data, p.Data...)
	return hostlink.Have{Bytes: int64(len(c.data))}, nil
}

func (h *Host) install(r hostlink.Ref) (hostlink.Driver, error) {
	h.mu.Lock()
	c := h.coming[r.Digest]
	if c == nil || int64(len(c.data)) != c.size {
		h.mu.Unlock()
		return hostlink.Driver{}, errors.New("that file has not come whole")
	}
	delete(h.coming, r.Digest)
	if bundle.Digest(c.data) != r.Digest {
		h.mu.Unlock()
		return hostlink.Driver{}, errors.New("that file is not the one that was offered: its digest is another")
	}
	d, err := h.keep(c.data)
	h.mu.Unlock()
	if err == nil {
		h.hub.Rebound()
	}
	return d, err
}

// keep installs a set and saves it. The lock is held.
func (h *Host) keep(raw []byte) (hostlink.Driver, error) {
	d, err := h.add(raw)
	if err != nil {
		return d, err
	}
	return d, os.WriteFile(filepath.Join(h.cfg.Dir, d.Set.Name+".ebset"), raw, 0o600)
}

func (h *Host) add(raw []byte) (hostlink.Driver, error) {
	s, err := driver.Open(strings.NewReader(string(raw)), int64(len(raw)))
	if err != nil {
		return hostlink.Driver{}, fmt.Errorf("the driver set is refused: %w", err)
	}
	d := hostlink.Driver{Digest: bundle.Digest(raw), Set: *s.About}
	h.installed = slices.DeleteFunc(h.installed, func(o hostlink.Driver) bool { return o.Set.Name == d.Set.Name })
	h.installed = append(h.installed, d)
	return d, nil
}

func (h *Host) remove(n hostlink.Name) (any, error) {
	h.mu.Lock()
	i := slices.IndexFunc(h.installed, func(o hostlink.Driver) bool { return o.Set.Name == n.Name })
	if i < 0 {
		h.mu.Unlock()
		return nil, fmt.Errorf("driver set %q is not installed", n.Name)
	}
	h.installed = slices.Delete(h.installed, i, i+1)
	err := os.Remove(filepath.Join(h.cfg.Dir, n.Name+".ebset"))
	h.mu.Unlock()
	h.hub.Rebound()
	return nil, err
}

// bind reports whether a driver is bound; this host binds drivers by itself.
func (h *Host) bind(b hostlink.Bind) (hostlink.Interface, error) {
	for _, d := range h.bus().Devices {
		for _, i := range d.Interfaces {
			if d.BusID != b.BusID || i.Number != b.Interface {
				continue
			}
			if i.Driver == "" {
				return i, errors.New("no installed driver set fits that interface")
			}
			return i, nil
		}
	}
	return hostlink.Interface{}, fmt.Errorf("there is no interface %d on %s", b.Interface, b.BusID)
}

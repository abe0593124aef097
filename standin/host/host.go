// Package host is a stand-in computer to which devices are connected: it reports what
// is plugged in and which drivers are bound, and installs driver sets.
package host

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
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
	// System and Release say what kind of host it is.
	System, Release string
	// Service are the driver sets that the host's own update service has.
	Service [][]byte
}

// Host is a stand-in host. Create it with New, pass its Driver to the hub, then call
// Serve.
type Host struct {
	cfg Config
	run string
	hub *hub.Hub

	mu        sync.Mutex
	installed []hostlink.Driver
	bound     map[string]string // name of the set by serial and interface, as somebody chose it
	coming    map[string]*coming
	service   map[string][]byte // by digest

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

// New returns a host with the driver sets that were installed before, bound as they were.
func New(cfg Config) (*Host, error) {
	h := &Host{cfg: cfg, run: rand.Text()[:8], coming: map[string]*coming{}, bound: map[string]string{}, service: map[string][]byte{}}
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
	for _, raw := range cfg.Service {
		h.service[bundle.Digest(raw)] = raw
	}
	if raw, err := os.ReadFile(h.boundFile()); err == nil {
		if err := json.Unmarshal(raw, &h.bound); err != nil {
			return nil, fmt.Errorf("host: read what is bound: %w", err)
		}
	}
	return h, nil
}

func (h *Host) boundFile() string { return filepath.Join(h.cfg.Dir, "bound.json") }

// Install installs a driver set, as if it had been delivered with the host, and binds it to the
// device links of devices with some serials.
func (h *Host) Install(raw []byte, serials ...string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	d, err := h.keep(raw)
	if err != nil {
		return err
	}
	for _, s := range serials {
		h.bound[s+"/"+usb.LinkName] = d.Set.Name
	}
	return h.keepBound()
}

// keepBound saves what is bound. The lock is held.
func (h *Host) keepBound() error {
	raw, err := json.Marshal(h.bound)
	if err != nil {
		return err
	}
	return os.WriteFile(h.boundFile(), raw, 0o600)
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
		return hostlink.Hello{Name: h.cfg.Name, Version: 1, System: h.cfg.System, Release: h.cfg.Release}, nil
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
	case hostlink.MethodDriverGet:
		return decoded(params, h.get)
	case hostlink.MethodDriverRemove:
		return decoded(params, h.remove)
	case hostlink.MethodRelease:
		return decoded(params, func(r hostlink.Release) (any, error) { return nil, h.hub.Release(r.BusID, r.Next) })
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
	h.mu.Lock()
	out.Drivers = slices.Clone(h.installed)
	h.mu.Unlock()
	for _, p := range ports {
		if !p.Shown {
			continue
		}
		d := hostlink.Device{Joint: hostlink.Joint{Parent: "usb1", PortNumber: p.Number, Kilobits: highSpeed, MilliAmps: p.Descriptor.MilliAmps},
			Name: p.Descriptor.Product, Holder: p.Held, BusID: p.BusID, Port: fmt.Sprintf("hub port %d", p.Number), Plugging: p.Plugging, Run: h.run,
			USB: p.Descriptor.ID.String(), Serial: p.Descriptor.Serial}
		for _, i := range p.Descriptor.Interfaces {
			seen := hostlink.Interface{Number: int(i.Number), Class: i.Class.String(), Name: i.Name, Driver: h.Bound(p.Descriptor, i)}
			if seen.Driver == "" {
				seen.Service = h.served(p.Descriptor, i)
			}
			d.Interfaces = append(d.Interfaces, seen)
		}
		out.Devices = append(out.Devices, d)
	}
	return out
}

func (h *Host) target(d usb.Descriptor, i usb.Interface) driver.Target {
	return driver.Target{ID: d.ID, Class: i.Class, Interface: i.Name, System: h.cfg.System, Release: h.cfg.Release}
}

// Bound names the driver that is bound to an interface: one that somebody chose, or the one
// that fits. A host that says what system it has binds by itself only what is signed.
func (h *Host) Bound(d usb.Descriptor, i usb.Interface) string {
	if slices.Contains(h.cfg.Common, i.Class.String()) {
		return "system"
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if name := h.bound[d.Serial+"/"+i.Name]; name != "" {
		return name
	}
	for _, inst := range h.installed {
		if fit, _ := inst.Set.FitOf(h.target(d, i)); fit.Automatic() && (inst.Signed || h.cfg.System == "") {
			return inst.Set.Name
		}
	}
	return ""
}

// Driver names the driver that works for an interface. One that is bound, but made for other
// devices, does not.
func (h *Host) Driver(d usb.Descriptor, i usb.Interface) string {
	name := h.Bound(d, i)
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, inst := range h.installed {
		if fit, _ := inst.Set.FitOf(h.target(d, i)); inst.Set.Name == name && !fit.Automatic() {
			return ""
		}
	}
	return name
}

// served is what the update service has for an interface; nil for nothing.
func (h *Host) served(d usb.Descriptor, i usb.Interface) *hostlink.Driver {
	for digest, raw := range h.service {
		s, err := driver.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			continue
		}
		if fit, _ := s.About.FitOf(h.target(d, i)); fit.Automatic() {
			return &hostlink.Driver{Digest: digest, Set: *s.About, Signed: s.Publisher != nil, Size: int64(len(raw))}
		}
	}
	return nil
}

// get installs a set from the update service.
func (h *Host) get(r hostlink.Ref) (hostlink.Driver, error) {
	raw := h.service[r.Digest]
	if raw == nil {
		return hostlink.Driver{}, errors.New("the update service has no such set")
	}
	h.mu.Lock()
	d, err := h.keep(raw)
	h.mu.Unlock()
	if err == nil {
		h.hub.Rebound()
	}
	return d, err
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
	d := hostlink.Driver{Digest: bundle.Digest(raw), Set: *s.About, Signed: s.Publisher != nil, Size: int64(len(raw))}
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
	maps.DeleteFunc(h.bound, func(_, name string) bool { return name == n.Name })
	err := errors.Join(os.Remove(filepath.Join(h.cfg.Dir, n.Name+".ebset")), h.keepBound())
	h.mu.Unlock()
	h.hub.Rebound()
	return nil, err
}

// bind binds an installed driver to an interface: the one that fits does so by itself where it
// is signed.
func (h *Host) bind(b hostlink.Bind) (hostlink.Interface, error) {
	for _, d := range h.bus().Devices {
		for n, i := range d.Interfaces {
			if d.BusID != b.BusID || i.Number != b.Interface {
				continue
			}
			if b.Driver != "" && b.Driver != i.Driver {
				if err := h.choose(d.Serial+"/"+i.Name, b.Driver); err != nil {
					return i, err
				}
				h.hub.Rebound()
				i.Driver = b.Driver
			}
			if i.Driver == "" {
				return d.Interfaces[n], errors.New("no installed driver set fits that interface")
			}
			return i, nil
		}
	}
	return hostlink.Interface{}, fmt.Errorf("there is no interface %d on %s", b.Interface, b.BusID)
}

func (h *Host) choose(where, name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !slices.ContainsFunc(h.installed, func(d hostlink.Driver) bool { return d.Set.Name == name }) {
		return fmt.Errorf("driver set %q is not installed", name)
	}
	h.bound[where] = name
	return h.keepBound()
}

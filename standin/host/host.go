// Package host is a stand-in computer to which devices are connected: it reports what
// is plugged in and which drivers are bound, and installs driver sets.
package host

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/bundle"
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
	// Right are the names of sets that also work for models that they are not made for.
	Right []string
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
	bound     map[string]string // name of the set by serial and interface, as somebody chose them
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

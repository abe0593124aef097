// Package air puts stand-in devices on the network: each that can be reached without a cable
// listens on a port of its own, serves the device link there, and announces itself.
package air

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/link"
)

// Body is a device that may be reached without a cable.
type Body interface {
	Name() string
	Family() string
	Fingerprint() string
	// ReachableWithoutCable reports whether it listens now.
	ReachableWithoutCable() bool
	// Changed is closed at the next change of anything.
	Changed() <-chan struct{}
	// ServeDirectly serves the device link over one connection until that ends.
	ServeDirectly(ctx context.Context, c net.Conn)
	// Listens tells it where it is reached, "" for nowhere, and on which networks it is.
	Listens(address string, networks []string)
}

// Config is how stand-ins are on the network.
type Config struct {
	Address netip.Addr     // at which they listen
	Group   netip.AddrPort // at which they announce themselves; zero for that of the standard
	Log     *slog.Logger
}

// Air is the network of some stand-ins, from Start to Close.
type Air struct {
	cfg       Config
	responder *dnssd.Responder
	ctx       context.Context
	end       context.CancelFunc
	work      sync.WaitGroup
}

// Start begins to announce.
func Start(cfg Config) (*Air, error) {
	wire, err := dnssd.Listen(cfg.Group)
	if err != nil {
		return nil, err
	}
	a := &Air{cfg: cfg, responder: dnssd.Respond(wire)}
	a.ctx, a.end = context.WithCancel(context.Background())
	return a, nil
}

// Close takes all off the network.
func (a *Air) Close() error {
	a.end()
	a.work.Wait()
	return a.responder.Close()
}

// Add has a body listen whenever it can be reached.
func (a *Air) Add(b Body) { a.work.Go(func() { a.follow(b) }) }

// linger is how long a body that falls asleep can still say so.
const linger = 300 * time.Millisecond

func (a *Air) follow(b Body) {
	var off func()
	defer func() {
		if off != nil {
			off()
		}
	}()
	port := 0
	for {
		changed := b.Changed()
		switch on := b.ReachableWithoutCable(); {
		case on && off == nil:
			var err error
			if off, port, err = a.listen(b, port); err != nil {
				a.cfg.Log.Error("listen without a cable", "body", b.Name(), "error", err)
			}
		case !on && off != nil:
			select {
			case <-a.ctx.Done():
			case <-time.After(linger):
			}
			off()
			off = nil
		}
		select {
		case <-a.ctx.Done():
			return
		case <-changed:
		}
	}
}

// renameEvery is how often a body announces itself under another name.
const renameEvery = time.Hour

// listen serves a body's link, at the port that it had before if that is free, until off is called.
func (a *Air) listen(b Body, port int) (off func(), at int, err error) {
	l, err := net.Listen("tcp", netip.AddrPortFrom(a.cfg.Address, uint16(port)).String())
	if err != nil {
		if l, err = net.Listen("tcp", netip.AddrPortFrom(a.cfg.Address, 0).String()); err != nil {
			return nil, 0, err
		}
	}
	address := l.Addr().(*net.TCPAddr).AddrPort()
	ctx, cancel := context.WithCancel(a.ctx)
	var serving sync.WaitGroup
	serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			serving.Go(func() { b.ServeDirectly(ctx, c) })
		}
	})
	serving.Go(func() { a.announce(ctx, b, address) })
	serving.Go(func() { a.tell(ctx, b, address) })
	return func() {
		cancel()
		l.Close()
		serving.Wait()
		b.Listens("", nil)
	}, int(address.Port()), nil
}

// tell tells a body where it is reached until ctx ends.
func (a *Air) tell(ctx context.Context, b Body, address netip.AddrPort) {
	for {
		networks, changed := a.responder.Networks()
		at, on := address, []string{}
		for _, name := range slices.Sorted(maps.Keys(networks)) {
			for _, p := range networks[name] {
				own := p.Addr() == address.Addr() || p.Contains(address.Addr())
				if address.Addr().IsUnspecified() && !p.Addr().IsLoopback() {
					own = true
					if at.Addr().IsUnspecified() {
						at = netip.AddrPortFrom(p.Addr(), address.Port())
					}
				}
				if own {
					on = append(on, p.String())
				}
			}
		}
		b.Listens(at.String(), on)
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// announce announces a body until ctx ends, under another name every hour.
func (a *Air) announce(ctx context.Context, b Body, address netip.AddrPort) {
	s := dnssd.Service{Type: link.ServiceType, Port: address.Port(), Text: map[string]string{link.TextVersion: link.AnnouncementVersion, link.TextFamily: b.Family()}}
	if !address.Addr().IsUnspecified() {
		s.Addresses = []netip.Addr{address.Addr()}
	}
	for ctx.Err() == nil {
		s.Instance = link.AnnouncementName(b.Fingerprint())
		withdraw, err := a.responder.Publish(s)
		if err != nil {
			a.cfg.Log.Error("announce", "body", b.Name(), "error", fmt.Errorf("announce: %w", err))
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(renameEvery):
		}
		withdraw()
	}
}

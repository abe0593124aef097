package peer

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/jump"
	"earlybench.invalid/earlybench/internal/network"
)

const dialWithin = 10 * time.Second

// dial connects to a bench at the first of its addresses that answers, through an SSH server if one is named. end is
// called once the link has ended.
func (p *Peers) dial(ctx context.Context, addresses []string, via, viaKey string, accept func(key string) error) (l linked, end func(), err error) {
	connect, end, err := p.route(ctx, via, viaKey)
	if err != nil {
		return linked{}, nil, err
	}
	var all []error
	for _, address := range addresses {
		c, err := connect(ctx, address)
		if err != nil {
			all = append(all, fmt.Errorf("reach %s: %w", address, err))
			continue
		}
		l.heard = &network.Heard{Conn: c}
		if l.Link, err = peer.Dial(ctx, l.heard, p.cfg.Key, accept, p); err == nil {
			return l, end, nil
		}
		all = append(all, err)
	}
	end()
	return linked{}, nil, errors.Join(all...)
}

// route is how addresses are connected to: directly, or from an SSH server (RFC 4254, section 7.2).
func (p *Peers) route(ctx context.Context, via, viaKey string) (connect func(context.Context, string) (net.Conn, error), end func(), err error) {
	if via == "" {
		d := net.Dialer{Timeout: dialWithin}
		return func(ctx context.Context, address string) (net.Conn, error) { return d.DialContext(ctx, "tcp", address) }, func() {}, nil
	}
	c, err := jump.Dial(ctx, via, p.cfg.Key, func(key string) error {
		if key != viaKey {
			return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("%s shows another key than the accepted one: %s, not %s.", via, key, viaKey),
				Remedy: "If it was set up anew, drop the peer and add it again."}
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context, address string) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, dialWithin)
		defer cancel()
		return c.DialContext(ctx, "tcp", address)
	}, func() { c.Close() }, nil
}

// Look returns the fingerprint of the key of an SSH server through which a bench is to be reached.
func (p *Peers) Look(ctx context.Context, via string) (fingerprint string, err error) {
	return jump.Look(ctx, via, p.cfg.Key)
}

// Bounds of those who connect.
const (
	mostConnections = 64
	mostVisitors    = 16
	visitorFor      = 30 * time.Second // without an introduction
)

// accept takes the connections of other benches.
func (p *Peers) accept() {
	free := make(chan struct{}, mostConnections)
	for {
		c, err := p.listener.Accept()
		if p.ctx.Err() != nil {
			if err == nil {
				c.Close()
			}
			return
		}
		if err != nil { // too many files are open, or the like
			select {
			case <-p.ctx.Done():
				return
			case <-time.After(firstPause):
			}
			continue
		}
		select {
		case free <- struct{}{}:
		default:
			c.Close()
			continue
		}
		p.work.Go(func() {
			defer func() { <-free }()
			p.take(c)
		})
	}
}

// take serves one connection.
func (p *Peers) take(c net.Conn) {
	h := &network.Heard{Conn: c}
	l, err := peer.Accept(p.ctx, h, p.cfg.Key, p)
	if err != nil {
		return
	}
	p.mu.Lock()
	isKnown := p.byKey(l.Key()) != nil
	full := !isKnown && p.visitors >= mostVisitors
	if !isKnown && !full {
		p.visitors++
	}
	p.mu.Unlock()
	switch {
	case full:
		l.Close()
	case isKnown:
		p.attach(p.ctx, linked{l, h})
	default:
		if p.meets(l) {
			p.attach(p.ctx, linked{l, h})
			return
		}
		l.Close()
	}
}

// meets waits until a visitor has become a peer; false if that does not happen.
func (p *Peers) meets(l *peer.Link) bool {
	defer func() {
		p.endAsking(l)
		p.mu.Lock()
		p.visitors--
		p.mu.Unlock()
	}()
	late := time.NewTimer(visitorFor)
	defer late.Stop()
	look := time.NewTicker(50 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return false
		case <-l.Done():
			return false
		case <-late.C:
			if !p.introduces(l) {
				return false
			}
			late.Reset(visitorFor)
		case <-look.C:
		}
		p.mu.Lock()
		is := p.byKey(l.Key()) != nil
		p.mu.Unlock()
		if is {
			return true
		}
	}
}

// fingerprint is that of this bench's key.
func (p *Peers) fingerprint() string { return ssh.FingerprintSHA256(p.cfg.Key.PublicKey()) }

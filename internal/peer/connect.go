package peer

import (
	"context"
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/network"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds the links to peers: they are kept up, and asked whether the other bench is there.

// connect starts to connect to a peer, at its current addresses. The lock is held.
func (p *Peers) connect(k *known) {
	k.end()
	k.end, k.trouble = func() {}, nil
	if len(k.Addresses) == 0 {
		return
	}
	var ctx context.Context
	ctx, k.end = context.WithCancel(p.ctx)
	r := k.Peer
	p.work.Go(func() { p.keepConnected(ctx, k, r) })
}

const (
	firstPause = time.Second
	mostPause  = 30 * time.Second
	// While streams may still wait for the next link (lend.Bridge), the pauses are short.
	bridging     = 2 * time.Minute
	bridgedPause = 3 * time.Second
	steady       = 30 * time.Second // a link that lasted this long was a good one
)

// keepConnected connects to a peer again and again.
func (p *Peers) keepConnected(ctx context.Context, k *known, r store.Peer) {
	said, lost := "", time.Now()
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		if time.Since(lost) < bridging {
			pause = min(pause, bridgedPause)
		}
		began := time.Now()
		l, end, err := p.dial(ctx, r.Addresses, r.Via, r.ViaKey, func(key string) error {
			if key != r.Key {
				return &OtherKey{Name: r.Name, Known: r.Key, Shown: key}
			}
			return nil
		})
		p.mu.Lock()
		k.trouble = err
		p.mu.Unlock()
		if err == nil {
			p.attach(ctx, l)
			end()
			lost = time.Now()
		} else if said != err.Error() && ctx.Err() == nil {
			said = err.Error()
			p.cfg.Log.Info("connect to a peer", "peer", r.Name, "error", err)
			p.tell()
		}
		if time.Since(began) > steady {
			pause, said = firstPause, ""
		}
		if clock.Sleep(ctx, clock.System{}, pause) != nil {
			return
		}
	}
}

// OtherKey is the error of a bench that proved a key other than the known one.
type OtherKey struct{ Name, Known, Shown string }

func (e *OtherKey) Error() string {
	return fmt.Sprintf("the bench that answers there is not %s, whose key is %s: it has %s", e.Name, e.Known, e.Shown)
}

// callWithin is how long an answer of a peer may take.
const callWithin = 20 * time.Second

// linked is a link, and the connection on which it is known when something was heard.
type linked struct {
	*peer.Link
	heard *network.Heard
}

// attach uses a link to a peer until it ends.
func (p *Peers) attach(ctx context.Context, l linked) {
	defer l.Close()
	p.mu.Lock()
	k := p.byKey(l.Key())
	if k == nil || ctx.Err() != nil {
		p.mu.Unlock()
		return
	}
	k.links = append([]*peer.Link{l.Link}, k.links...)
	k.trouble = nil
	p.changed(k)
	p.mu.Unlock()
	p.tell()
	defer func() {
		p.endAsking(l.Link)
		p.mu.Lock()
		k.links = slices.DeleteFunc(k.links, func(other *peer.Link) bool { return other == l.Link })
		p.changed(k)
		p.mu.Unlock()
		p.tell()
	}()
	if err := p.greet(ctx, k, l.Link); err != nil {
		p.cfg.Log.Info("greet a peer", "peer", k.Name, "error", err)
		return
	}
	if err := l.heard.Lasts(ctx, l, nil); err != nil {
		p.cfg.Log.Info("a peer does not answer any more", "peer", k.Name, "error", err)
	}
}

// greet exchanges names and clocks.
func (p *Peers) greet(ctx context.Context, k *known, l *peer.Link) error {
	ctx, cancel := context.WithTimeout(ctx, callWithin)
	defer cancel()
	began := time.Now()
	var h peer.Hello
	if err := l.Call(ctx, peer.MethodHello, p.hello(), &h); err != nil {
		return err
	}
	if h.Version != peer.Version {
		return fmt.Errorf("it speaks version %d of the protocol, and this bench version %d", h.Version, peer.Version)
	}
	p.mu.Lock()
	k.skew = h.At.Sub(p.cfg.Clock.Now().Add(-time.Since(began) / 2))
	p.changed(k)
	p.mu.Unlock()
	p.tell()
	return nil
}

// hello is what this bench says of itself.
func (p *Peers) hello() peer.Hello {
	return peer.Hello{Version: peer.Version, Name: p.cfg.Bench(), At: p.cfg.Clock.Now()}
}

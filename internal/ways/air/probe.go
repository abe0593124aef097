package air

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// probeEvery is how often addresses without an answer are tried.
const probeEvery = 10 * time.Second

// probe tries the addresses of devices that are not heard.
func (a *Air) probe() {
	for a.ctx.Err() == nil {
		changed := a.networksChanged()
		a.probeAll()
		t := time.NewTimer(probeEvery)
		select {
		case <-a.ctx.Done():
		case <-changed:
			a.wakeAll()
		case <-t.C:
		}
		t.Stop()
	}
}

// wakeAll makes every way check whether its device is still there.
func (a *Air) wakeAll() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, w := range a.ways {
		w.wake()
	}
}

// networksChanged is closed when the computer's networks have changed; nil where nobody looks.
func (a *Air) networksChanged() <-chan struct{} {
	a.mu.Lock()
	b := a.browser
	a.mu.Unlock()
	if b == nil {
		return nil
	}
	return b.NetworksChanged()
}

// probeAtOnce is how many addresses are tried at the same time.
const probeAtOnce = 8

func (a *Air) probeAll() {
	var targets []string
	a.mu.Lock()
	for id, address := range a.last {
		if a.ways[id] == nil {
			targets = append(targets, address)
		}
	}
	for address, g := range a.given {
		if g.device == "" || a.ways[g.device] == nil {
			targets = append(targets, address)
		}
	}
	a.mu.Unlock()
	for _, k := range a.cfg.Rack.All() { // where a device says over another way that it listens
		if address := a.addressOf(k); address != "" && !slices.ContainsFunc(k.Ways(), keeper.Reached.Wireless) {
			targets = append(targets, address)
		}
	}
	slices.Sort(targets)
	targets = slices.Compact(targets)
	slots := make(chan struct{}, probeAtOnce)
	var probing sync.WaitGroup
	for _, address := range targets {
		slots <- struct{}{}
		probing.Go(func() {
			defer func() { <-slots }()
			a.probeOne(address)
		})
	}
	probing.Wait()
}

// probeOne finds out who is at an address, and connects to a device on record there.
func (a *Air) probeOne(address string) {
	key, err := a.look(a.ctx, address)
	if a.ctx.Err() != nil {
		return
	}
	a.mu.Lock()
	g := a.given[address]
	if g != nil {
		g.key, g.trouble, g.tried = key, "", true
		if err != nil {
			g.trouble = line(network.Trouble(err).Error())
		}
		a.tell()
	}
	a.mu.Unlock()
	if key == "" {
		return
	}
	for _, k := range a.cfg.Rack.All() {
		if d := k.Device(); d.Key == key && !network.Retired(d) {
			a.reach(k, candidate{name: address, addresses: []string{address}})
			return
		}
	}
}

// errLooked ends a connection that was made to learn a key.
var errLooked = errors.New("only the key was asked for")

// look returns the key that whoever is at an address proves.
func (a *Air) look(ctx context.Context, address string) (key string, err error) {
	s, err := a.dial(ctx, address, func(shown string) error { key = shown; return errLooked })
	if err == nil {
		s.Close()
	}
	if errors.Is(err, errLooked) {
		err = nil
	}
	return key, err
}

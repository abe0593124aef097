package air

import (
	"net/netip"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// What is on the network is observed for each device that could be reached there and is not: this
// often, and again after a while although nothing has changed, since these facts are good for a
// short time only.
const (
	observeEvery  = time.Second
	observeAtMost = time.Minute
)

// quietFor is the time without any announcement of another device after which the networks count as such
// that carry none.
const quietFor = 20 * time.Second

// observed is what was observed of a device last.
type observed struct {
	near    bool
	network string
	quiet   bool
	at      time.Time
}

// observe observes, for devices that are not reached without a cable, what this computer sees of the
// network, so that it can be explained why.
func (a *Air) observe() {
	before := map[string]observed{}
	begun := time.Now()
	for clock.Sleep(a.ctx, clock.System{}, observeEvery) == nil {
		families := map[string]bool{} // that are heard and were not introduced
		for _, e := range a.List() {
			if e.State == network.NotMet && e.Family != "" {
				families[e.Family] = true
			}
		}
		quiet, listens := a.quiet(begun)
		for _, e := range a.List() {
			quiet = quiet && e.Given
		}
		for _, k := range a.cfg.Rack.All() {
			a.observeOne(k, families, quiet, listens, before)
		}
	}
}

func (a *Air) observeOne(k *keeper.Keeper, families map[string]bool, quiet, listens bool, before map[string]observed) {
	d := k.Device()
	was, ever := before[d.ID]
	now := observed{near: d.Key == "" && families[d.Family], quiet: quiet, at: time.Now()}
	if !slices.ContainsFunc(k.Ways(), keeper.Reached.Wireless) {
		now.network = a.networkOf(k)
	}
	a.mu.Lock()
	answered := a.last[d.ID] != ""
	a.mu.Unlock()
	concerned := now.network != "" || now.near || answered || ever // others may have nothing to do with networks
	if !concerned || now.near == was.near && now.network == was.network && now.quiet == was.quiet && time.Since(was.at) < observeAtMost {
		return
	}
	facts := []fact.Fact{k.Seen(fact.AirNear, fact.Of(now.near), fact.Host)}
	if now.network != "" {
		facts = append(facts, k.Seen(fact.AirNetwork, fact.Of(now.network), fact.Host))
	}
	if listens {
		facts = append(facts, k.Seen(fact.AirQuiet, fact.Of(quiet), fact.Host))
	}
	var err error
	if now.network == "" && was.network != "" {
		err = k.Facts().Forget(a.ctx, fact.Host, fact.AirNetwork)
	}
	if err == nil {
		err = k.Facts().Observe(a.ctx, facts...)
	}
	if err == nil {
		before[d.ID] = now
	}
}

// quiet reports whether nothing was heard of any other device for a while, and whether announcements are
// listened for at all.
func (a *Air) quiet(begun time.Time) (quiet, listens bool) {
	a.mu.Lock()
	b := a.browser
	a.mu.Unlock()
	if b == nil {
		return false, false
	}
	last := b.HeardOthers()
	if last.IsZero() {
		last = begun
	}
	return time.Since(last) > quietFor, true
}

// The values of the fact air.network.
const (
	sameNetwork  = "same"
	otherNetwork = "other"
	hotspot      = "hotspot"
)

// networkOf says on which network a device is, as seen from this computer: by what the device tells
// now, or has told before, or by the address at which it answered last; "" where nobody knows.
// That it was on a network of this computer does not mean that it still is; that none of its
// networks is one of this computer's any more explains why it is not heard.
func (a *Air) networkOf(k *keeper.Keeper) string {
	own := a.Networks()
	view, now := k.Facts().View(), a.cfg.Clock.Now()
	var its []netip.Prefix
	if f, ok := view.Get(fact.AirNetworks, now); ok {
		for _, text := range f.Value.Texts() {
			if p, err := netip.ParsePrefix(text); err == nil {
				its = append(its, p)
			}
		}
	}
	if len(its) == 0 {
		a.mu.Lock()
		last := a.last[k.Device().ID]
		a.mu.Unlock()
		at, err := netip.ParseAddrPort(last)
		if err != nil {
			return ""
		}
		its = []netip.Prefix{netip.PrefixFrom(at.Addr(), at.Addr().BitLen())}
	}
	if len(own) == 0 {
		return ""
	}
	for _, prefixes := range own {
		for _, mine := range prefixes {
			if slices.ContainsFunc(its, mine.Overlaps) {
				if k.Session() != nil {
					return sameNetwork
				}
				return ""
			}
		}
	}
	if f, ok := view.Get(fact.AirHotspot, now); ok && f.Value.IsTrue() {
		return hotspot
	}
	return otherNetwork
}

// addressOf is where a device has told that it listens; "" where it has not.
func (a *Air) addressOf(k *keeper.Keeper) string {
	f, ok := k.Facts().View().Get(fact.AirAddress, a.cfg.Clock.Now())
	if !ok || checkAddress(f.Value.Text()) != nil {
		return ""
	}
	return f.Value.Text()
}

package supply

import (
	"slices"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/udev"
	"earlybench.invalid/earlybench/internal/keeper"
)

// What the fact driver.state says of the driver of a device link.
const (
	driverMissing  = "missing"
	driverOffered  = "offered"  // by a depot
	driverService  = "service"  // by the host's own update service
	driverFetched  = "fetched"  // it is here, or on the host, and not bound
	driverUnsigned = "unsigned" // it is on the host, which has not bound it for that reason
	driverSimilar  = "similar"  // one for another model is bound
	driverBound    = "bound"
)

// place is a device link on a host.
type place struct {
	host   string
	device *hostlink.Device
	link   *hostlink.Interface // nil while the device shows none
	bus    hostlink.Bus
	target driver.Target
}

// placeOf finds a device on the bus of the host by which it is reached.
func (s *Supply) placeOf(k *keeper.Keeper) (place, bool) {
	for _, w := range k.Ways() {
		bus, known := s.Hosts.Bus(w.Place.Host)
		if !known {
			continue
		}
		for i := range bus.Devices {
			if d := &bus.Devices[i]; d.Port == w.Place.Port {
				p, ok := s.on(w.Place.Host, d, bus)
				p.target.Maker = k.Series().Maker
				return p, ok
			}
		}
	}
	return place{}, false
}

func (s *Supply) on(host string, d *hostlink.Device, bus hostlink.Bus) (place, bool) {
	id, err := usb.ParseID(d.USB)
	if err != nil {
		return place{}, false
	}
	p := place{host: host, device: d, bus: bus}
	system, release := s.Hosts.System(host)
	p.target = driver.LinkOf(id, system, release)
	for i := range d.Interfaces {
		if d.Interfaces[i].Name == usb.LinkName {
			p.link = &d.Interfaces[i]
		}
	}
	return p, true
}

// Candidates are the driver sets that may be used for a device, the best first, each with the
// reason why.
func (s *Supply) Candidates(k *keeper.Keeper) []driver.Candidate {
	p, ok := s.placeOf(k)
	if !ok {
		return nil
	}
	return s.candidates(p)
}

func (s *Supply) candidates(p place) (out []driver.Candidate) {
	if rules := s.Hosts.Rules(p.host); rules != nil {
		return s.ruleCandidates(p, rules)
	}
	publishers := map[string]bool{}
	var all []driver.Candidate
	depots := s.Depots.All()
	for _, d := range depots {
		publishers[d.Record.Publisher] = true
	}
	for _, h := range s.Shelf.All() {
		c := driver.Candidate{Held: h, Here: true, Verified: publishers[h.Publisher]}
		for _, f := range h.Manifest.Files {
			c.Size += f.Size
		}
		all = append(all, c)
	}
	for _, d := range p.bus.Drivers {
		all = append(all, driver.Candidate{Held: driver.Held{Digest: d.Digest, Manifest: d.Set}, Size: d.Size, Verified: d.Signed})
	}
	if p.link != nil && p.link.Service != nil {
		d := p.link.Service
		all = append(all, driver.Candidate{Held: driver.Held{Digest: d.Digest, Manifest: d.Set}, Size: d.Size, Verified: d.Signed, Service: true})
	}
	for _, d := range depots {
		for i := range d.Index.Offers {
			if o := &d.Index.Offers[i]; o.Kind == depot.Driver {
				all = append(all, offeredBy(d.Record.Name, d.Record.Signer, o))
			}
		}
	}
	for _, c := range driver.Rank(all, p.target) {
		c.Installed = slices.ContainsFunc(p.bus.Drivers, func(d hostlink.Driver) bool { return d.Digest == c.Digest })
		c.Bound = c.Installed && p.link != nil && p.link.Driver == c.Manifest.Name
		out = append(out, c)
	}
	return out
}

// ruleCandidates are the candidates on a Linux computer of one's own: the right on the node, and
// sets that are made for Linux. Installing one changes the rules file.
func (s *Supply) ruleCandidates(p place, rules *udev.Rules) (out []driver.Candidate) {
	text, err := rules.Text()
	if err != nil {
		s.Log.Warn("look at the rules file", "error", err)
	}
	installed := driver.ReadRules(text)
	all := []driver.Candidate{{Held: driver.NodeAccess(p.target.ID), Here: true, Verified: true}}
	publishers := map[string]bool{}
	for _, d := range s.Depots.All() {
		publishers[d.Record.Publisher] = true
	}
	for _, h := range s.Shelf.All() {
		if slices.ContainsFunc(h.Manifest.Systems, func(y driver.System) bool { return y.Name == p.target.System }) {
			all = append(all, driver.Candidate{Held: h, Here: true, Verified: publishers[h.Publisher]})
		}
	}
	for _, c := range driver.Rank(all, p.target) {
		c.Installed = slices.ContainsFunc(installed, func(r driver.Rule) bool { return r.Digest == c.Digest })
		c.Bound = c.Installed && p.link != nil && p.link.Driver != ""
		if !c.Installed {
			if plan, err := rules.Plan(append(slices.Clone(installed), driver.RuleOf(c.Held))); err == nil {
				c.Difference = plan.Difference
			}
		}
		out = append(out, c)
	}
	return out
}

// offeredBy is a driver set as a depot offers it.
func offeredBy(name, signer string, o *depot.Offer) driver.Candidate {
	c := driver.Candidate{Depot: name, Size: o.File.Size, Verified: !o.Unsigned,
		Held: driver.Held{Digest: o.File.SHA256, Manifest: driver.Manifest{Name: o.Name, Version: o.Version, Maker: o.Maker, About: o.About, Fits: o.Fits, Systems: o.Systems}}}
	if !o.Unsigned {
		c.Signer = signer
	}
	return c
}

// best is the candidate that is installed without a choice by hand; nil if there is none.
func best(all []driver.Candidate) *driver.Candidate {
	if len(all) > 0 && all[0].Fit.Automatic() {
		return &all[0]
	}
	return nil
}

// Best is the driver set to install for a device; nil if none fits, or one is bound.
func (s *Supply) Best(k *keeper.Keeper) *driver.Candidate {
	p, ok := s.placeOf(k)
	if !ok || p.link != nil && p.link.Driver != "" && s.isRight(p) {
		return nil
	}
	return best(s.candidates(p))
}

// Drivers says which driver set fits a device on a host, and how its driver is there; each is
// "" for nothing.
func (s *Supply) Drivers(host string, d *hostlink.Device) (offered, state string) {
	bus, _ := s.Hosts.Bus(host)
	p, ok := s.on(host, d, bus)
	if !ok {
		return "", ""
	}
	b := best(s.candidates(p))
	if b != nil {
		offered = b.Manifest.Name
	}
	switch {
	case p.link == nil, d.Denied != "": // that it may not be opened is a fact of its own
	case p.link.Driver != "" && s.isRight(p):
		state = driverBound
	case p.link.Driver != "":
		state = driverSimilar
	case b == nil:
		state = driverMissing
	case b.Installed && !b.Verified:
		state = driverUnsigned
	case b.Here || b.Installed:
		state = driverFetched
	case b.Service:
		state = driverService
	default:
		state = driverOffered
	}
	return offered, state
}

// isRight reports whether the driver that is bound is one for this device. What the host has
// on its own is.
func (s *Supply) isRight(p place) bool {
	for _, d := range p.bus.Drivers {
		if d.Set.Name == p.link.Driver {
			fit, _ := d.Set.FitOf(p.target)
			return fit > driver.Similar
		}
	}
	return true
}

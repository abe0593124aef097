package air

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// List returns what is heard and what was given, by name.
func (a *Air) List() []network.Entry {
	handles := network.Handles(a.cfg.Rack)
	a.mu.Lock()
	defer a.mu.Unlock()
	var out []network.Entry
	for _, h := range a.heard {
		e := network.Entry{Name: h.name, State: network.NotMet, Device: handles[h.device], Family: line(h.Text[link.TextFamily]), Addresses: addresses(h.Found), Since: h.Since}
		switch {
		case e.Device != "":
			e.State = network.Known
		case h.Text[link.TextVersion] != link.AnnouncementVersion:
			e.State = network.OtherVersion
		}
		out = append(out, e)
	}
	for address, g := range a.given {
		e := network.Entry{Name: g.name, State: network.NotMet, Device: handles[g.device], Addresses: []string{address}, Given: true, Trouble: g.trouble}
		switch {
		case e.Device != "":
			e.State = network.Known
		case g.trouble != "" || !g.tried:
			e.State = network.Silent
		}
		out = append(out, e)
	}
	network.Sort(out)
	return out
}

// find finds an entry by its name or its address.
func (a *Air) find(name string) (network.Entry, error) {
	all := a.List()
	for _, e := range all {
		if e.Name == name || slices.Contains(e.Addresses, name) {
			return e, nil
		}
	}
	return network.Entry{}, network.NotHeard(name)
}

// Networks returns the networks of this computer on which announcements are listened for, by
// interface.
func (a *Air) Networks() map[string][]netip.Prefix {
	a.mu.Lock()
	b := a.browser
	a.mu.Unlock()
	if b == nil {
		return nil
	}
	return b.Networks()
}

// Add saves an address that a person gives, and finds out who is there.
func (a *Air) Add(ctx context.Context, address string) (network.Entry, error) {
	if err := checkAddress(address); err != nil {
		return network.Entry{}, err
	}
	if err := a.cfg.Records.GiveAddress(ctx, address, a.cfg.Clock.Now()); err != nil {
		return network.Entry{}, err
	}
	a.mu.Lock()
	if a.given[address] == nil {
		a.given[address] = &given{name: a.newName()}
	}
	a.mu.Unlock()
	a.probeOne(address)
	return a.find(address)
}

// checkAddress reports what is wrong with the form of an address.
func checkAddress(address string) error {
	host, port, err := net.SplitHostPort(address)
	if err != nil || host == "" || port == "" || len(address) > 255 || strings.ContainsAny(address, " /") {
		return problem.Errorf(problem.Invalid, "%.60q is not an address: give host and port, such as 192.168.7.21:4022 or [fe80::1]:4022", address)
	}
	if n, err := net.LookupPort("tcp", port); err != nil || n == 0 {
		return problem.Errorf(problem.Invalid, "%.60q has no valid port: give a number from 1 to 65535", address)
	}
	return nil
}

// Drop forgets an address that a person has given.
func (a *Air) Drop(ctx context.Context, name string) error {
	e, err := a.find(name)
	if err != nil {
		return err
	}
	if !e.Given {
		return problem.Errorf(problem.Invalid, "%s is announced, and goes away when the announcements stop. Only an address that was added can be dropped", e.Name)
	}
	address := e.Addresses[0]
	if err := a.cfg.Records.DropAddress(ctx, address); err != nil {
		return err
	}
	a.mu.Lock()
	delete(a.given, address)
	for id, last := range a.last {
		if last == address {
			delete(a.last, id)
		}
	}
	a.mu.Unlock()
	a.Changed()
	return nil
}

// Dial links to the device of an entry, whoever that is, and returns where it has answered.
func (a *Air) Dial(ctx context.Context, e network.Entry) (s *link.Session, at string, err error) {
	if len(e.Addresses) == 0 {
		return nil, "", errors.New("it gives no address")
	}
	for _, at = range e.Addresses {
		var found *session
		if found, err = a.dial(ctx, at, func(string) error { return nil }); err == nil {
			return found.Session, at, nil
		}
	}
	return nil, at, err
}

// Met makes the bench reach a device on record where it has answered.
func (a *Air) Met(k *keeper.Keeper, at string) {
	a.Again() // its announcement is recognised from now on
	a.reach(k, candidate{name: at, addresses: []string{at}})
}

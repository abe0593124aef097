package computer

import (
	"fmt"

	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Computer shows the hosts of a bench. All fields are needed.
type Computer struct {
	Rack    *rack.Rack
	Outlook *outlook.Outlook
	Hosts   *bus.Hosts
}

// View is the USB of one host.
type View struct {
	Known bool  // what is connected is known
	Why   error // why it is not, or not at once; nil if there is nothing to say
	Rows  []Row
}

// Of returns what is connected to a host that is watched.
func (c *Computer) Of(host string) (View, error) {
	if !c.Hosts.Watched(host) {
		return View{}, fmt.Errorf("host %.60q: %w", host, store.ErrNotFound)
	}
	b, known := c.Hosts.Bus(host)
	v := View{Known: known, Why: c.Hosts.Trouble(host)}
	if known {
		v.Rows = Tree(b, c.known(host))
	}
	return v, nil
}

// known collects what the bench knows of the ports of a host.
func (c *Computer) known(host string) Known {
	out := Known{Devices: map[string]outlook.Standing{}, Unrecognised: map[string]rack.Unrecognised{}}
	for _, k := range c.Rack.All() {
		if k.Host() != host {
			continue
		}
		s := c.Outlook.Glance(k, "")
		for _, w := range s.Ways {
			if w.Place.Host == host {
				out.Devices[w.Place.Port] = s
			}
		}
	}
	for _, u := range c.Rack.Unrecognised() {
		if u.Host == host {
			out.Unrecognised[u.Port] = u
		}
	}
	return out
}

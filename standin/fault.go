package standin

import (
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/standin/body"
	"earlybench.invalid/earlybench/standin/hub"
)

// Fault is something that can be wrong with a stand-in or its cable.
type Fault = body.Fault

// cableFaults are those of what connects a body.
var cableFaults = []struct {
	name, text string
	cable      hub.Cable
}{
	{"cable-charges-only", "its cable carries power only", hub.Charge},
	{"cable-worn", "its cable breaks now and then", hub.Worn},
	{"port-dead", "its port is dead", hub.Dead},
}

const (
	notPlugged    = "not-plugged"
	heldByMachine = "held-by-machine"
)

// faults returns every fault that a body and its cable can have.
func (r *Rig) faults(b *body.Body) []Fault {
	var out []Fault
	port := r.port(b.Name())
	for _, f := range cableFaults {
		out = append(out, Fault{Name: f.name, Text: f.text, On: port.Cable == f.cable && !b.Cradled()})
	}
	out = append(out, Fault{Name: notPlugged, Text: "its cable is out", On: !port.Plugged},
		Fault{Name: heldByMachine, Text: "a virtual machine holds it", On: port.Held != ""})
	return append(out, b.Faults()...)
}

func (r *Rig) port(name string) hub.Port {
	ports := r.hub.Ports()
	if i := slices.IndexFunc(ports, func(p hub.Port) bool { return p.Body == name }); i >= 0 {
		return ports[i]
	}
	return hub.Port{}
}

// setFault sets a fault, or removes it as a person who repairs it would.
func (r *Rig) setFault(b *body.Body, name string, on bool) error {
	for _, f := range cableFaults {
		if f.name != name {
			continue
		}
		if on {
			return r.hub.SetCable(b.Name(), f.cable)
		}
		return r.hub.SetCable(b.Name(), hub.Data)
	}
	switch {
	case name == notPlugged && on:
		return r.hub.Pull(b.Name(), 0)
	case name == notPlugged:
		return r.hub.Plug(b.Name())
	case name == heldByMachine && on:
		return r.takeOver(b.Name())
	case name == heldByMachine:
		r.machine.Drop(r.hub.Address(), r.port(b.Name()).BusID)
		return r.hub.Release(r.port(b.Name()).BusID, "")
	}
	if !slices.ContainsFunc(r.faults(b), func(f Fault) bool { return f.Name == name }) {
		var names []string
		for _, f := range r.faults(b) {
			names = append(names, f.Name)
		}
		return fmt.Errorf("there is no fault %q for %s; there are %s", name, b.Name(), strings.Join(names, ", "))
	}
	return b.SetFault(name, on)
}

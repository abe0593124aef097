// Package computer shows the computer's side of a bench: what is connected to the USB of its
// hosts, and what is wrong there. It computes from what was reported, and asks nobody.
package computer

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
)

// Kind is what a row of a tree is.
type Kind string

// The kinds of rows.
const (
	Controller Kind = "controller"
	Hub        Kind = "hub"
	Device     Kind = "device"
	Interface  Kind = "interface"
)

// Row is one controller, hub, device or interface, below what it is connected to.
type Row struct {
	hostlink.Joint
	Depth  int
	Kind   Kind
	ID     string // bus id; of an interface its number
	Ports  int    // of a controller or hub
	Name   string
	USB    string // vendor:product, or the class of an interface
	Driver string
	Holder string
	Handle string // of the device on the rack
	Mark
	Worst bool // it is what should be put right first
}

// Mark is what is wrong in a row. The zero value is nothing.
type Mark struct {
	Gate    string // that it shuts; may be ""
	Trouble string
}

// Known tells what the bench knows of a port of the host: the device there, and what is
// unrecognised.
type Known struct {
	Devices      map[string]outlook.Standing // by port
	Unrecognised map[string]rack.Unrecognised
}

// Tree arranges what is connected to a host, and marks what is wrong where it is wrong. What
// says that it is connected to something that is not there stands at the end.
func Tree(bus hostlink.Bus, known Known) []Row {
	t := tree{known: known, below: map[string][]entry{}}
	ids := map[string]bool{}
	for _, h := range bus.Hubs {
		ids[h.BusID] = true
	}
	for i := range bus.Hubs {
		h := &bus.Hubs[i]
		t.add(h.Joint, h.BusID, ids, entry{hub: h})
	}
	for i := range bus.Devices {
		d := &bus.Devices[i]
		t.add(d.Joint, d.BusID, ids, entry{device: d})
	}
	t.walk("", 0)
	worst(t.rows)
	return t.rows
}

// order is in which order faults are put right: what nobody reaches comes first.
var order = []string{"seen", "driver", "linked"}

// worst marks the row that should be put right first: the first one with the first gate.
func worst(rows []Row) {
	for _, gate := range order {
		for i := range rows {
			if rows[i].Gate == gate {
				rows[i].Worst = true
				return
			}
		}
	}
}

// deepest is how many hubs may be chained with a device at the end: USB 2.0 has
// seven tiers, and a host that reports more is not followed.
const deepest = 8

type tree struct {
	known Known
	below map[string][]entry // by bus id of the hub; "" for what is connected to none
	rows  []Row
}

// entry is a hub or a device.
type entry struct {
	hub    *hostlink.Hub
	device *hostlink.Device
	port   int
}

func (t *tree) add(j hostlink.Joint, id string, ids map[string]bool, e entry) {
	parent := j.Parent
	if !ids[parent] || parent == id {
		parent = ""
	}
	e.port = j.PortNumber
	t.below[parent] = append(t.below[parent], e)
}

func (t *tree) walk(parent string, depth int) {
	if depth > deepest {
		return
	}
	all := t.below[parent]
	delete(t.below, parent) // a hub that is below itself is walked once
	slices.SortStableFunc(all, func(a, b entry) int { return cmp.Compare(a.port, b.port) })
	for _, e := range all {
		if e.device != nil {
			t.device(e.device, depth)
			continue
		}
		h := e.hub
		kind := Hub
		if h.Parent == "" {
			kind = Controller
		}
		t.rows = append(t.rows, Row{Joint: h.Joint, Depth: depth, Kind: kind, ID: h.BusID, Ports: h.Ports, Name: named(h.Name, h.USB), USB: h.USB, Driver: h.Driver})
		t.walk(h.BusID, depth+1)
	}
}

func (t *tree) device(d *hostlink.Device, depth int) {
	row := Row{Joint: d.Joint, Depth: depth, Kind: Device, ID: d.BusID, Name: named(d.Name, d.USB), USB: d.USB, Holder: d.Holder}
	standing, known := t.known.Devices[d.Port]
	if known {
		row.Handle = standing.Device.Handle
		row.Name = strings.TrimSpace(standing.Sheet.Maker + " " + standing.Sheet.Model.Name)
		if row.Holder == "" && slices.ContainsFunc(standing.Ways, func(w keeper.Reached) bool { return w.Up && w.Place.Host != "" }) {
			row.Holder = "this bench"
		}
	}
	var onLink Mark
	if d.Denied != "" {
		onLink = Mark{"driver", d.Denied + "."}
	}
	switch first := standing.Readiness.First; {
	case d.Holder != "":
		row.Mark = Mark{"seen", "Held by " + d.Holder + "."}
	case !known:
		if _, is := t.known.Unrecognised[d.Port]; is {
			row.Mark = Mark{"", "No prep sheet fits it."}
		}
	case d.Denied != "":
	case first == "driver" || first == "linked":
		onLink = Mark{first, standing.Blocked().Text}
	default:
		row.Mark = breaks(standing)
	}
	t.rows = append(t.rows, row)
	for _, i := range d.Interfaces {
		r := Row{Depth: depth + 1, Kind: Interface, Handle: row.Handle, ID: strconv.Itoa(i.Number), Name: i.Name, USB: i.Class, Driver: i.Driver}
		if i.Name == usb.LinkName {
			r.Mark = onLink
		}
		t.rows = append(t.rows, r)
	}
}

// wornFrom is from how many breaks, or transfers that failed, within ten minutes a cable is
// called worn.
const wornFrom = 3

// breaks marks a device that lost the bus, or transfers, again and again.
func breaks(s outlook.Standing) Mark {
	count := func(k fact.Key) int64 {
		f, _ := s.View.Get(k, s.Now)
		return f.Value.Int()
	}
	lost, failed := count(fact.USBBreaks), count(fact.USBErrors)
	if lost < wornFrom && failed < wornFrom {
		return Mark{}
	}
	text := fmt.Sprintf("It has left the bus %d times", lost)
	if failed > 0 {
		text += fmt.Sprintf(", and %s,", counted(int(failed), "transfer failed", "transfers failed"))
	}
	m := Mark{Trouble: text + " within ten minutes, as with a worn cable."}
	if s.Readiness.Gate("seen").State != ready.Open {
		m.Gate = "seen"
	}
	return m
}

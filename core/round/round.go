// Package round groups many devices by what they need next, in an order in which
// one person walks as little as possible.
package round

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/sheet"
)

// Device is one device with what it needs next. One without a step and without a
// fault needs nothing.
type Device struct {
	Handle string
	Family string
	Step   string // id of its next step; "" for none
	Title  string // of the step, or what is wrong where there is none
	Who    sheet.Who
	Gate   string
	Host   string
	Port   string // as people read it; a number in it is its place
	Mins   int    // of the step
}

// Group is devices that need the same next.
type Group struct {
	Who     sheet.Who
	Gate    string
	Title   string
	Minutes int
	Devices []Device
}

// Round is the groups in the order to visit them, and the devices that need nothing.
type Round struct {
	Groups []Group
	Ready  []Device
}

// Make groups devices into a round: steps by hand come first, then steps at the
// computer, then what happens by itself. Within each kind the biggest group comes first,
// then always the nearest one.
func Make(devices []Device) Round {
	var r Round
	byNeed := map[[4]string]*Group{}
	var order [][4]string
	for _, d := range devices {
		if d.Title == "" {
			r.Ready = append(r.Ready, d)
			continue
		}
		need := [4]string{string(d.Who), d.Family, d.Step, d.Title}
		g := byNeed[need]
		if g == nil {
			g = &Group{Who: d.Who, Gate: d.Gate, Title: d.Title}
			byNeed[need] = g
			order = append(order, need)
		}
		g.Devices = append(g.Devices, d)
		g.Minutes += d.Mins
	}
	groups := make([]Group, 0, len(order))
	for _, need := range order {
		g := byNeed[need]
		slices.SortStableFunc(g.Devices, byPlace)
		groups = append(groups, *g)
	}
	for _, who := range []sheet.Who{sheet.Hands, sheet.Computer, sheet.Automatic} {
		r.Groups = append(r.Groups, walk(slices.DeleteFunc(slices.Clone(groups), func(g Group) bool { return g.Who != who }))...)
	}
	return r
}

// walk orders groups: the biggest first, then always the one that starts nearest to the
// end of the last. A group is walked from its nearer end.
func walk(groups []Group) []Group {
	var out []Group
	for len(groups) > 0 {
		best, turn := 0, false
		if len(out) == 0 {
			for i, g := range groups {
				if len(g.Devices) > len(groups[best].Devices) {
					best = i
				}
			}
		} else {
			at := out[len(out)-1].Devices[len(out[len(out)-1].Devices)-1]
			least := math.Inf(1)
			for i, g := range groups {
				first, last := far(at, g.Devices[0]), far(at, g.Devices[len(g.Devices)-1])
				if d := min(first, last); d < least {
					best, turn, least = i, last < first, d
				}
			}
		}
		g := groups[best]
		if turn {
			slices.Reverse(g.Devices)
		}
		out = append(out, g)
		groups = slices.Delete(groups, best, best+1)
	}
	return out
}

// anotherHost is how far it is to another computer, in ports.
const anotherHost = 1000

// far returns the distance between two devices, in ports.
func far(a, b Device) float64 {
	if a.Host != b.Host {
		return anotherHost
	}
	return math.Abs(float64(port(a) - port(b)))
}

func byPlace(a, b Device) int {
	return cmp.Or(cmp.Compare(a.Host, b.Host), cmp.Compare(port(a), port(b)), cmp.Compare(a.Handle, b.Handle))
}

// port is the last number in a port's name; devices that are connected nowhere come last.
func port(d Device) int {
	words := strings.FieldsFunc(d.Port, func(r rune) bool { return r < '0' || r > '9' })
	if len(words) == 0 {
		return anotherHost
	}
	n, err := strconv.Atoi(words[len(words)-1])
	if err != nil {
		return anotherHost
	}
	return n
}

// Walked returns how far a person walks for the groups that need hands, in ports.
func (r Round) Walked() float64 {
	var sum float64
	var at *Device
	for _, g := range r.Groups {
		if g.Who != sheet.Hands {
			continue
		}
		for _, d := range g.Devices {
			if at != nil {
				sum += far(*at, d)
			}
			at = &d
		}
	}
	return sum
}

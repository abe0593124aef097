package body

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Fault is something that can be wrong with a body.
type Fault struct {
	Name string `json:"name"`
	Text string `json:"text"`
	On   bool   `json:"on"`
}

// bodyFault is one fault: how it is set, how it is removed, and whether it is present.
// A fault without put is only recorded, and read where it matters; a fault without drop
// is repaired on the device.
type bodyFault struct {
	name, text string
	put        func(*Body)
	drop       func(*Body)
	is         func(*Body) bool
}

// faults are the faults of a body, with what each does when it is set. Faults that a
// person repairs on the device end when that is done. Nobody is told of a fault; it
// shows only by its effects.
var faults = []bodyFault{
	{"battery-low", "its battery has four per cent", func(b *Body) { b.st.Level, b.st.LevelAt = 4, b.cfg.Clock.Now() },
		func(b *Body) { b.st.Level, b.st.LevelAt = 81, b.cfg.Clock.Now() }, func(b *Body) bool { return b.charge() < 10 }},
	{"locked", "its screen is locked", func(b *Body) { b.lock(); b.locked = true }, func(b *Body) { b.locked, b.screen.pad = false, nil },
		func(b *Body) bool { return b.locked }},
	{"asleep", "it sleeps", func(b *Body) { b.sleep(); b.power = false }, func(b *Body) { b.rouse() }, func(b *Body) bool { return b.asleep }},
	{"rests", "it rests, since nobody has touched it for long", func(b *Body) { b.rest() }, func(b *Body) { b.rouse(); b.locked = false },
		func(b *Body) bool { return b.resting }},
	{"stale-link", "it says locked although it is not, until its cable is pulled or its port reset", func(b *Body) { b.stale, b.locked = true, false },
		func(b *Body) { b.stale = false }, func(b *Body) bool { return b.stale }},
	{"storage-full", "no room for an app", nil, nil, nil},
	{"clock-wrong", "its clock is two hours behind", nil, nil, nil},
	{"way-closed", "its hidden page is hidden again", func(b *Body) { b.close(); b.screen.home() }, nil, func(b *Body) bool { return !b.st.Opened && b.cfg.Spec.Hidden.Row != "" }},
	{"choice-off", "computers may do nothing", func(b *Body) { b.st.Settings = maps.Clone(b.cfg.Spec.Settings) }, nil,
		func(b *Body) bool { return maps.Equal(b.st.Settings, b.cfg.Spec.Settings) }},
	{"key-changed", "it was wiped and has another device key", func(b *Body) { b.wipe() }, nil, func(b *Body) bool { return b.st.Wiped > 0 }},
	{"admission-withdrawn", "no computer is let in any more", func(b *Body) { b.st.Admissions = map[string]admission{} }, nil,
		func(b *Body) bool { return len(b.st.Admissions) == 0 }},
	{"question-refused", "every question is answered with no", nil, nil, nil},
	{"out-of-reach", "its handset does not hear it", nil, nil, nil},
	{"wakes-not", "it sleeps too deeply for its handset to wake it", nil, nil, nil},
	{"on-hotspot", "its network is a handset's hotspot", nil, nil, nil},
	{"release-old", "it has release 8", func(b *Body) { b.st.Release = "8" }, func(b *Body) { b.st.Release = "" }, func(b *Body) bool { return b.st.Release == "8" }},
}

// Faults returns the faults that a body can have, and whether it has them.
func (b *Body) Faults() []Fault {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]Fault, len(faults))
	for i, f := range faults {
		on := b.st.Faults[f.name] || f.drop != nil // how it came is no fault
		if f.is != nil {
			on = on && f.is(b)
		}
		out[i] = Fault{f.name, f.text, on}
	}
	return out
}

// SetFault sets a fault of the body, or removes it.
func (b *Body) SetFault(name string, on bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	i := slices.IndexFunc(faults, func(f bodyFault) bool { return f.name == name })
	if i < 0 {
		var names []string
		for _, f := range faults {
			names = append(names, f.name)
		}
		return fmt.Errorf("no body has a fault %q; there are %s", name, strings.Join(names, ", "))
	}
	f := faults[i]
	switch {
	case on && f.put != nil:
		f.put(b)
	case !on && f.drop != nil:
		f.drop(b)
	case !on && f.put != nil:
		return fmt.Errorf("%s is mended on the device itself, by touch", name)
	}
	b.st.Faults[name] = on
	if !on {
		delete(b.st.Faults, name)
	}
	b.touchState()
	return nil
}

// clockOff is the error of the body's clock.
func (b *Body) clockOff() time.Duration {
	if b.st.Faults["clock-wrong"] {
		return -2 * time.Hour
	}
	return 0
}

// now is the time by the body's own clock.
func (b *Body) now() time.Time { return b.cfg.Clock.Now().Add(b.clockOff()).UTC() }

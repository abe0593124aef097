package driver

import (
	"errors"
	"fmt"
	"strings"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/usb"
)

// Match is an interface of devices, by the devices' ids and the interface's class and name.
type Match struct {
	// USB is vendor:product, a range of products as in f3e0:0100-01ff, or "" for any device.
	USB       string `json:"usb"`
	Class     string `json:"class"`               // class/subclass/protocol
	Interface string `json:"interface,omitempty"` // its name; "" for any
}

// System is a kind of host that a set is for, with its releases.
type System struct {
	Name  string `json:"name"`            // such as linux
	From  string `json:"from,omitempty"`  // the least release; "" for any
	Below string `json:"below,omitempty"` // releases from this one on are not supported; "" for none
}

// span is the products that a match covers.
type span struct{ vendor, from, to uint16 }

// parseSpan reads Match.USB, which must not be "".
func parseSpan(s string) (span, error) {
	first, last, ranged := strings.Cut(s, "-")
	id, err := usb.ParseID(first)
	if err != nil {
		return span{}, err
	}
	out := span{id.Vendor, id.Product, id.Product}
	if ranged {
		end, err := usb.ParseID(fmt.Sprintf("%04x:%s", id.Vendor, last))
		if err != nil || end.Product < id.Product {
			return span{}, fmt.Errorf("%.40q is not a range of USB ids, such as f3e0:0100-01ff", s)
		}
		out.to = end.Product
	}
	return out, nil
}

func (f *Match) check() error {
	if f.USB != "" {
		if _, err := parseSpan(f.USB); err != nil {
			return err
		}
	}
	class, err := parseClass(f.Class)
	switch {
	case err != nil:
		return err
	case len(f.Interface) > 126: // USB 2.0, section 9.6.7, in UTF-16
		return errors.New("the interface's name has more than 126 bytes")
	case f.USB == "" && f.Interface == "" && class.Class != 0xff:
		return fmt.Errorf("class %s of any device is too general: give ids, or the interface", f.Class)
	}
	return nil
}

func parseClass(s string) (c usb.Class, err error) {
	if n, err := fmt.Sscanf(s, "%02x/%02x/%02x", &c.Class, &c.Subclass, &c.Protocol); n != 3 || err != nil || c.String() != s {
		return c, fmt.Errorf("%.40q is not an interface class, such as ff/00/00", s)
	}
	return c, nil
}

// Target is what a driver is wanted for.
type Target struct {
	ID        usb.ID
	Class     usb.Class
	Interface string // its name
	Maker     string // of the device; "" if it is not known
	System    string // of the host; "" if it does not say
	Release   string // of its system; "" if it does not say
}

// LinkOf is the device link of a device on a host.
func LinkOf(id usb.ID, system, release string) Target {
	return Target{ID: id, Class: usb.Class{Class: usb.LinkClass}, Interface: usb.LinkName, System: system, Release: release}
}

// Fit is how well a set fits a target. A greater one is better.
type Fit int

// The fits.
const (
	NoFit       Fit = iota
	Similar         // it names a similar model of the same vendor
	OtherSystem     // it would fit, but not on that host
	Generic         // it is for every device with this interface
	Covered         // a range of it covers the ids
	Exact           // it names the ids
)

var fitNames = map[Fit]string{Similar: "similar", OtherSystem: "system", Generic: "class", Covered: "range", Exact: "exact"}

func (f Fit) String() string { return fitNames[f] }

// Automatic reports whether a set that fits so well is installed without a choice by hand.
func (f Fit) Automatic() bool { return f >= Generic }

// FitOf tells how well the set fits a target, and why, in words.
func (m *Manifest) FitOf(t Target) (best Fit, why string) {
	for i := range m.Fits {
		if fit, reason := m.Fits[i].fit(t); fit > best {
			best, why = fit, reason
		}
	}
	if best == Similar && t.Maker != "" && m.Maker != t.Maker { // makers may share a vendor's ids
		return NoFit, ""
	}
	if best > OtherSystem {
		if other := m.otherSystem(t); other != "" {
			return OtherSystem, other
		}
	}
	return best, why
}

func (f *Match) fit(t Target) (Fit, string) {
	if f.Class != t.Class.String() || f.Interface != "" && f.Interface != t.Interface {
		return NoFit, ""
	}
	if f.USB == "" {
		return Generic, "it is for every device with this interface"
	}
	s, err := parseSpan(f.USB)
	switch {
	case err != nil || s.vendor != t.ID.Vendor:
		return NoFit, ""
	case t.ID.Product < s.from || t.ID.Product > s.to:
		return Similar, fmt.Sprintf("it is for a similar model, with the ids %s", f.USB)
	case s.from == s.to:
		return Exact, fmt.Sprintf("it names the ids %s", f.USB)
	}
	return Covered, fmt.Sprintf("its range %s includes the ids %s", f.USB, t.ID)
}

// otherSystem tells why the set is not for the target's host; "" if it is.
func (m *Manifest) otherSystem(t Target) string {
	if len(m.Systems) == 0 || t.System == "" {
		return ""
	}
	var names []string
	for _, s := range m.Systems {
		if s.Name == t.System && (t.Release == "" || (s.From == "" || fact.Release(t.Release).Compare(fact.Release(s.From)) >= 0) && (s.Below == "" || fact.Release(t.Release).Compare(fact.Release(s.Below)) < 0)) {
			return ""
		}
		names = append(names, s.String())
	}
	return fmt.Sprintf("it is for %s, but the host has %s %s", strings.Join(names, " or "), t.System, t.Release)
}

func (s System) String() string {
	out := s.Name
	if s.From != "" {
		out += " from " + s.From
	}
	if s.Below != "" {
		out += " below " + s.Below
	}
	return out
}

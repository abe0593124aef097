package kit

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/fact"
)

// Copy is a kit at one place of a computer.
type Copy struct {
	Path     string
	Named    bool // by its owner, not only found
	OnPath   bool // its first program is the one that the search path leads to
	Version  fact.Release
	Findings []Finding // one for each entry of the description
}

// Finding is what was found for an entry.
type Finding struct {
	Entry Entry
	Wrong string // such as "is missing"; "" if it is as it must be
}

// Wrong says what is wrong with the copy, without a full stop: the first entry that is not
// as it must be. It is "" if the copy is complete.
func (c *Copy) Wrong() string {
	for _, f := range c.Findings {
		switch {
		case f.Wrong != "" && f.Entry.Path() == "":
			return c.Path + " " + f.Wrong
		case f.Wrong != "":
			return fmt.Sprintf("%s in %s %s", f.Entry.Path(), c.Path, f.Wrong)
		}
	}
	return ""
}

// Need is the kit that an app's build needs.
type Need struct {
	Name  string       `yaml:"name"`
	From  fact.Release `yaml:"from"`  // the least version; "" for any
	Below fact.Release `yaml:"below"` // first version that is not accepted; "" for any
	At    string       `yaml:"at"`    // the peer from which it is fetched if it is missing; "" for none
}

// Serves reports whether a version is in the range. An unknown one serves only a need
// without a range.
func (n Need) Serves(v fact.Release) bool {
	if v == "" {
		return n.From == "" && n.Below == ""
	}
	return (n.From == "" || v.Compare(n.From) >= 0) && (n.Below == "" || v.Compare(n.Below) < 0)
}

// Check tells what is wrong with a need. The zero value is none.
func (n Need) Check() error {
	if n == (Need{}) {
		return nil
	}
	if err := CheckName(n.Name); err != nil {
		return err
	}
	if len(n.At) > 60 || strings.ContainsFunc(n.At, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return fmt.Errorf("%.80q is not the name of a peer", n.At)
	}
	if n.From != "" && n.Below != "" && n.From.Compare(n.Below) >= 0 {
		return fmt.Errorf("no version is both %s or later and below %s", n.From, n.Below)
	}
	return nil
}

func (n Need) String() string {
	switch {
	case n.From != "" && n.Below != "":
		return fmt.Sprintf("%s from %s, below %s", n.Name, n.From, n.Below)
	case n.From != "":
		return fmt.Sprintf("%s from %s", n.Name, n.From)
	case n.Below != "":
		return fmt.Sprintf("%s below %s", n.Name, n.Below)
	}
	return n.Name
}

// State is how a need is met.
type State string

// The states. They are the values of the fact kit.state.
const (
	Here      State = "here"
	Missing   State = "missing"
	Broken    State = "broken"  // there is a copy, and something of it is wrong
	Unfitting State = "version" // there are complete copies, and none has a version in the range
	Unknown   State = "unknown" // nothing describes such a kit
)

// Choice is the copy that is used for a need, or why there is none.
type Choice struct {
	State State
	Copy  *Copy // used, or the one that is wrong; nil for none
	Offer *Copy // complete and fitting, and not used because the owner has named another; nil for none
}

// Choose picks the copy for a need. Copies that the owner has named come first; one that
// was only found is not used in the place of a named one that is broken, but offered.
func Choose(n Need, copies []Copy) Choice {
	fits := func(c *Copy) bool { return c.Wrong() == "" && n.Serves(c.Version) }
	var named, found []*Copy
	for i := range copies {
		if c := &copies[i]; c.Named {
			named = append(named, c)
		} else {
			found = append(found, c)
		}
	}
	offer := best(found, fits)
	if len(named) == 0 {
		if offer != nil {
			return Choice{State: Here, Copy: offer}
		}
		return without(found, nil)
	}
	if c := best(named, fits); c != nil {
		return Choice{State: Here, Copy: c}
	}
	return without(named, offer)
}

// without is the choice when none of the copies can be used.
func without(copies []*Copy, offer *Copy) Choice {
	out := Choice{State: Missing, Offer: offer}
	if c := best(copies, func(c *Copy) bool { return c.Wrong() == "" }); c != nil {
		out.State, out.Copy = Unfitting, c
	} else if c := best(copies, func(*Copy) bool { return true }); c != nil {
		out.State, out.Copy = Broken, c
	}
	return out
}

// best is the copy with the highest version of those that may be used. What the owner
// has on the search path goes before what only lies somewhere.
func best(copies []*Copy, may func(*Copy) bool) *Copy {
	var out *Copy
	for _, c := range copies {
		switch {
		case !may(c):
		case out == nil, c.OnPath && !out.OnPath, c.OnPath == out.OnPath && c.Version.Compare(out.Version) > 0:
			out = c
		}
	}
	return out
}

// Environment is what a process has to know in order to use a copy.
type Environment struct {
	Search    []string   // directories that go to the front of the search path, the first first
	Variables []Variable // by name
}

// Variable is an environment variable.
type Variable struct{ Name, Value string }

// Environment returns the environment of the copy at a path.
func (d *Description) Environment(root string) Environment {
	var e Environment
	for _, s := range d.Search {
		e.Search = append(e.Search, filepath.Join(root, filepath.FromSlash(s)))
	}
	for name, at := range d.Variables {
		e.Variables = append(e.Variables, Variable{name, filepath.Join(root, filepath.FromSlash(at))})
	}
	slices.SortFunc(e.Variables, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return e
}

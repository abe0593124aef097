// Package fact holds what is known about a device, host or app: typed values with their
// source and time, the registry that says how long each is good, and the View that picks
// for every key the strongest value that is still good.
//
// Nothing is derived or stored here: a View gives the same answers whatever the order in
// which its facts were added.
package fact

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Key names a fact, in dotted lower case: usb.present.
type Key string

// Source says who observed a fact.
type Source string

// The sources.
const (
	Bus       Source = "bus"
	Host      Source = "host"
	Device    Source = "device"
	Adapter   Source = "adapter"
	Authority Source = "authority"
	Peer      Source = "peer"
	Person    Source = "person"
)

// End says what ends a fact besides its age.
type End string

// The ends. A fact observed over a cable ends when the cable is pulled, a fact observed
// over a link when the link ends.
const (
	EndsNever  End = ""
	EndsUnplug End = "unplug"
	EndsLink   End = "unlink"
)

// Spec declares a key.
type Spec struct {
	Key     Key
	Type    Type
	Sources []Source      // in order of strength for this key
	Good    time.Duration // how long a value is good; zero: until it is ended
	Ends    End
	Text    string // what it tells, for people
	Private bool   // tells who or where somebody is: left out of reports
}

// Label is what it tells, without the values that it may have: "kit that builds the
// app" of "kit that builds the app: here, missing, path".
func (s Spec) Label() string {
	label, _, _ := strings.Cut(s.Text, ": ")
	return label
}

// Values are those that a text may have; none where it may have any.
func (s Spec) Values() []string {
	_, values, ok := strings.Cut(s.Text, ": ")
	if !ok || s.Type != Text {
		return []string{}
	}
	return strings.Split(values, ", ")
}

// A Fact is one observation. Scope, where not empty, names the plugging-in or
// link over which it was seen: the fact is good only while that lasts.
type Fact struct {
	Key    Key       `json:"key"`
	Value  Value     `json:"value"`
	Source Source    `json:"source"`
	At     time.Time `json:"at"`
	By     string    `json:"by,omitempty"` // who told it, where a person did
	Scope  string    `json:"scope,omitempty"`
	// Seq is the place of the fact in the order in which facts were kept; 0 for one
	// that was not kept. Of two facts of one source the one with the higher number is
	// the later one, whatever the clock said.
	Seq uint64 `json:"-"`
}

// Registry is the set of keys known. The zero value knows none.
type Registry struct {
	specs map[Key]Spec
	index map[Key]int // a number for each key, from 0
	list  []Spec      // by number
}

// NewRegistry makes a registry of specs; later ones of the same key are an
// error, and so is a key with no type or sources.
func NewRegistry(specs ...Spec) (*Registry, error) {
	r := &Registry{specs: make(map[Key]Spec, len(specs)), index: make(map[Key]int, len(specs))}
	for _, s := range specs {
		switch {
		case s.Type == "" || len(s.Sources) == 0:
			return nil, fmt.Errorf("fact %s: declare its type and sources", s.Key)
		case r.specs[s.Key].Key != "":
			return nil, fmt.Errorf("fact %s is declared twice", s.Key)
		}
		r.specs[s.Key] = s
		r.index[s.Key] = len(r.index)
		r.list = append(r.list, s)
	}
	return r, nil
}

// Lookup finds a key's declaration.
func (r *Registry) Lookup(k Key) (Spec, bool) {
	s, ok := r.specs[k]
	return s, ok
}

// Index gives a key's number among all of the registry's, for those who keep
// something a key; -1 where there is no such key.
func (r *Registry) Index(k Key) int {
	if i, ok := r.index[k]; ok {
		return i
	}
	return -1
}

// All returns the declarations, by key.
func (r *Registry) All() []Spec {
	out := make([]Spec, 0, len(r.specs))
	for _, s := range r.specs {
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b Spec) int {
		if a.Key < b.Key {
			return -1
		}
		return 1
	})
	return out
}

// Check returns an error if a fact does not fit its declaration.
func (r *Registry) Check(f Fact) error {
	s, ok := r.specs[f.Key]
	switch {
	case !ok:
		return fmt.Errorf("there is no fact %q", f.Key)
	case f.Value.Type() != s.Type:
		return fmt.Errorf("fact %s is a %s, not a %s", f.Key, s.Type, f.Value.Type())
	case !slices.Contains(s.Sources, f.Source):
		return fmt.Errorf("fact %s cannot come from source %s", f.Key, f.Source)
	}
	return nil
}

// Named reports whether a text names a source.
func (s Source) Named() bool {
	return slices.Contains([]Source{Bus, Host, Device, Adapter, Authority, Peer, Person}, s)
}

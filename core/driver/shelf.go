package driver

import (
	"cmp"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/fact"
)

// Held is a driver set whose file is stored.
type Held struct {
	Digest    string // SHA-256 of the file
	Manifest  Manifest
	Publisher string // SHA-256 of the key that signed it; "" if it is not signed
	Signer    string // how the publisher calls itself
}

// Shelf holds the driver sets that are stored. The zero value is empty; its methods may be
// called from any goroutine.
type Shelf struct {
	mu   sync.Mutex
	held []Held
}

// Set replaces the sets on the shelf.
func (s *Shelf) Set(held []Held) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.held = held
}

// All returns the sets on the shelf.
func (s *Shelf) All() []Held {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.held)
}

// Candidate is a set that may be used for a target, with the reason why.
type Candidate struct {
	Held
	Size     int64
	Here     bool   // its file is stored
	Depot    string // that offers it; "" for none
	Service  bool   // the host's own update service has it
	Verified bool   // a publisher whom the owner has accepted signed it
	// Installed is whether the host has it, and Bound whether the interface has.
	Installed, Bound bool
	// Difference is what installing it changes in the rules file of this computer, in the
	// unified format; "" for nothing.
	Difference string
	Fit        Fit
	Why        string // in words
}

// Rank orders candidates, the best first: by fit, then those that are verified, then the newest
// version, then those that are here. Sets that do not fit at all are left out, and of those
// with the same digest only the first stays.
func Rank(all []Candidate, t Target) []Candidate {
	var out []Candidate
	for _, c := range all {
		if c.Fit, c.Why = c.Manifest.FitOf(t); c.Fit != NoFit {
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.Fit, a.Fit), compareBool(b.Verified, a.Verified), CompareVersions(b.Manifest.Version, a.Manifest.Version), compareBool(b.Here, a.Here), cmp.Compare(a.Manifest.Name, b.Manifest.Name))
	})
	seen := map[string]bool{}
	return slices.DeleteFunc(out, func(c Candidate) bool {
		was := seen[c.Digest]
		seen[c.Digest] = true
		return was
	})
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// CompareVersions compares versions by their parts, so that 4.10 is newer than 4.9.
func CompareVersions(a, b string) int {
	return cmp.Or(fact.Release(a).Compare(fact.Release(b)), cmp.Compare(a, b))
}

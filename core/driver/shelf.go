package driver

import (
	"cmp"
	"sync"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/usb"
)

// Held is a driver set whose file is stored.
type Held struct {
	Digest   string // SHA-256 of the file
	Manifest Manifest
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

// Fitting finds the newest set for the device link of a device, by its USB id; nil
// if none fits.
func (s *Shelf) Fitting(usbID string) *Held {
	id, err := usb.ParseID(usbID)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	class := usb.Class{Class: usb.LinkClass}
	var best *Held
	for i := range s.held {
		m := &s.held[i].Manifest
		if m.FitsInterface(id, class, usb.LinkName) && (best == nil || newer(m.Version, best.Manifest.Version)) {
			best = &s.held[i]
		}
	}
	return best
}

// newer compares versions by their parts, so that 4.10 is newer than 4.9.
func newer(a, b string) bool {
	return cmp.Or(fact.Release(a).Compare(fact.Release(b)), cmp.Compare(a, b)) > 0
}

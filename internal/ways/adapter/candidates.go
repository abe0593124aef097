package adapter

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/plain"
)

// candidate is something that may be a device of an adapter.
type candidate struct {
	adapter.Candidate
	info os.FileInfo // of its device file, as it was found; nil if it has none
}

// is reports whether it is the same thing as another of its name, and not a replacement. The text of an
// announced service may change.
func (c candidate) is(other candidate) bool {
	if (c.info == nil) != (other.info == nil) || c.info != nil && !os.SameFile(c.info, other.info) {
		return false
	}
	return c.Kind == other.Kind && c.Address == other.Address && c.Port == other.Port && c.USB == other.USB && c.Serial == other.Serial
}

// withFile adds the device file of a candidate; false if it does not exist.
func withFile(c adapter.Candidate) (candidate, bool) {
	info, err := os.Stat(c.Path)
	if err != nil || info.IsDir() {
		return candidate{}, false
	}
	return candidate{c, info}, true
}

// files are the existing device files that the adapter may use.
func (r *runner) files() (out []candidate) {
	for _, pattern := range r.manifest.Rights.Files {
		found, err := filepath.Glob(pattern)
		if err != nil {
			continue // its form was checked when it was read
		}
		for _, path := range found {
			if c, ok := withFile(adapter.Candidate{Device: path, Kind: adapter.KindFile, Path: path}); ok {
				out = append(out, c)
			}
		}
	}
	return out
}

// usb are the devices on the computer's USB that the adapter may be for.
func (r *runner) usb() (out []candidate) {
	if len(r.manifest.Rights.USB) == 0 {
		return nil
	}
	for _, d := range r.adapters.cfg.USB() {
		if !slices.Contains(r.manifest.Rights.USB, d.ID) {
			continue
		}
		if c, ok := withFile(adapter.Candidate{Device: "usb " + d.BusID, Kind: adapter.KindUSB, Path: d.Node, USB: d.ID,
			Serial: plain.Cut(plain.Line(d.Serial), 200), Name: plain.Cut(plain.Line(d.Name), 200)}); ok {
			out = append(out, c)
		}
	}
	return out
}

// announced is what is announced on the network and an adapter may be for.
type announced struct {
	browsers []*dnssd.Browser

	mu    sync.Mutex
	heard map[string]candidate // by type and instance
}

// listen begins to listen for the services that the adapter names.
func (r *runner) listen() (*announced, error) {
	a := &announced{heard: map[string]candidate{}}
	if r.adapters.cfg.Browse == nil {
		return a, nil
	}
	for _, service := range r.manifest.Rights.Announced {
		b, err := r.adapters.cfg.Browse(dnssd.BrowserConfig{Type: service, Changed: a.appeared, Gone: func(instance string) { a.gone(service, instance) }})
		if err != nil {
			return a, fmt.Errorf("listen for %s: %w", service, err)
		}
		if b != nil {
			a.browsers = append(a.browsers, b)
		}
	}
	return a, nil
}

func (a *announced) appeared(f dnssd.Found) (wanted bool) {
	c := adapter.Candidate{Kind: adapter.KindNetwork, Service: f.Type, Instance: plain.Cut(plain.Line(f.Instance), 63), Address: f.Addresses[0].String(), Port: int(f.Port), Text: map[string]string{}}
	c.Device = c.Instance + "." + c.Service
	for k, v := range f.Text {
		c.Text[plain.Cut(plain.Line(k), 100)] = plain.Cut(plain.Line(v), 255)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	key := f.Type + " " + f.Instance
	if _, known := a.heard[key]; !known && len(a.heard) >= mostParts {
		return false
	}
	a.heard[key] = candidate{Candidate: c}
	return true
}

func (a *announced) gone(service, instance string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.heard, service+" "+instance)
}

// list returns what is announced, by name.
func (a *announced) list() (out []candidate) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, c := range a.heard {
		out = append(out, c)
	}
	slices.SortFunc(out, func(x, y candidate) int {
		return cmp.Or(strings.Compare(x.Device, y.Device), strings.Compare(x.Service, y.Service))
	})
	return out
}

// close ends the listening.
func (a *announced) close() {
	for _, b := range a.browsers {
		b.Close()
	}
}

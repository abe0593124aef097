package host

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
)

func (h *Host) target(d usb.Descriptor, i usb.Interface) driver.Target {
	return driver.Target{ID: d.ID, Class: i.Class, Interface: i.Name, System: h.cfg.System, Release: h.cfg.Release}
}

// Bound names the driver that is bound to an interface: one that somebody chose, or the one
// that fits. A host that says what system it has binds by itself only what is signed.
func (h *Host) Bound(d usb.Descriptor, i usb.Interface) string {
	if slices.Contains(h.cfg.Common, i.Class.String()) {
		return "system"
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if name := h.bound[d.Serial+"/"+i.Name]; name != "" {
		return name
	}
	for _, inst := range h.installed {
		if fit, _ := inst.Set.FitOf(h.target(d, i)); fit.Automatic() && (inst.Signed || h.cfg.System == "") {
			return inst.Set.Name
		}
	}
	return ""
}

// Driver names the driver that works for an interface. One that is bound, but made for other
// devices, does not.
func (h *Host) Driver(d usb.Descriptor, i usb.Interface) string {
	name := h.Bound(d, i)
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, inst := range h.installed {
		if fit, _ := inst.Set.FitOf(h.target(d, i)); inst.Set.Name == name && !fit.Automatic() && !slices.Contains(h.cfg.Right, name) {
			return ""
		}
	}
	return name
}

// served is what the update service has for an interface; nil for nothing.
func (h *Host) served(d usb.Descriptor, i usb.Interface) *hostlink.Driver {
	for digest, raw := range h.service {
		s, err := driver.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			continue
		}
		if fit, _ := s.About.FitOf(h.target(d, i)); fit.Automatic() {
			return &hostlink.Driver{Digest: digest, Set: *s.About, Signed: s.Publisher != nil, Size: int64(len(raw))}
		}
	}
	return nil
}

// get installs a set from the update service.
func (h *Host) get(r hostlink.Ref) (hostlink.Driver, error) {
	raw := h.service[r.Digest]
	if raw == nil {
		return hostlink.Driver{}, errors.New("the update service has no such set")
	}
	h.mu.Lock()
	d, err := h.keep(raw)
	h.mu.Unlock()
	if err == nil {
		h.hub.Rebound()
	}
	return d, err
}

func (h *Host) offer(o hostlink.Offer) (hostlink.Have, error) {
	if o.Size <= 0 || o.Size > maxSet {
		return hostlink.Have{}, fmt.Errorf("a driver set of %d bytes: the bound is %d", o.Size, maxSet)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	c := h.coming[o.Digest]
	if c == nil {
		c = &coming{size: o.Size}
		h.coming[o.Digest] = c
	}
	return hostlink.Have{Bytes: int64(len(c.data))}, nil
}

func (h *Host) piece(p hostlink.Piece) (hostlink.Have, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	c := h.coming[p.Digest]
	switch {
	case c == nil:
		return hostlink.Have{}, errors.New("that file was not offered")
	case p.At != int64(len(c.data)) || int64(len(c.data)+len(p.Data)) > c.size:
		return hostlink.Have{}, fmt.Errorf("the piece begins at %d, %d bytes of %d are here", p.At, len(c.data), c.size)
	}
	c.data = append(c.data, p.Data...)
	return hostlink.Have{Bytes: int64(len(c.data))}, nil
}

func (h *Host) install(r hostlink.Ref) (hostlink.Driver, error) {
	h.mu.Lock()
	c := h.coming[r.Digest]
	if c == nil || int64(len(c.data)) != c.size {
		h.mu.Unlock()
		return hostlink.Driver{}, errors.New("the file is incomplete")
	}
	delete(h.coming, r.Digest)
	if bundle.Digest(c.data) != r.Digest {
		h.mu.Unlock()
		return hostlink.Driver{}, errors.New("the file is not the one that was offered: its digest differs")
	}
	d, err := h.keep(c.data)
	h.mu.Unlock()
	if err == nil {
		h.hub.Rebound()
	}
	return d, err
}

// keep installs a set and saves it. The lock is held.
func (h *Host) keep(raw []byte) (hostlink.Driver, error) {
	d, err := h.add(raw)
	if err != nil {
		return d, err
	}
	return d, os.WriteFile(filepath.Join(h.cfg.Dir, d.Set.Name+".ebset"), raw, 0o600)
}

func (h *Host) add(raw []byte) (hostlink.Driver, error) {
	s, err := driver.Open(strings.NewReader(string(raw)), int64(len(raw)))
	if err != nil {
		return hostlink.Driver{}, fmt.Errorf("the driver set was refused: %w", err)
	}
	d := hostlink.Driver{Digest: bundle.Digest(raw), Set: *s.About, Signed: s.Publisher != nil, Size: int64(len(raw))}
	h.installed = slices.DeleteFunc(h.installed, func(o hostlink.Driver) bool { return o.Set.Name == d.Set.Name })
	h.installed = append(h.installed, d)
	return d, nil
}

func (h *Host) remove(n hostlink.Name) (any, error) {
	h.mu.Lock()
	i := slices.IndexFunc(h.installed, func(o hostlink.Driver) bool { return o.Set.Name == n.Name })
	if i < 0 {
		h.mu.Unlock()
		return nil, fmt.Errorf("driver set %q is not installed", n.Name)
	}
	h.installed = slices.Delete(h.installed, i, i+1)
	maps.DeleteFunc(h.bound, func(_, name string) bool { return name == n.Name })
	err := errors.Join(os.Remove(filepath.Join(h.cfg.Dir, n.Name+".ebset")), h.keepBound())
	h.mu.Unlock()
	h.hub.Rebound()
	return nil, err
}

// bind binds an installed driver to an interface: the one that fits does so by itself where it
// is signed.
func (h *Host) bind(b hostlink.Bind) (hostlink.Interface, error) {
	for _, d := range h.bus().Devices {
		for n, i := range d.Interfaces {
			if d.BusID != b.BusID || i.Number != b.Interface {
				continue
			}
			if b.Driver != "" && b.Driver != i.Driver {
				if err := h.choose(d.Serial+"/"+i.Name, b.Driver); err != nil {
					return i, err
				}
				h.hub.Rebound()
				i.Driver = b.Driver
			}
			if i.Driver == "" {
				return d.Interfaces[n], errors.New("no installed driver set fits that interface")
			}
			return i, nil
		}
	}
	return hostlink.Interface{}, fmt.Errorf("there is no interface %d on %s", b.Interface, b.BusID)
}

func (h *Host) choose(where, name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !slices.ContainsFunc(h.installed, func(d hostlink.Driver) bool { return d.Set.Name == name }) {
		return fmt.Errorf("driver set %q is not installed", name)
	}
	h.bound[where] = name
	return h.keepBound()
}

// Package driver reads driver sets (.ebset): what a host needs for an interface of a device. A
// set is a bundle whose manifest, set.json, says which devices it fits.
// docs/formats/driver-set.md describes the format.
package driver

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/usb"
)

// ManifestName is the entry that lists the others.
const ManifestName = "set.json"

// Manifest is set.json.
type Manifest struct {
	Format  int           `json:"format"` // 1
	Kind    string        `json:"kind"`   // driver
	Name    string        `json:"name"`
	Version string        `json:"version"`
	Maker   string        `json:"maker"`
	About   string        `json:"about"`
	Fits    []Match       `json:"fits"`
	Files   []bundle.File `json:"files"`
}

// Match is an interface of a device, by the device's ids and the interface's
// class and name.
type Match struct {
	USB       string `json:"usb"` // vendor:product
	Class     string `json:"class"`
	Interface string `json:"interface"` // its name
}

var nameShape = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// Check returns an error for a manifest that is invalid by itself.
func (m *Manifest) Check() error {
	switch {
	case m.Format != 1:
		return fmt.Errorf("format %d is not supported, only format 1 is", m.Format)
	case m.Kind != "driver":
		return fmt.Errorf("kind %q is not supported, only driver is", m.Kind)
	case !nameShape.MatchString(m.Name):
		return fmt.Errorf("name %q: lower-case letters, digits, hyphens", m.Name)
	case m.Version == "" || len(m.Version) > 64:
		return errors.New("the version is empty, or over 64 bytes")
	case len(m.Fits) == 0:
		return errors.New("it fits no device")
	}
	for _, f := range m.Fits {
		if _, err := usb.ParseID(f.USB); err != nil {
			return fmt.Errorf("fits: %w", err)
		}
	}
	return nil
}

// FitsInterface reports whether the set is for an interface of a device.
func (m *Manifest) FitsInterface(id usb.ID, class usb.Class, name string) bool {
	for _, f := range m.Fits {
		if f.USB == id.String() && f.Class == class.String() && f.Interface == name {
			return true
		}
	}
	return false
}

// Set is a driver set that was opened and checked.
type Set struct {
	*bundle.Bundle
	About *Manifest
}

// Open reads and checks the set in r.
func Open(r io.ReaderAt, size int64) (*Set, error) {
	var s Set
	b, err := bundle.Open(r, size, ManifestName, nil, func(raw []byte) ([]bundle.File, error) {
		d := json.NewDecoder(bytes.NewReader(raw))
		d.DisallowUnknownFields()
		s.About = new(Manifest)
		if err := d.Decode(s.About); err != nil {
			return nil, err
		}
		return s.About.Files, s.About.Check()
	})
	s.Bundle = b
	if err != nil {
		return nil, err
	}
	return &s, nil
}

// Pack writes the set of m to w with the named files of root.
func Pack(w io.Writer, m Manifest, root fs.FS, names []string) error {
	m.Format, m.Kind = 1, "driver"
	var err error
	if m.Files, err = bundle.List(root, names); err != nil {
		return fmt.Errorf("collect the files: %w", err)
	}
	if err := m.Check(); err != nil {
		return err
	}
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return bundle.Write(w, []bundle.Entry{{Name: ManifestName, Data: raw}}, root, m.Files)
}

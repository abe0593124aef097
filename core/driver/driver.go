// Package driver reads driver sets (.ebset): what a host needs for an interface of a device. A
// set is a bundle whose manifest, set.json, says which devices it fits.
// docs/formats/driver-set.md describes the format.
package driver

import (
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/strict"
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
	Systems []System      `json:"systems,omitempty"` // kinds of hosts; none stands for all
	Files   []bundle.File `json:"files"`
}

var (
	nameShape   = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	digestShape = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

// MaxUnpacked bounds what the files of a set are unpacked, all together, in bytes.
const MaxUnpacked = 256 << 20

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
		return errors.New("it does not fit any device")
	}
	var unpacked int64
	for _, f := range m.Files {
		if unpacked += max(f.Size, 0); unpacked > MaxUnpacked {
			return fmt.Errorf("it unpacks to more than %d bytes", int64(MaxUnpacked))
		}
	}
	for _, f := range m.Fits {
		if err := f.check(); err != nil {
			return fmt.Errorf("fits: %w", err)
		}
	}
	for _, y := range m.Systems {
		if !nameShape.MatchString(y.Name) || len(y.From) > 40 || len(y.Below) > 40 {
			return fmt.Errorf("systems: %.80q: use lower-case letters, digits and hyphens for the name", y.Name)
		}
	}
	return nil
}

// Set is a driver set that was opened and checked.
type Set struct {
	*bundle.Bundle
	About     *Manifest
	Publisher *x509.Certificate // who signed it; nil if nobody did
}

// SignatureName is the entry with a detached CMS signature over the manifest.
const SignatureName = "signature.p7s"

// Open reads and checks the set in r.
func Open(r io.ReaderAt, size int64) (*Set, error) {
	var s Set
	b, err := bundle.Open(r, size, ManifestName, []string{SignatureName}, func(raw []byte) ([]bundle.File, error) {
		s.About = new(Manifest)
		if err := strict.JSON(raw, s.About); err != nil {
			return nil, err
		}
		return s.About.Files, s.About.Check()
	})
	s.Bundle = b
	if err != nil {
		return nil, err
	}
	signature, err := b.Extra(SignatureName, cms.MaxBytes)
	if err == nil && signature != nil {
		s.Publisher, err = cms.Verify(b.Manifest, signature)
	}
	return &s, err
}

// Held is the set as it is stored under the digest of its file.
func (s *Set) Held(digest string) Held {
	h := Held{Digest: digest, Manifest: *s.About}
	if s.Publisher != nil {
		h.Publisher, h.Signer = cms.KeyOf(s.Publisher), s.Publisher.Subject.CommonName
	}
	return h
}

// Pack writes the set of m to w with the named files of root. sign signs its manifest; nil
// leaves it unsigned.
func Pack(w io.Writer, m Manifest, root fs.FS, names []string, sign func(manifest []byte) ([]byte, error)) error {
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
	entries := []bundle.Entry{{Name: ManifestName, Data: raw}}
	if sign != nil {
		signature, err := sign(raw)
		if err != nil {
			return err
		}
		entries = append(entries, bundle.Entry{Name: SignatureName, Data: signature})
	}
	return bundle.Write(w, entries, root, m.Files)
}

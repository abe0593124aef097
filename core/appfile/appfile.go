// Package appfile reads and writes app files (.ebapp): an app packaged for
// devices. The format is written down in docs/formats/app-file.md. An app
// file's id is the SHA-256 of its manifest, app.json.
package appfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"slices"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/fact"
)

// ManifestName is the entry that lists the others.
const ManifestName = "app.json"

// signatureName is let through unread: signed app files are read by benches
// that do not check signatures yet.
const signatureName = "signature.p7s"

// Manifest is app.json.
type Manifest struct {
	Format   int           `json:"format"` // 1
	ID       string        `json:"id"`     // crew/app
	Name     string        `json:"name"`
	Version  string        `json:"version"`
	Families []string      `json:"families"`
	Minimum  fact.Release  `json:"minimum,omitempty"` // least release
	Entry    string        `json:"entry"`             // the file that is started
	Files    []bundle.File `json:"files"`
}

var (
	idShape      = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}/[a-z][a-z0-9-]{0,30}$`)
	versionShape = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.+-]{0,63}$`)
)

// CheckID tells whether s is an app id: crew/app, in lower case.
func CheckID(s string) error {
	if !idShape.MatchString(s) {
		return fmt.Errorf("app id %q: write crew/app in lower-case letters, digits and hyphens, such as fellgate/callout", s)
	}
	return nil
}

// Check tells whether the manifest makes sense by itself.
func (m *Manifest) Check() error {
	if m.Format != 1 {
		return fmt.Errorf("format %d is not supported, only format 1 is", m.Format)
	}
	if err := CheckID(m.ID); err != nil {
		return err
	}
	if !versionShape.MatchString(m.Version) {
		return fmt.Errorf("version %q: letters, digits, dots, hyphens, at most 64", m.Version)
	}
	if m.Name == "" || len(m.Name) > 80 {
		return errors.New("the name is empty, or over 80 bytes")
	}
	if len(m.Families) == 0 {
		return errors.New("it names no family that it is for")
	}
	if m.Minimum != "" {
		if _, err := fact.ParseRelease(string(m.Minimum)); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(m.Files, func(f bundle.File) bool { return f.Path == m.Entry }) {
		return fmt.Errorf("its entry %q is not among its files", m.Entry)
	}
	return nil
}

// Size is what the app takes unpacked, in bytes.
func (m *Manifest) Size() int64 {
	var n int64
	for _, f := range m.Files {
		n += f.Size
	}
	return n
}

// ParseManifest reads app.json strictly.
func ParseManifest(b []byte) (*Manifest, error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	var m Manifest
	if err := d.Decode(&m); err != nil {
		return nil, err
	}
	if d.More() {
		return nil, errors.New("something follows the manifest's object")
	}
	return &m, m.Check()
}

// File is an app file that was opened and checked.
type File struct {
	*bundle.Bundle
	App *Manifest
}

// Open reads and checks the app file in r.
func Open(r io.ReaderAt, size int64) (*File, error) {
	var f File
	b, err := bundle.Open(r, size, ManifestName, []string{signatureName}, func(raw []byte) ([]bundle.File, error) {
		m, err := ParseManifest(raw)
		if err != nil {
			return nil, err
		}
		f.App = m
		return m.Files, nil
	})
	f.Bundle = b
	if err != nil {
		return nil, err
	}
	return &f, nil
}

// Reopen opens an app file that was opened and checked before, and kept by its
// digest since.
func Reopen(r io.ReaderAt, size int64) (*File, error) {
	b, err := bundle.Reopen(r, size, ManifestName)
	if err != nil {
		return nil, err
	}
	m, err := ParseManifest(b.Manifest)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", bundle.ErrManifest, err)
	}
	return &File{Bundle: b, App: m}, nil
}

// Pack writes the app file of m to w, with the named files of root, and returns
// its id.
func Pack(w io.Writer, m Manifest, root fs.FS, names []string) (string, error) {
	m.Format = 1
	var err error
	if m.Files, err = bundle.List(root, names); err != nil {
		return "", fmt.Errorf("collect the files: %w", err)
	}
	if err := m.Check(); err != nil {
		return "", err
	}
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return "", err
	}
	return bundle.Digest(raw), bundle.Write(w, ManifestName, raw, root, m.Files)
}

// Package appfile reads and writes app files (.ebapp): apps packaged for devices. The format
// is described in docs/formats/app-file.md. The id of an app file is the SHA-256 of its
// manifest, app.json.
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
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/fact"
)

// ManifestName is the entry that lists the others.
const ManifestName = "app.json"

// Entries beside the manifest and the files.
const (
	// identityName is accepted without a check: no bench checks signing identities yet.
	identityName = "signature.p7s"
	// developerName holds the developer's signature over the manifest.
	developerName = "signature.jws"
)

// Manifest is app.json.
type Manifest struct {
	Format   int          `json:"format"` // 1
	ID       string       `json:"id"`     // crew/app
	Name     string       `json:"name"`
	Version  string       `json:"version"`
	Families []string     `json:"families"`
	Minimum  fact.Release `json:"minimum,omitempty"` // least release
	Entry    string       `json:"entry"`             // the file that is started
	// Developer is the key of the developer; nil for an app file that nobody signed.
	Developer *developer.Public `json:"developer,omitempty"`
	Files     []bundle.File     `json:"files"`
}

var (
	idShape      = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}/[a-z][a-z0-9-]{0,30}$`)
	versionShape = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.+-]{0,63}$`)
)

// CheckID reports whether s is an app id: crew/app, in lower case.
func CheckID(s string) error {
	if !idShape.MatchString(s) {
		return fmt.Errorf("app id %q: write crew/app in lower-case letters, digits and hyphens, such as fellgate/callout", s)
	}
	return nil
}

// Check returns an error for a manifest that is invalid by itself.
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
	if m.Developer != nil {
		if err := m.Developer.Check(); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(m.Files, func(f bundle.File) bool { return f.Path == m.Entry }) {
		return fmt.Errorf("its entry %q is not among its files", m.Entry)
	}
	return nil
}

// CheckSignature returns an error unless the manifest is signed by the developer that it
// names. A manifest that names nobody must not have a signature.
func (m *Manifest) CheckSignature(raw []byte, signature string) error {
	switch {
	case m.Developer == nil && signature == "":
		return nil
	case m.Developer == nil:
		return fmt.Errorf("%w: the manifest names no developer", developer.ErrSignature)
	case signature == "":
		return fmt.Errorf("%w: the manifest names a developer, whose signature is missing", developer.ErrSignature)
	}
	return m.Developer.Verify(raw, signature)
}

// By returns the thumbprint of the developer's key; "" if the manifest names nobody.
func (m *Manifest) By() string {
	if m.Developer == nil {
		return ""
	}
	return m.Developer.Thumbprint()
}

// Size returns the size of the unpacked app, in bytes.
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
	App       *Manifest
	Signature string // the developer's, over the manifest; "" for none
}

// Open reads and checks the app file in r.
func Open(r io.ReaderAt, size int64) (*File, error) {
	b, err := bundle.Open(r, size, ManifestName, []string{identityName, developerName}, func(raw []byte) ([]bundle.File, error) {
		m, err := ParseManifest(raw)
		if err != nil {
			return nil, err
		}
		return m.Files, nil
	})
	if err != nil {
		return nil, err
	}
	f, err := fileOf(b)
	if err != nil {
		return nil, err
	}
	return f, f.App.CheckSignature(b.Manifest, f.Signature)
}

// Reopen opens an app file that was checked before and has been stored by its digest since.
func Reopen(r io.ReaderAt, size int64) (*File, error) {
	b, err := bundle.Reopen(r, size, ManifestName)
	if err != nil {
		return nil, err
	}
	return fileOf(b)
}

func fileOf(b *bundle.Bundle) (*File, error) {
	m, err := ParseManifest(b.Manifest)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", bundle.ErrManifest, err)
	}
	signature, err := b.Extra(developerName, developer.MaxSignature)
	return &File{Bundle: b, App: m, Signature: string(signature)}, err
}

// A Signer is a developer's key, wherever it is kept: a [developer.Key] is one.
type Signer interface {
	Public() developer.Public
	// Sign signs a manifest, as [developer.Key.Sign] does.
	Sign(manifest []byte) (string, error)
}

// Pack writes the app file of m to w, with the named files of root, signed by the
// developer's key unless that is nil, and returns its id.
func Pack(w io.Writer, m Manifest, root fs.FS, names []string, key Signer) (string, error) {
	m.Format = 1
	var err error
	if m.Files, err = bundle.List(root, names); err != nil {
		return "", fmt.Errorf("collect the files: %w", err)
	}
	if key != nil {
		public := key.Public()
		m.Developer = &public
	}
	if err := m.Check(); err != nil {
		return "", err
	}
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return "", err
	}
	entries := []bundle.Entry{{Name: ManifestName, Data: raw}}
	if key != nil {
		signature, err := key.Sign(raw)
		if err != nil {
			return "", err
		}
		entries = append(entries, bundle.Entry{Name: developerName, Data: []byte(signature)})
	}
	return bundle.Digest(raw), bundle.Write(w, entries, root, m.Files)
}

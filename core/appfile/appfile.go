// Package appfile reads and writes app files (.ebapp): apps packaged for devices. The format
// is described in docs/formats/app-file.md. The id of an app file is the SHA-256 of its
// manifest, app.json.
package appfile

import (
	"crypto"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/strict"
)

// ManifestName is the entry that lists the others.
const ManifestName = "app.json"

// Entries beside the manifest and the files.
const (
	// identityName holds an identity's signature over the manifest, a detached CMS.
	identityName = "signature.p7s"
	// developerName holds a bare key's signature over the manifest.
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
	// Features are the app features that it uses, sorted; some want a grant that gives them.
	Features []string `json:"features,omitempty"`
	// Start is the command that starts it on a Linux device, in the directory of its files; empty for the entry
	// itself.
	Start []string `json:"start,omitempty"`
	// Debug says that it is built to be debugged.
	Debug bool          `json:"debug,omitempty"`
	Files []bundle.File `json:"files"`
}

var (
	idShape      = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}/[a-z][a-z0-9-]{0,30}$`)
	featureShape = regexp.MustCompile(`^[a-z][a-z0-9 -]{0,59}$`)
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
		return errors.New("it does not name a family")
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
	for i, f := range m.Features {
		if !featureShape.MatchString(f) || i > 0 && m.Features[i-1] >= f {
			return fmt.Errorf("feature %.60q: lower-case letters, digits, spaces and hyphens; in order, each once", f)
		}
	}
	if err := checkStart(m.Start); err != nil {
		return err
	}
	if !slices.ContainsFunc(m.Files, func(f bundle.File) bool { return f.Path == m.Entry }) {
		return fmt.Errorf("its entry %q is not among its files", m.Entry)
	}
	return nil
}

// Bounds on the command that starts an app.
const (
	mostWords = 64
	mostWord  = 4000 // bytes
)

func checkStart(words []string) error {
	if len(words) > mostWords {
		return fmt.Errorf("its start has more than %d words", mostWords)
	}
	for i, w := range words {
		if len(w) > mostWord || strings.ContainsAny(w, "\n\r\x00") || i == 0 && w == "" {
			return fmt.Errorf("word %d of its start is empty, over %d bytes, or has a line break", i+1, mostWord)
		}
	}
	return nil
}

// CheckSignature returns an error unless the manifest is signed by the developer that it
// names: by the bare key, or by an identity of that key. A manifest that names nobody must not
// have a signature.
func (m *Manifest) CheckSignature(raw []byte, s developer.Signature) error {
	switch {
	case m.Developer == nil && s.None():
		return nil
	case m.Developer == nil:
		return fmt.Errorf("%w: the manifest does not name a developer", developer.ErrSignature)
	case s.None():
		return fmt.Errorf("%w: the manifest names a developer, but has no signature", developer.ErrSignature)
	case s.Bare != "" && len(s.CMS) > 0:
		return fmt.Errorf("%w: it has two signatures, of a bare key and of an identity", developer.ErrSignature)
	case s.Bare != "":
		return m.Developer.Verify(raw, s.Bare)
	}
	signer, err := cms.Verify(raw, s.CMS)
	if err != nil {
		return fmt.Errorf("%w: %w", developer.ErrSignature, err)
	}
	if public, err := developer.PublicOf(signer.PublicKey); err != nil || public != *m.Developer {
		return fmt.Errorf("%w: it is from an identity with another key", developer.ErrSignature)
	}
	return nil
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
	var m Manifest
	if err := strict.JSON(b, &m); err != nil {
		return nil, err
	}
	return &m, m.Check()
}

// File is an app file that was opened and checked.
type File struct {
	*bundle.Bundle
	App       *Manifest
	Signature developer.Signature // the developer's, over the manifest
}

// Signed reports whether an identity has signed it.
func (f *File) Signed() bool { return len(f.Signature.CMS) > 0 }

// Certificate is that of the identity which has signed it; nil if none has.
func (f *File) Certificate() *x509.Certificate {
	if !f.Signed() {
		return nil
	}
	c, err := cms.Verify(f.Manifest, f.Signature.CMS)
	if err != nil {
		return nil // Open refuses that
	}
	return c
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
	f := &File{Bundle: b, App: m}
	bare, err := b.Extra(developerName, developer.MaxSignature)
	if err != nil {
		return nil, err
	}
	f.Signature.Bare = string(bare)
	f.Signature.CMS, err = b.Extra(identityName, cms.MaxBytes)
	return f, err
}

// A Signer is a developer's key, wherever it is kept: a [developer.Key] is one.
type Signer interface {
	Public() developer.Public
	SignManifest(manifest []byte) (developer.Signature, error)
}

// Identity is a signing identity: a key with its certificate.
type Identity struct {
	Certificate *x509.Certificate
	Key         crypto.Signer
}

// Public is its key.
func (i Identity) Public() developer.Public {
	public, _ := developer.PublicOf(i.Certificate.PublicKey) // Pack checks it
	return public
}

// SignManifest signs a manifest.
func (i Identity) SignManifest(manifest []byte) (developer.Signature, error) {
	signature, err := cms.Sign(manifest, i.Certificate, i.Key)
	return developer.Signature{CMS: signature}, err
}

// Pack writes the app file of m to w, with the named files of root, signed by the
// developer's key unless that is nil, and returns its id.
func Pack(w io.Writer, m Manifest, root fs.FS, names []string, key Signer) (string, error) {
	var by *developer.Public
	if key != nil {
		public := key.Public()
		by = &public
	}
	raw, err := Describe(m, root, names, by)
	if err != nil {
		return "", err
	}
	var s developer.Signature
	if key != nil {
		if s, err = key.SignManifest(raw); err != nil {
			return "", err
		}
	}
	return bundle.Digest(raw), Assemble(w, raw, s, root)
}

// Describe completes a manifest by the named files of root and the developer's key, nil for none, and returns
// the bytes that are to be signed.
func Describe(m Manifest, root fs.FS, names []string, by *developer.Public) ([]byte, error) {
	m.Format, m.Developer = 1, by
	var err error
	if m.Files, err = bundle.List(root, names); err != nil {
		return nil, fmt.Errorf("collect the files: %w", err)
	}
	if err := m.Check(); err != nil {
		return nil, err
	}
	return json.MarshalIndent(m, "", "  ")
}

// Assemble writes the app file of a manifest to w, with its signature, if there is one, and its files of root.
func Assemble(w io.Writer, manifest []byte, s developer.Signature, root fs.FS) error {
	m, err := ParseManifest(manifest)
	if err != nil {
		return err
	}
	entries := []bundle.Entry{{Name: ManifestName, Data: manifest}}
	switch {
	case len(s.CMS) > 0:
		entries = append(entries, bundle.Entry{Name: identityName, Data: s.CMS})
	case s.Bare != "":
		entries = append(entries, bundle.Entry{Name: developerName, Data: []byte(s.Bare)})
	}
	return bundle.Write(w, entries, root, m.Files)
}

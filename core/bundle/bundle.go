// Package bundle reads and writes the strict ZIP files that app files and driver sets are: a
// manifest that lists every file with its SHA-256 and size, and the files below files/. The
// content of the ZIP must match the manifest exactly. The other members of the manifest are
// defined by the packages that use it; docs/formats/app-file.md describes the layout.
//
// Reading is safe for hostile input: every refusal is one of the errors below, and nothing is
// unpacked before everything was checked.
package bundle

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
)

// Reasons to refuse a bundle.
var (
	ErrNotZIP     = errors.New("it is not a ZIP file")
	ErrNoManifest = errors.New("the manifest is missing")
	ErrManifest   = errors.New("the manifest is wrong")
	ErrPath       = errors.New("an entry's name is outside the bundle")
	ErrTwice      = errors.New("it contains a name twice")
	ErrExtra      = errors.New("an entry is not in the manifest")
	ErrMissing    = errors.New("a file of the manifest is missing")
	ErrDigest     = errors.New("a file differs from the one in the manifest")
	ErrKind       = errors.New("an entry is not a regular file")
	ErrSize       = errors.New("it is too large")
)

// Bounds on what is read.
const (
	MaxManifest = 1 << 20 // bytes
	MaxFiles    = 20000
	MaxBytes    = 8 << 30 // unpacked, all together
)

// File is one file of a manifest.
type File struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

// Check returns an error for a file whose path could lead out of where it belongs, that has no digest, or a size that
// is none.
func (f File) Check() error {
	if err := CheckPath(f.Path); err != nil {
		return err
	}
	if err := CheckDigest(f.SHA256); err != nil || f.Size < 0 || f.Size > MaxBytes {
		return fmt.Errorf("%.80q has no digest or no size", f.Path)
	}
	return nil
}

// CheckDigest returns an error unless its argument is a SHA-256 in hexadecimal.
func CheckDigest(s string) error {
	if raw, err := hex.DecodeString(s); err != nil || len(raw) != sha256.Size {
		return fmt.Errorf("%.80q is not a SHA-256", s)
	}
	return nil
}

// Bundle is an opened and checked bundle.
type Bundle struct {
	Manifest []byte // as it stands in the file; its SHA-256 is the bundle's id
	Digest   string
	files    map[string]*zip.File
}

// Digest returns the SHA-256 of b in hexadecimal.
func Digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Open reads the bundle in r whose manifest is the entry name. list returns the files in the
// manifest, or an error to refuse it. extra names other entries that are allowed, such as a
// signature.
func Open(r io.ReaderAt, size int64, name string, extra []string, list func(manifest []byte) ([]File, error)) (*Bundle, error) {
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, fmt.Errorf("%w: %w", ErrNotZIP, err)
	}
	if len(z.File) > MaxFiles {
		return nil, fmt.Errorf("%w: %d entries", ErrSize, len(z.File))
	}
	b := &Bundle{files: make(map[string]*zip.File, len(z.File))}
	for _, f := range z.File {
		if err := checkEntry(f); err != nil {
			return nil, err
		}
		if b.files[f.Name] != nil {
			return nil, fmt.Errorf("%w: %q", ErrTwice, f.Name)
		}
		b.files[f.Name] = f
	}
	m := b.files[name]
	if m == nil {
		return nil, fmt.Errorf("%w: %s", ErrNoManifest, name)
	}
	if m.UncompressedSize64 > MaxManifest {
		return nil, fmt.Errorf("%w: a manifest of %d bytes", ErrSize, m.UncompressedSize64)
	}
	if b.Manifest, err = readAll(m, MaxManifest); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	}
	b.Digest = Digest(b.Manifest)
	files, err := list(b.Manifest)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	}
	return b, b.check(name, extra, files)
}

// Reopen opens a bundle that was checked before and has been stored under its digest since.
// The content of the files is not checked again.
func Reopen(r io.ReaderAt, size int64, name string) (*Bundle, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotZIP, err)
	}
	b := &Bundle{files: make(map[string]*zip.File, len(z.File))}
	for _, f := range z.File {
		b.files[f.Name] = f
	}
	if b.files[name] == nil {
		return nil, fmt.Errorf("%w: %s", ErrNoManifest, name)
	}
	if b.Manifest, err = readAll(b.files[name], MaxManifest); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	}
	b.Digest = Digest(b.Manifest)
	return b, nil
}

func checkEntry(f *zip.File) error {
	if !f.Mode().IsRegular() {
		return fmt.Errorf("%w: %q", ErrKind, f.Name)
	}
	return CheckPath(f.Name)
}

// CheckPath returns an error for a name that could leave its bundle: it must be relative, use
// slashes, and contain neither . nor .. nor characters that some systems treat specially.
func CheckPath(name string) error {
	if !fs.ValidPath(name) || name == "." || strings.ContainsAny(name, "\\:\x00") || path.Clean(name) != name {
		return fmt.Errorf("%w: %q", ErrPath, name)
	}
	return nil
}

// check compares the entries with the manifest, and then, once all that can be told without unpacking is
// as it should be, the content of every file with its digest.
func (b *Bundle) check(name string, extra []string, files []File) error {
	listed := map[string]bool{name: true}
	for _, e := range extra {
		listed[e] = true
	}
	var total int64
	for _, f := range files {
		if err := CheckPath(f.Path); err != nil {
			return err
		}
		if listed["files/"+f.Path] {
			return fmt.Errorf("%w: %q", ErrTwice, f.Path)
		}
		listed["files/"+f.Path] = true
		entry := b.files["files/"+f.Path]
		if entry == nil {
			return fmt.Errorf("%w: %q", ErrMissing, f.Path)
		}
		if total += f.Size; f.Size < 0 || total > MaxBytes {
			return fmt.Errorf("%w: over %d bytes unpacked", ErrSize, int64(MaxBytes))
		}
		if entry.UncompressedSize64 != uint64(f.Size) {
			return fmt.Errorf("%w: %q", ErrDigest, f.Path)
		}
	}
	for n := range b.files {
		if !listed[n] {
			return fmt.Errorf("%w: %q", ErrExtra, n)
		}
	}
	for _, f := range files {
		if err := checkBytes(b.files["files/"+f.Path], f); err != nil {
			return err
		}
	}
	return nil
}

func checkBytes(entry *zip.File, f File) error {
	r, err := entry.Open()
	if err != nil {
		return fmt.Errorf("%w: %q: %w", ErrDigest, f.Path, err)
	}
	defer r.Close()
	h := sha256.New()
	n, err := io.Copy(h, io.LimitReader(r, f.Size+1))
	if err != nil || n != f.Size || hex.EncodeToString(h.Sum(nil)) != f.SHA256 {
		return fmt.Errorf("%w: %q", ErrDigest, f.Path)
	}
	return nil
}

func readAll(f *zip.File, limit int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if int64(len(data)) > limit {
		return nil, ErrSize
	}
	return data, err
}

// File opens a file of the manifest by its path.
func (b *Bundle) File(p string) (io.ReadCloser, error) {
	f := b.files["files/"+p]
	if f == nil {
		return nil, fmt.Errorf("%w: %q", ErrMissing, p)
	}
	return f.Open()
}

// Extra reads an entry that is neither the manifest nor one of its files, of at most
// limit bytes; nil where there is none.
func (b *Bundle) Extra(name string, limit int64) ([]byte, error) {
	f := b.files[name]
	if f == nil {
		return nil, nil
	}
	data, err := readAll(f, limit)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, nil
}

// List makes the manifest's list of the named files of root, in order of their
// names; a name may stand for a whole directory.
func List(root fs.FS, names []string) ([]File, error) {
	var out []File
	for _, name := range names {
		err := fs.WalkDir(root, name, func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			if !d.Type().IsRegular() {
				return fmt.Errorf("%w: %q", ErrKind, p)
			}
			f, err := digestFile(root, p)
			out = append(out, f)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return slices.CompactFunc(out, func(a, b File) bool { return a.Path == b.Path }), nil
}

func digestFile(root fs.FS, p string) (File, error) {
	r, err := root.Open(p)
	if err != nil {
		return File{}, err
	}
	defer r.Close()
	h := sha256.New()
	n, err := io.Copy(h, r)
	return File{Path: p, SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, err
}

// Entry is an entry of a bundle beside its files: the manifest, or a signature.
type Entry struct {
	Name string
	Data []byte
}

// Write writes a bundle: the entries, the manifest first, then the files of root.
// The same input makes the same bytes.
func Write(w io.Writer, entries []Entry, root fs.FS, files []File) error {
	z := zip.NewWriter(w)
	put := func(name string, r io.Reader) error {
		e, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)})
		if err != nil {
			return err
		}
		_, err = io.Copy(e, r)
		return err
	}
	for _, e := range entries {
		if err := put(e.Name, bytes.NewReader(e.Data)); err != nil {
			return fmt.Errorf("write %s: %w", e.Name, err)
		}
	}
	for _, f := range files {
		r, err := root.Open(f.Path)
		if err != nil {
			return err
		}
		err = put("files/"+f.Path, r)
		r.Close()
		if err != nil {
			return fmt.Errorf("write %s: %w", f.Path, err)
		}
	}
	return z.Close()
}

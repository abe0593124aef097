package store

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Files keeps large files by their SHA-256. A file is written under another
// name, synced, then renamed: one that is there is whole.
type Files struct{ Dir string }

// Put keeps what r gives and returns its digest and size.
func (f Files) Put(r io.Reader) (digest string, size int64, err error) {
	return f.Make(func(w io.Writer) error {
		_, err := io.Copy(w, r)
		return err
	})
}

// Make keeps what write writes and returns its digest and size.
func (f Files) Make(write func(io.Writer) error) (digest string, size int64, err error) {
	if err := os.MkdirAll(f.Dir, 0o700); err != nil {
		return "", 0, err
	}
	w, err := os.CreateTemp(f.Dir, ".coming-*")
	if err != nil {
		return "", 0, fmt.Errorf("keep a file: %w", err)
	}
	defer os.Remove(w.Name()) //nolint:errcheck // it has its own name by then
	h := sha256.New()
	n := counter{}
	err = write(io.MultiWriter(w, h, &n))
	err = errors.Join(err, w.Sync(), w.Close())
	if err != nil {
		return "", 0, fmt.Errorf("keep a file: %w", err)
	}
	digest = hex.EncodeToString(h.Sum(nil))
	return digest, n.bytes, os.Rename(w.Name(), f.Path(digest))
}

// counter counts what is written to it.
type counter struct{ bytes int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.bytes += int64(len(p))
	return len(p), nil
}

// Path is where the file of a digest is.
func (f Files) Path(digest string) string { return filepath.Join(f.Dir, digest) }

// Open opens a file by its digest.
func (f Files) Open(digest string) (*os.File, error) {
	if raw, err := hex.DecodeString(digest); err != nil || len(raw) != sha256.Size {
		return nil, ErrNotFound
	}
	r, err := os.Open(f.Path(digest))
	if errors.Is(err, os.ErrNotExist) {
		err = ErrNotFound
	}
	return r, err
}

// NewID makes an identifier: 80 bits, in lower-case hexadecimal.
func NewID() string {
	var b [10]byte
	_, _ = rand.Read(b[:]) // it never fails
	return hex.EncodeToString(b[:])
}

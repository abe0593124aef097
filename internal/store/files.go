package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/replace"
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
	return digest, n.bytes, replace.Move(w.Name(), f.Path(digest))
}

// counter counts what is written to it.
type counter struct{ bytes int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.bytes += int64(len(p))
	return len(p), nil
}

// Path is where the file of a digest is.
func (f Files) Path(digest string) string { return filepath.Join(f.Dir, digest) }

// Open opens a file by its digest. One that is gone is an error that says so.
func (f Files) Open(digest string) (*os.File, error) {
	if raw, err := hex.DecodeString(digest); err != nil || len(raw) != sha256.Size {
		return nil, ErrNotFound
	}
	r, err := os.Open(f.Path(digest))
	if errors.Is(err, os.ErrNotExist) {
		err = f.lost("is gone", digest)
	}
	return r, err
}

// Whole is an error if a file that the bench keeps is gone, or is not what was kept. A damaged one is set
// aside under another name, so that it can be added again.
func (f Files) Whole(ctx context.Context, digest string) error {
	r, err := f.Open(digest)
	if err != nil {
		return err
	}
	defer r.Close()
	h := sha256.New()
	if _, err := io.Copy(h, WhileWanted(ctx, r)); err != nil {
		return fmt.Errorf("read %s: %w", r.Name(), err)
	}
	if hex.EncodeToString(h.Sum(nil)) == digest {
		return nil
	}
	how := "is damaged: its SHA-256 does not match the record"
	if os.Rename(r.Name(), filepath.Join(f.Dir, damagedPrefix+digest)) == nil {
		how += "; it was moved aside as " + damagedPrefix + digest
	}
	return f.lost(how, digest)
}

// damagedPrefix begins the names of files that were set aside.
const damagedPrefix = "damaged-"

func (f Files) lost(how, digest string) error {
	return &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The bench's file %s %s.", f.Path(digest), how),
		Remedy: "Add it again: run the app from its project, add the file, or fetch it. Or restore a backup: earlybench backup restore FILE."}
}

// WhileWanted reads from r until ctx ends.
func WhileWanted(ctx context.Context, r io.Reader) io.Reader {
	return readerFunc(func(p []byte) (int, error) {
		if err := context.Cause(ctx); err != nil {
			return 0, err
		}
		return r.Read(p)
	})
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

// Sweep removes what writing of files has left that was killed, and returns how many bytes that were. No
// file may be coming meanwhile.
func (f Files) Sweep() (bytes int64, err error) {
	left, err := filepath.Glob(filepath.Join(f.Dir, ".coming-*"))
	if err != nil {
		return 0, err
	}
	var errs []error
	for _, l := range left {
		info, err := os.Lstat(l)
		if err == nil {
			err = os.Remove(l)
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		bytes += info.Size()
	}
	return bytes, errors.Join(errs...)
}

// NewID makes an identifier: 80 bits, in lower-case hexadecimal.
func NewID() string {
	var b [10]byte
	_, _ = rand.Read(b[:]) // it never fails
	return hex.EncodeToString(b[:])
}

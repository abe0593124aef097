// Package backup writes all that a bench keeps into one file while the bench runs, and puts it back while
// it does not. docs/formats/backup.md describes the file.
package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/replace"
	"earlybench.invalid/earlybench/internal/store"
)

// Format is the version of the file's format.
const Format = 1

// indexName is the last entry of the file.
const indexName = "backup.json"

// recordsName is the entry with the records.
const recordsName = "bench.db"

// Index says what is in a backup.
type Index struct {
	Format  int       `json:"format"`
	Made    time.Time `json:"made"`
	Bench   string    `json:"bench"`   // its name
	Program string    `json:"program"` // the version of Early Bench that made it
	Files   []File    `json:"files"`
}

// File is one file of a backup.
type File struct {
	Path    string `json:"path"` // below the state directory, with slashes
	Size    int64  `json:"size"` // in bytes
	SHA256  string `json:"sha256"`
	Damaged bool   `json:"damaged,omitempty"` // it was already damaged when it was backed up, and is not restored
}

// Bytes is the sum of the sizes of all files.
func (i Index) Bytes() (sum int64) {
	for _, f := range i.Files {
		sum += f.Size
	}
	return sum
}

// Damaged are the files that were already damaged.
func (i Index) Damaged() (names []string) {
	for _, f := range i.Files {
		if f.Damaged {
			names = append(names, f.Path)
		}
	}
	return names
}

// Source is what is backed up.
type Source struct {
	Store   *store.Store
	Dir     string // the state directory
	Bench   string
	Program string
	Now     time.Time
}

// Covered reports whether a file below the state directory, named with slashes, belongs to a backup: the
// records, the keys, the safe, the files of apps, pictures, driver sets and support packs, the bench's own
// sheets. Kits, sockets, locks and what is half-written do not.
func Covered(name string) bool {
	dir, base := path.Split(name)
	switch {
	case !fs.ValidPath(name) || strings.HasPrefix(base, ".") || name == indexName:
		return false
	case dir == "files/":
		raw, err := hex.DecodeString(base)
		return err == nil && len(raw) == sha256.Size
	case dir == "sheets/":
		return true
	}
	return dir == "" && base != "lock" && !strings.HasPrefix(base, recordsName+"-")
}

// Write writes a backup to file, which must not be there yet. progress is told the bytes so far and in all.
// The bench keeps running: the records are those of the moment when they were copied.
func Write(ctx context.Context, s Source, file string, progress func(done, total int64)) (Index, error) {
	if err := target(s.Dir, file); err != nil {
		return Index{}, err
	}
	snapshot := filepath.Join(s.Dir, snapshotName)
	if err := os.Remove(snapshot); err != nil && !errors.Is(err, fs.ErrNotExist) { // of a killed one
		return Index{}, err
	}
	defer os.Remove(snapshot) //nolint:errcheck // the next start removes it
	if err := s.Store.CopyTo(ctx, snapshot); err != nil {
		return Index{}, err
	}
	names, total, err := list(s.Dir)
	if err != nil {
		return Index{}, err
	}
	part := file + ".part"
	out, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return Index{}, &problem.Problem{Kind: problem.Invalid, Text: fmt.Sprintf("The backup cannot be written: %v.", err), Remedy: "Name a file in an existing directory that you may write to."}
	}
	w := writer{ctx: ctx, tar: tar.NewWriter(out), progress: progress, total: total,
		index: Index{Format: Format, Made: s.Now.UTC(), Bench: s.Bench, Program: s.Program}}
	err = w.all(s.Dir, snapshot, names)
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return Index{}, errors.Join(fmt.Errorf("write the backup: %w", err), os.Remove(part))
	}
	return w.index, replace.Move(part, file)
}

// snapshotName is the copy of the records while a backup is written.
const snapshotName = ".snapshot.db"

// target is an error if no backup should be written to file.
func target(dir, file string) error {
	if rel, err := filepath.Rel(dir, file); err == nil && filepath.IsLocal(rel) {
		return problem.Errorf(problem.Invalid, "%s is inside the state directory: name a file elsewhere, preferably on another disk", file)
	}
	if _, err := os.Lstat(file); err == nil {
		return problem.Errorf(problem.Invalid, "%s already exists, and is not overwritten: name another file", file)
	}
	return nil
}

// list returns what is to be backed up beside the records, and the size of all.
func list(dir string) (names []string, total int64, err error) {
	err = filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(rel)
		switch {
		case e.IsDir() && name != "." && name != "files" && name != "sheets":
			return fs.SkipDir
		case !e.Type().IsRegular() || !Covered(name) && name != snapshotName:
			return nil
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		} else if err != nil {
			return err
		}
		if name == snapshotName || name != recordsName {
			total += info.Size()
		}
		if Covered(name) && name != recordsName {
			names = append(names, name)
		}
		return nil
	})
	slices.Sort(names)
	return names, total, err
}

// writer writes the entries of a backup.
type writer struct {
	ctx         context.Context
	tar         *tar.Writer
	index       Index
	progress    func(done, total int64)
	done, total int64
}

func (w *writer) all(dir, snapshot string, names []string) error {
	if err := w.file(recordsName, snapshot); err != nil {
		return err
	}
	for _, name := range names {
		err := w.file(name, filepath.Join(dir, filepath.FromSlash(name)))
		if err != nil && !errors.Is(err, errGone) {
			return err
		}
	}
	raw, err := json.MarshalIndent(w.index, "", "  ")
	if err != nil {
		return err
	}
	if err := w.tar.WriteHeader(&tar.Header{Name: indexName, Mode: 0o600, Size: int64(len(raw)), ModTime: w.index.Made, Format: tar.FormatPAX}); err != nil {
		return err
	}
	if _, err := w.tar.Write(raw); err != nil {
		return err
	}
	return w.tar.Close()
}

// errGone is the error for a file that went while the backup was written; its record has gone, too, or will
// be found to be without one.
var errGone = errors.New("it has gone")

func (w *writer) file(name, from string) error {
	f, err := os.Open(from)
	if errors.Is(err, fs.ErrNotExist) {
		return errGone
	} else if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: info.Size(), ModTime: info.ModTime(), Format: tar.FormatPAX}); err != nil {
		return err
	}
	h := sha256.New()
	buf := make([]byte, 256<<10)
	for left := info.Size(); left > 0; {
		if err := context.Cause(w.ctx); err != nil {
			return err
		}
		n, err := f.Read(buf[:min(left, int64(len(buf)))])
		if n == 0 && err != nil {
			return fmt.Errorf("read %s: %w", from, err)
		}
		h.Write(buf[:n])
		if _, err := w.tar.Write(buf[:n]); err != nil {
			return err
		}
		left -= int64(n)
		w.done += int64(n)
		w.progress(w.done, w.total)
	}
	entry := File{Path: name, Size: info.Size(), SHA256: hex.EncodeToString(h.Sum(nil))}
	if dir, base := path.Split(name); dir == "files/" && base != entry.SHA256 {
		entry.Damaged = true
	}
	w.index.Files = append(w.index.Files, entry)
	return nil
}

package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/strict"
	"earlybench.invalid/earlybench/internal/replace"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	unpackedName = ".restoring-new" // a backup that is being unpacked and checked
	readyName    = ".restoring"     // one that is whole, and is being put in place
	epochName    = ".lending-epoch" // of what is lent (internal/lend)
	clearedName  = ".cleared"       // in it: what was in its place has been set aside
)

// mostIndex is the largest index, in bytes; mostFiles is how many files a backup has at most.
const (
	mostIndex = 64 << 20
	mostFiles = 200_000
)

// Read checks a whole backup, and returns what is in it.
func Read(ctx context.Context, r io.Reader) (Index, error) {
	return scan(ctx, r, func(string, int64) (io.WriteCloser, error) { return nopCloser{io.Discard}, nil })
}

// Restore puts a backup into the place of what a state directory has, which it sets aside below the directory
// that it returns; "" if there was nothing. No bench may run there. Until the whole backup was checked
// nothing is changed; if it is cut off later, the next start of the bench, or [Finish], completes it.
func Restore(ctx context.Context, r io.Reader, dir string, now time.Time) (Index, string, error) {
	unpacked := filepath.Join(dir, unpackedName)
	if err := os.RemoveAll(unpacked); err != nil {
		return Index{}, "", err
	}
	index, err := scan(ctx, r, func(name string, size int64) (io.WriteCloser, error) {
		to := filepath.Join(unpacked, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return nil, err
		}
		return os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	})
	if err == nil {
		err = usable(ctx, unpacked, index, now)
	}
	if err != nil {
		return Index{}, "", errors.Join(err, os.RemoveAll(unpacked))
	}
	if err := errors.Join(os.RemoveAll(filepath.Join(dir, readyName)), replace.Move(unpacked, filepath.Join(dir, readyName))); err != nil {
		return Index{}, "", fmt.Errorf("put the backup in place: %w", err)
	}
	before, err := Finish(dir, now)
	return index, before, err
}

// usable removes what was damaged when it was backed up, and is an error if this program cannot read the
// records. Jobs that ran at that moment are not continued, since the devices may have changed since.
func usable(ctx context.Context, unpacked string, index Index, now time.Time) error {
	for _, name := range index.Damaged() {
		if err := os.Remove(filepath.Join(unpacked, filepath.FromSlash(name))); err != nil {
			return err
		}
	}
	s, err := store.Open(ctx, filepath.Join(unpacked, recordsName))
	if err != nil {
		return fmt.Errorf("look at the records in the backup: %w", err)
	}
	return errors.Join(interrupt(ctx, s, now), s.Close())
}

func interrupt(ctx context.Context, s *store.Store, now time.Time) error {
	running, err := s.OpenJobs(ctx)
	if err != nil {
		return err
	}
	for _, j := range running {
		j.Interrupt(now.UTC(), "The bench was restored from a backup that was made while this was running. Start it again if you still want it.")
		if err := s.Save(ctx, j); err != nil {
			return fmt.Errorf("end what ran when the backup was made: %w", err)
		}
	}
	return nil
}

// Finish brings a restore to its end that was cut off after the backup was checked, and returns where it has
// set aside what was there before. Without one it removes what an earlier one has left, and returns "".
func Finish(dir string, now time.Time) (before string, err error) {
	if err := errors.Join(os.RemoveAll(filepath.Join(dir, unpackedName)), removed(filepath.Join(dir, snapshotName))); err != nil {
		return "", err
	}
	ready := filepath.Join(dir, readyName)
	if _, err := os.Stat(ready); errors.Is(err, fs.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", err
	}
	cleared := filepath.Join(ready, clearedName)
	if _, err := os.Stat(cleared); err != nil {
		if before, err = setAside(dir, now); err != nil {
			return before, err
		}
		// Loans made since then are not in the restored records: they end on the devices with a new epoch.
		if err := removed(filepath.Join(dir, epochName)); err != nil {
			return before, err
		}
		if err := replace.File(cleared, nil, 0o600); err != nil {
			return before, err
		}
	}
	names, err := os.ReadDir(ready)
	if err != nil {
		return before, err
	}
	for _, e := range names {
		if e.Name() != clearedName {
			if err := os.Rename(filepath.Join(ready, e.Name()), filepath.Join(dir, e.Name())); err != nil {
				return before, fmt.Errorf("put the backup in place: %w", err)
			}
		}
	}
	if err := replace.SyncDir(dir); err != nil {
		return before, err
	}
	return before, os.RemoveAll(ready)
}

// setAside moves all that a backup covers to a directory of its own.
func setAside(dir string, now time.Time) (before string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	for _, e := range entries {
		name := e.Name()
		covered := e.Type().IsRegular() && (Covered(name) || name == recordsName+"-wal" || name == recordsName+"-shm") || e.IsDir() && (name == "files" || name == "sheets")
		if !covered {
			continue
		}
		if before == "" {
			before = filepath.Join(dir, "before-"+now.Format("20060102-150405"))
			if err := os.MkdirAll(before, 0o700); err != nil {
				return "", err
			}
		}
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(before, name)); err != nil {
			return before, fmt.Errorf("set aside what was there before: %w", err)
		}
	}
	return before, replace.SyncDir(dir)
}

func removed(file string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// scan reads a whole backup. Its files go where create says, and are compared with the index.
func scan(ctx context.Context, r io.Reader, create func(name string, size int64) (io.WriteCloser, error)) (Index, error) {
	in := tar.NewReader(r)
	var found []File
	seen := map[string]bool{}
	for {
		h, err := in.Next()
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return Index{}, refused("it is incomplete: its index, which comes last, is missing")
		case err != nil:
			return Index{}, refused("it is not a backup of a bench (%v)", err)
		case h.Name == indexName:
			return compared(in, h.Size, found)
		case h.Typeflag != tar.TypeReg || !Covered(h.Name) || h.Size < 0:
			return Index{}, refused("%.80q is not a file of a bench", h.Name)
		case len(found) == mostFiles:
			return Index{}, refused("it has more than %d files", mostFiles)
		case seen[h.Name]:
			return Index{}, refused("it contains %.80q twice", h.Name)
		}
		f, err := take(ctx, in, h, create)
		if err != nil {
			return Index{}, err
		}
		found = append(found, f)
		seen[h.Name] = true
	}
}

func take(ctx context.Context, in io.Reader, h *tar.Header, create func(string, int64) (io.WriteCloser, error)) (File, error) {
	w, err := create(h.Name, h.Size)
	if err != nil {
		return File{}, fmt.Errorf("unpack the backup: %w", err)
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(w, sum), store.WhileWanted(ctx, in))
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return File{}, errors.Join(refused("it is incomplete: it ends in %s", h.Name), w.Close())
	}
	if s, ok := w.(interface{ Sync() error }); ok && err == nil {
		err = s.Sync()
	}
	if err = errors.Join(err, w.Close()); err != nil {
		return File{}, fmt.Errorf("unpack the backup: %w", err)
	}
	return File{Path: h.Name, Size: h.Size, SHA256: hex.EncodeToString(sum.Sum(nil))}, nil
}

// compared reads the index, and compares what was found with it.
func compared(in io.Reader, size int64, found []File) (index Index, err error) {
	if size > mostIndex {
		return index, refused("its index has more than %d bytes", mostIndex)
	}
	raw, err := io.ReadAll(in)
	if err != nil {
		return index, refused("it is incomplete: it ends in its index")
	}
	if err := strict.JSON(raw, &index); err != nil {
		return index, refused("its index cannot be read: %v", err)
	}
	if index.Format != Format {
		return index, refused("it has format %d, and this program knows %d", index.Format, Format)
	}
	records := false
	for i, f := range index.Files {
		if i >= len(found) || found[i].Path != f.Path || found[i].Size != f.Size || found[i].SHA256 != f.SHA256 {
			return index, refused("%.80q is damaged, or missing", f.Path)
		}
		records = records || f.Path == recordsName
	}
	if len(found) != len(index.Files) || !records {
		return index, refused("its index does not name what is in it")
	}
	return index, nil
}

func refused(format string, args ...any) error {
	return &problem.Problem{Kind: problem.Invalid, Text: "The backup was refused: " + fmt.Sprintf(format, args...) + ".", Remedy: "Nothing was changed. Use another backup."}
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

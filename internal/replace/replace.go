// Package replace writes files so that nobody ever sees half of one, also after a loss of
// power.
package replace

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
)

// File puts text into the place of the file at a path, or of none, with the mode's
// permission bits. After an error the file is as it was.
func File(path string, text []byte, mode fs.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".earlybench-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) //nolint:errcheck // it has its own name by then
	_, err = f.Write(text)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return err
	}
	return Move(f.Name(), path)
}

// Move renames a file that was synced, and returns once its new name is on disk, too.
func Move(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(to))
}

// SyncDir returns once the names in a directory are on disk. Windows has no such call, and keeps the order
// of renames by itself.
func SyncDir(dir string) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

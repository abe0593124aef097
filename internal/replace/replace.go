// Package replace writes files so that nobody ever sees half of one, also after a loss of
// power.
package replace

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
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
	return os.Rename(f.Name(), path)
}

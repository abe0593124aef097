package state

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// private restricts a directory to its owner, and refuses one that is not the caller's, or in which
// something is a link or somebody else's: what is written below it must not go elsewhere.
func private(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("make the directory: %w", err)
	}
	info, err := os.Lstat(dir)
	switch {
	case err != nil:
		return err
	case info.Mode()&fs.ModeSymlink != 0:
		return fmt.Errorf("%s is a link, and links are not followed here: give the directory itself", dir)
	case !info.IsDir():
		return fmt.Errorf("%s is not a directory", dir)
	case !mine(info):
		return fmt.Errorf("%s belongs to somebody else", dir)
	}
	if info.Mode().Perm()&0o077 != 0 {
		if err := os.Chmod(dir, 0o700); err != nil {
			return fmt.Errorf("make the directory private: %w", err)
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue // it has gone
		}
		name := filepath.Join(dir, e.Name())
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			return fmt.Errorf("%s is a link, and links are not followed here: remove it", name)
		case !mine(info):
			return fmt.Errorf("%s belongs to somebody else: remove it", name)
		}
	}
	return nil
}

// sticky is the bit of directories in which only its owner may remove a file.
const sticky = fs.ModeSticky

// trusted reports why somebody else could put another directory in the place of dir: each directory
// above it must belong to the caller or to root, and be writable by others only if it is sticky.
func trusted(dir string) error {
	for at := dir; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		switch {
		case err != nil:
			return err
		case info.Mode()&fs.ModeSymlink != 0 && !roots(info):
			return fmt.Errorf("%s is a link of somebody else", at)
		case !mine(info) && !roots(info):
			return fmt.Errorf("%s belongs to somebody else", at)
		case info.Mode().Perm()&0o022 != 0 && info.Mode()&sticky == 0 && info.Mode()&fs.ModeSymlink == 0:
			return fmt.Errorf("%s can be changed by others", at)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

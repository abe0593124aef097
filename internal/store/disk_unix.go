//go:build unix

package store

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// Free is how much this user can still write to the disk of a directory, in bytes.
func Free(dir string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return 0, fmt.Errorf("ask for the free space of %s: %w", dir, err)
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}

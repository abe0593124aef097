package store

import (
	"fmt"

	"golang.org/x/sys/windows"
)

// Free is how much this user can still write to the disk of a directory, in bytes.
func Free(dir string) (int64, error) {
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, err
	}
	var free uint64
	if err := windows.GetDiskFreeSpaceEx(name, &free, nil, nil); err != nil {
		return 0, fmt.Errorf("ask for the free space of %s: %w", dir, err)
	}
	return int64(free), nil
}

package state

import (
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

// mine reports true: below a user's profile Windows lets nobody else in.
func mine(fs.FileInfo) bool { return true }

// roots reports true, as above.
func roots(fs.FileInfo) bool { return true }

// open opens a file, or makes it.
func open(name string) (*os.File, error) { return os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600) }

// lock takes a file for this process; it is let go when the file is closed.
func lock(f *os.File) error {
	return windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &windows.Overlapped{})
}

//go:build unix

package state

import (
	"io/fs"
	"os"
	"syscall"
)

// mine reports whether a file belongs to this user.
func mine(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == os.Getuid()
}

// roots reports whether a file is the administrator's.
func roots(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && st.Uid == 0
}

// open opens a file, which must not be a link, or creates it.
func open(name string) (*os.File, error) {
	return os.OpenFile(name, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
}

// lock takes a file for this process; it is let go when the file is closed.
func lock(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }

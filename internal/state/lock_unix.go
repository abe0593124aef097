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

// lock takes a file for this process; it is let go when the file is closed.
func lock(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }

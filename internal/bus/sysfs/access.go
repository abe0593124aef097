//go:build linux && (amd64 || arm64)

package sysfs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// Access modes of access(2).
const readWrite = 0x4 | 0x2

// denied says why this program may not open a device's node; "" if it may.
func (r Roots) denied(n node) string {
	path := r.path(n)
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("%s is not there: the system has not made it yet, or this program does not see it", path)
	case err != nil:
		return fmt.Sprintf("%s cannot be looked at: %v", path, err)
	}
	if err := syscall.Access(path, readWrite); err == nil {
		return ""
	}
	return fmt.Sprintf("%s is %s, and so closed to %s", path, ownership(info), me())
}

// ownership is what ls -l would say of a file: crw-rw---- root plugdev.
func ownership(info fs.FileInfo) string {
	owner, group := "?", "?"
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		owner, group = strconv.Itoa(int(st.Uid)), strconv.Itoa(int(st.Gid))
		if u, err := user.LookupId(owner); err == nil {
			owner = u.Username
		}
		if g, err := user.LookupGroupId(group); err == nil {
			group = g.Name
		}
	}
	return fmt.Sprintf("%s %s %s", info.Mode(), owner, group)
}

func me() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "this program"
}

// holder names the program that has a device's node open, where /proc allows to see that.
func (r Roots) holder(path string) string {
	procs, err := os.ReadDir(r.Proc)
	if err != nil {
		return unknownHolder
	}
	for _, p := range procs {
		if _, err := strconv.Atoi(p.Name()); err != nil || p.Name() == strconv.Itoa(os.Getpid()) {
			continue
		}
		fds := filepath.Join(r.Proc, p.Name(), "fd")
		open, err := os.ReadDir(fds)
		if err != nil { // another user's, or it ended
			continue
		}
		for _, fd := range open {
			if to, err := os.Readlink(filepath.Join(fds, fd.Name())); err == nil && to == path {
				name, _ := os.ReadFile(filepath.Join(r.Proc, p.Name(), "comm"))
				return fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), p.Name())
			}
		}
	}
	if r.mine(path) {
		return ""
	}
	return unknownHolder
}

const unknownHolder = "another program"

// mine reports whether this program itself has the node open.
func (r Roots) mine(path string) bool {
	fds := filepath.Join(r.Proc, strconv.Itoa(os.Getpid()), "fd")
	open, _ := os.ReadDir(fds)
	for _, fd := range open {
		if to, err := os.Readlink(filepath.Join(fds, fd.Name())); err == nil && to == path {
			return true
		}
	}
	return false
}

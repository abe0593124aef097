package fence

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Version returns the version of Landlock that the kernel has; 0 for none.
func Version() int {
	v, _, errno := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, unix.LANDLOCK_CREATE_RULESET_VERSION)
	if errno != 0 {
		return 0
	}
	return int(v)
}

// What may be done with files, as far as the version of Landlock knows it.
const (
	reading = unix.LANDLOCK_ACCESS_FS_EXECUTE | unix.LANDLOCK_ACCESS_FS_READ_FILE | unix.LANDLOCK_ACCESS_FS_READ_DIR
	device  = unix.LANDLOCK_ACCESS_FS_READ_FILE | unix.LANDLOCK_ACCESS_FS_WRITE_FILE | unix.LANDLOCK_ACCESS_FS_IOCTL_DEV
	onFiles = unix.LANDLOCK_ACCESS_FS_EXECUTE | unix.LANDLOCK_ACCESS_FS_READ_FILE | unix.LANDLOCK_ACCESS_FS_WRITE_FILE | unix.LANDLOCK_ACCESS_FS_TRUNCATE | unix.LANDLOCK_ACCESS_FS_IOCTL_DEV
)

// everything is all that a version can forbid: of files, of networks, of other processes.
func everything(version int) (files, networks, scopes uint64) {
	files = 1<<13 - 1
	for v, right := range map[int]uint64{2: unix.LANDLOCK_ACCESS_FS_REFER, 3: unix.LANDLOCK_ACCESS_FS_TRUNCATE, 5: unix.LANDLOCK_ACCESS_FS_IOCTL_DEV} {
		if version >= v {
			files |= right
		}
	}
	if version >= 4 {
		networks = unix.LANDLOCK_ACCESS_NET_CONNECT_TCP
	}
	if version >= 6 {
		scopes = unix.LANDLOCK_SCOPE_ABSTRACT_UNIX_SOCKET | unix.LANDLOCK_SCOPE_SIGNAL
	}
	return files, networks, scopes
}

// Limits of a fenced program.
const (
	mostOpen   = 256     // files
	mostMemory = 1 << 30 // bytes of data
)

// fenceIn forbids this process, for good, all but what cfg gives it.
func fenceIn(cfg Config) error {
	runtime.LockOSThread() // it becomes another program
	for resource, most := range map[int]uint64{unix.RLIMIT_NOFILE: mostOpen, unix.RLIMIT_CORE: 0, unix.RLIMIT_DATA: mostMemory} {
		if err := unix.Setrlimit(resource, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return fmt.Errorf("limit what it may use: %w", err)
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("take rights off it: %w", err)
	}
	if version := Version(); version > 0 {
		if err := landlock(cfg, version); err != nil {
			return fmt.Errorf("fence it in: %w", err)
		}
	}
	return filter()
}

func landlock(cfg Config, version int) error {
	files, networks, scopes := everything(version)
	rules := unix.LandlockRulesetAttr{Handled_access_fs: files, Handled_access_net: networks, Scoped: scopes}
	fd, _, errno := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, uintptr(unsafe.Pointer(&rules)), sizeFor(version), 0)
	if errno != 0 {
		return fmt.Errorf("make the rules: %w", errno)
	}
	defer unix.Close(int(fd)) //nolint:errcheck // it was only read
	allow := func(rights uint64, paths ...string) error {
		for _, p := range paths {
			if err := allowBelow(int(fd), p, rights&files); err != nil && !errors.Is(err, os.ErrNotExist) {
				return fmt.Errorf("allow %s: %w", p, err)
			}
		}
		return nil
	}
	if err := errors.Join(allow(reading, cfg.Read...), allow(files, cfg.Write...), allow(device, cfg.Files...), allow(device, "/dev/null", "/dev/zero", "/dev/urandom", "/dev/random", "/dev/full")); err != nil {
		return err
	}
	for _, port := range cfg.Connect {
		if networks == 0 {
			break
		}
		const rulePort = 2 // LANDLOCK_RULE_NET_PORT
		rule := struct{ rights, port uint64 }{unix.LANDLOCK_ACCESS_NET_CONNECT_TCP, uint64(port)}
		if _, _, errno := unix.Syscall6(unix.SYS_LANDLOCK_ADD_RULE, fd, rulePort, uintptr(unsafe.Pointer(&rule)), 0, 0, 0); errno != 0 {
			return fmt.Errorf("allow port %d: %w", port, errno)
		}
	}
	if _, _, errno := unix.Syscall(unix.SYS_LANDLOCK_RESTRICT_SELF, fd, 0, 0); errno != 0 {
		return errno
	}
	return nil
}

// sizeFor is how much of the rules' structure a version knows, in bytes.
func sizeFor(version int) uintptr {
	switch {
	case version >= 6:
		return 24
	case version >= 4:
		return 16
	}
	return 8
}

func allowBelow(rules int, path string, rights uint64) error {
	fd, err := unix.Open(path, unix.O_PATH|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd) //nolint:errcheck // as above
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if st.Mode&unix.S_IFMT != unix.S_IFDIR {
		rights &= onFiles
	}
	attr := unix.LandlockPathBeneathAttr{Allowed_access: rights, Parent_fd: int32(fd)}
	if _, _, errno := unix.Syscall6(unix.SYS_LANDLOCK_ADD_RULE, uintptr(rules), unix.LANDLOCK_RULE_PATH_BENEATH, uintptr(unsafe.Pointer(&attr)), 0, 0, 0); errno != 0 {
		return errno
	}
	return nil
}

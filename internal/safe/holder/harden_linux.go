package holder

import "golang.org/x/sys/unix"

// Harden keeps what this process has in memory from core dumps, and from other processes of
// the same user.
func Harden() error {
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return err
	}
	return unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
}

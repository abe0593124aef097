// Package ueventtest sends made-up kernel events, for tests. It takes the right to administer
// the network namespace.
package ueventtest

import (
	"fmt"
	"strings"

	"golang.org/x/sys/unix"
)

// Send sends one event to all that hear the kernel in this thread's network namespace.
func Send(action, path, subsystem, kind string) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return err
	}
	defer unix.Close(fd) //nolint:errcheck // it was sent, or not
	text := strings.Join([]string{action + "@" + path, "ACTION=" + action, "DEVPATH=" + path, "SUBSYSTEM=" + subsystem, "DEVTYPE=" + kind, "SEQNUM=1", ""}, "\x00")
	if err := unix.Sendto(fd, []byte(text), 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: 1}); err != nil {
		return fmt.Errorf("send a made-up event: %w", err)
	}
	return nil
}

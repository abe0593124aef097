//go:build linux && (amd64 || arm64)

package usbfs

import (
	"errors"
	"fmt"
	"unsafe"

	"golang.org/x/sys/unix"
)

// kernel is what this package calls of the system. Tests have one of their own, since a
// transfer needs a controller.
type kernel interface {
	// ioctl performs a request. arg is nil or points to what the request says.
	ioctl(request uintptr, arg unsafe.Pointer) error
	// descriptors reads the device's descriptors, as the node gives them.
	descriptors() ([]byte, error)
	// await waits until a transfer has completed or wake was called. An error means that
	// the device has gone.
	await() error
	// wake ends an await.
	wake()
	close() error
}

// node is an open node below /dev/bus/usb.
type node struct {
	fd   int
	stop int // an eventfd
}

func openNode(path string) (*node, error) {
	fd, err := unix.Open(path, unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	stop, err := unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK)
	if err != nil {
		unix.Close(fd) //nolint:errcheck // nothing was written
		return nil, fmt.Errorf("make an eventfd: %w", err)
	}
	return &node{fd: fd, stop: stop}, nil
}

func (n *node) ioctl(request uintptr, arg unsafe.Pointer) error {
	for {
		_, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(n.fd), request, uintptr(arg))
		switch errno {
		case 0:
			return nil
		case unix.EINTR:
			continue
		}
		return errno
	}
}

// maxDescriptors bounds the descriptors of a device, in bytes: eight configurations of 64 KiB.
const maxDescriptors = 8 << 16

func (n *node) descriptors() ([]byte, error) {
	b := make([]byte, maxDescriptors)
	at := 0
	for at < len(b) {
		k, err := unix.Pread(n.fd, b[at:], int64(at))
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if k == 0 {
			break
		}
		at += k
	}
	return b[:at], nil
}

func (n *node) await() error {
	fds := []unix.PollFd{{Fd: int32(n.fd), Events: unix.POLLOUT}, {Fd: int32(n.stop), Events: unix.POLLIN}}
	for {
		_, err := unix.Poll(fds, -1)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return err
		}
		if fds[0].Revents&(unix.POLLERR|unix.POLLHUP) != 0 && fds[0].Revents&unix.POLLOUT == 0 {
			return unix.ENODEV
		}
		return nil
	}
}

func (n *node) wake() {
	unix.Write(n.stop, []byte{1, 0, 0, 0, 0, 0, 0, 0}) //nolint:errcheck // it counts
}

func (n *node) close() error {
	unix.Close(n.stop) //nolint:errcheck // nothing was written
	return unix.Close(n.fd)
}

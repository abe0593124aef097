package uevent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

const (
	kernelGroup  = 1       // of NETLINK_KOBJECT_UEVENT: the kernel's own messages
	receiveBytes = 1 << 20 // that wait, so that a storm of events is not lost
)

// ErrLost is sent in place of events when the kernel had more of them than were taken: what
// is connected must be read again.
var ErrLost = errors.New("kernel events were lost")

// Listener hears events until it is closed.
type Listener struct {
	file   *os.File
	events chan Event
	lost   chan struct{}
	done   sync.WaitGroup
}

// Listen begins to hear the kernel. An error means that this program may not, as in some
// containers: then what is connected must be read from time to time.
func Listen(o Options) (*Listener, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil, fmt.Errorf("open a netlink socket: %w", err)
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: kernelGroup}); err != nil {
		unix.Close(fd) //nolint:errcheck // nothing was written
		return nil, fmt.Errorf("join the kernel's events: %w", err)
	}
	unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBytes) //nolint:errcheck // it takes a right; the usual size does too
	l := &Listener{file: os.NewFile(uintptr(fd), "netlink"), events: make(chan Event, 64), lost: make(chan struct{}, 1)}
	l.done.Go(func() {
		defer close(l.events)
		l.read(o)
	})
	return l, nil
}

// Close ends it and waits.
func (l *Listener) Close() error {
	err := l.file.Close()
	l.done.Wait()
	return err
}

// Next waits for the next event. [ErrLost] means that some are missing; any other error is
// the end.
func (l *Listener) Next(ctx context.Context) (Event, error) {
	select {
	case <-ctx.Done():
		return Event{}, ctx.Err()
	case <-l.lost:
		return Event{}, ErrLost
	case e, ok := <-l.events:
		if !ok {
			return Event{}, os.ErrClosed
		}
		return e, nil
	}
}

func (l *Listener) read(o Options) {
	conn, err := l.file.SyscallConn()
	if err != nil {
		return
	}
	buf := make([]byte, maxEvent+1)
	for {
		var n int
		var from unix.Sockaddr
		var failed error
		err := conn.Read(func(fd uintptr) bool {
			n, from, failed = unix.Recvfrom(int(fd), buf, 0)
			return !errors.Is(failed, unix.EAGAIN) && !errors.Is(failed, unix.EINTR)
		})
		switch {
		case err != nil: // it was closed
			return
		case errors.Is(failed, unix.ENOBUFS):
			l.lose()
			continue
		case failed != nil:
			return
		}
		// Messages of the kernel come from port 0; any program that may send to the group has
		// another one (netlink(7)).
		if a, ok := from.(*unix.SockaddrNetlink); !ok || a.Pid != 0 && !o.MadeUp {
			continue
		}
		e, err := Parse(buf[:n])
		if err != nil || e.Subsystem != cmp.Or(o.Subsystem, "usb") {
			continue
		}
		select {
		case l.events <- e:
		default: // nobody takes them just now
			l.lose()
		}
	}
}

func (l *Listener) lose() {
	select {
	case l.lost <- struct{}{}:
	default:
	}
}

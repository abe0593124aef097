package uevent_test

import (
	"context"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/internal/bus/uevent"
	"earlybench.invalid/earlybench/internal/bus/uevent/ueventtest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// apart runs f in a network namespace of its own, so that nobody else on this computer hears
// what is made up there.
func apart(t *testing.T, f func(t *testing.T)) {
	t.Helper()
	done := make(chan bool)
	go func() {
		runtime.LockOSThread() // the thread ends with the goroutine, and the namespace with it
		ok := false
		defer func() { done <- ok }()
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			t.Logf("no network namespace: %v", err)
			return
		}
		f(t)
		ok = true
	}()
	if !<-done && !t.Failed() {
		t.Skip("this user may not make a network namespace")
	}
}

// next waits for an event, for a moment.
func next(t *testing.T, l *uevent.Listener, within time.Duration) (uevent.Event, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	return l.Next(ctx)
}

func TestMadeUpEventsAreHeardOnlyIfATestWantsThem(t *testing.T) {
	apart(t, func(t *testing.T) {
		all, err := uevent.Listen(uevent.Options{MadeUp: true})
		require.NoError(t, err)
		defer all.Close()
		kernel, err := uevent.Listen(uevent.Options{})
		require.NoError(t, err)
		defer kernel.Close()
		require.NoError(t, ueventtest.Send("add", "/devices/usb1/1-2", "usb", "usb_device"))
		e, err := next(t, all, 5*time.Second)
		require.NoError(t, err)
		require.Equal(t, "1-2", e.Device())
		_, err = next(t, kernel, 100*time.Millisecond)
		require.ErrorIs(t, err, context.DeadlineExceeded, "whoever may send there could pretend that a device was plugged in")
		require.NoError(t, ueventtest.Send("add", "/devices/virtual/net/lo", "net", ""))
		_, err = next(t, all, 100*time.Millisecond)
		require.ErrorIs(t, err, context.DeadlineExceeded, "it is not about USB")
	})
}

func TestTheKernelsOwnEventsAreHeard(t *testing.T) {
	l, err := uevent.Listen(uevent.Options{Subsystem: "net"})
	require.NoError(t, err)
	defer l.Close()
	// Written to, this file makes the kernel send the event once more (Documentation/ABI/testing/sysfs-uevent).
	if err := os.WriteFile("/sys/class/net/lo/uevent", []byte("change"), 0); err != nil {
		t.Skipf("the kernel is not to be asked for an event here: %v", err)
	}
	e, err := next(t, l, 5*time.Second)
	require.NoError(t, err)
	require.Equal(t, uevent.Event{Action: "change", Path: "/devices/virtual/net/lo", Subsystem: "net"}, e)
}

func TestMoreEventsThanAreTakenAreSaidToBeLost(t *testing.T) {
	apart(t, func(t *testing.T) {
		l, err := uevent.Listen(uevent.Options{MadeUp: true})
		require.NoError(t, err)
		defer l.Close()
		for range 200 {
			require.NoError(t, ueventtest.Send("add", "/devices/usb1/1-2", "usb", "usb_device"))
		}
		require.Eventually(t, func() bool {
			_, err := next(t, l, time.Second)
			return err == uevent.ErrLost
		}, 10*time.Second, time.Millisecond)
	})
}

func TestAClosedListenerEnds(t *testing.T) {
	l, err := uevent.Listen(uevent.Options{})
	require.NoError(t, err)
	require.NoError(t, l.Close())
	_, err = l.Next(t.Context())
	require.ErrorIs(t, err, os.ErrClosed)
}

//go:build amd64 || arm64

package bus

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/sysfs"
	"earlybench.invalid/earlybench/internal/bus/uevent"
	"earlybench.invalid/earlybench/internal/bus/usbfs"
)

// local is this computer's USB.
type local struct {
	madeUp bool
	reader sysfs.Reader
}

func newLocal(o Local) *local {
	l := &local{madeUp: o.MadeUpEvents, reader: sysfs.Reader{Roots: sysfs.System}}
	r := &l.reader.Roots
	for into, given := range map[*string]string{&r.Sys: o.Sys, &r.Dev: o.Dev, &r.Proc: o.Proc} {
		if given != "" {
			*into = given
		}
	}
	boot, err := os.ReadFile(filepath.Join(r.Proc, "sys/kernel/random/boot_id"))
	if err == nil {
		l.reader.Run, _, _ = strings.Cut(string(boot), "-")
	}
	return l
}

const (
	pollEvery  = time.Second            // where the kernel's events are not to be had
	checkEvery = 2 * time.Minute        // where they are
	askEvery   = 500 * time.Millisecond // whether a closed node was opened: no event says that
)

// errPolled is the trouble of a computer that does not let the bench hear of plugs.
var errPolled = errors.New("the bench may not hear when something is plugged in, and looks once a second")

// follow calls take with what is connected, and again after each change, until ctx ends. It
// calls trouble when that is not possible, and with nil when it is.
func (l *local) follow(ctx context.Context, take func(hostlink.Bus), trouble func(error)) {
	events, denied := uevent.Listen(uevent.Options{MadeUp: l.madeUp})
	if denied == nil {
		defer events.Close()
	}
	var last *hostlink.Bus
	changed := map[string]bool{}
	all := true
	for ctx.Err() == nil {
		now, err := l.reader.Read(func(busID string) bool { return all || changed[busID] })
		switch {
		case err != nil:
			trouble(err)
		case denied != nil:
			trouble(fmt.Errorf("%w: %w", errPolled, denied))
		default:
			trouble(nil)
		}
		if err == nil {
			reach(&now)
		}
		if err == nil && (last == nil || !reflect.DeepEqual(*last, now)) {
			last = &now
			take(now)
		}
		clear(changed)
		every := checkEvery
		for _, d := range now.Devices {
			if d.Denied != "" {
				changed[d.BusID], every = true, askEvery
			}
		}
		wait := events.Next
		if denied != nil || err != nil {
			wait, every = never, pollEvery
		}
		short, cancel := context.WithTimeout(ctx, every)
		event, err := wait(short)
		cancel()
		switch all = false; {
		case err == nil:
			changed[event.Device()] = true
		case errors.Is(err, context.DeadlineExceeded):
			all = every != askEvery
		default:
			if all = true; !errors.Is(err, uevent.ErrLost) {
				denied = err // the socket has failed: from now on it looks from time to time
			}
		}
	}
}

func never(ctx context.Context) (uevent.Event, error) {
	<-ctx.Done()
	return uevent.Event{}, ctx.Err()
}

// systemDriver is the driver of a device link for which Linux needs none, once its node may
// be opened.
const systemDriver = "system"

// reach fills in which device links can be used: a program reaches them through the node, and
// no driver of the kernel may have them.
func reach(b *hostlink.Bus) {
	for n := range b.Devices {
		d := &b.Devices[n]
		for m := range d.Interfaces {
			switch i := &d.Interfaces[m]; {
			case i.Name != usb.LinkName:
			case i.Driver == "" && d.Denied == "":
				i.Driver = systemDriver
			case i.Driver == sysfs.Passthrough && d.Holder == "": // it is this bench
				i.Driver = systemDriver
			case i.Driver != "" && i.Driver != sysfs.Passthrough:
				d.Holder = "the kernel's driver " + i.Driver
			}
		}
	}
}

// Open opens a device by its bus id.
func (l *local) Open(ctx context.Context, busID string) (usb.Device, error) {
	path, err := l.reader.Node(busID)
	if err != nil {
		return nil, err
	}
	return usbfs.Open(ctx, path)
}

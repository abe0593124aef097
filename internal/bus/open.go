package bus

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
	"earlybench.invalid/earlybench/internal/store"
)

// place is where a device is connected.
type place struct{ host, busID string }

// opened is a device that is open here.
type opened struct {
	usb.Device
	close func() error
}

func (o *opened) Close() error { return o.close() }

// Open opens a device that is connected to a host. It is [usb.ErrBusy] if somebody else has it.
func (h *Hosts) Open(ctx context.Context, name, busID string) (usb.Device, error) {
	at := place{name, busID}
	if held := h.holder(at); held != nil {
		return nil, held
	}
	dev, err := h.openAt(ctx, at)
	if err != nil {
		return nil, err
	}
	o := &opened{Device: dev}
	o.close = sync.OnceValue(func() error {
		err := dev.Close()
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.open[at] == o {
			delete(h.open, at)
		}
		return err
	})
	h.mu.Lock()
	held := h.taken[at]
	if held == nil {
		h.open[at] = o
	}
	h.mu.Unlock()
	if held != nil { // it was taken meanwhile
		o.Close()
		return nil, held
	}
	return o, nil
}

// holder is who has a device that was taken; nil for nobody.
func (h *Hosts) holder(at place) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if held := h.taken[at]; held != nil {
		return held
	}
	return nil
}

// Take opens a device for somebody else. Whoever has it open here loses it, and gets a [usb.HeldError] that names by
// until release was called, which closes the device.
func (h *Hosts) Take(ctx context.Context, name, busID, by string) (dev usb.Device, release func(), err error) {
	at, free := place{name, busID}, make(chan struct{})
	h.mu.Lock()
	held := h.taken[at]
	if held == nil {
		h.taken[at] = &usb.HeldError{By: by, Free: free}
	}
	had := h.open[at]
	h.mu.Unlock()
	if held != nil {
		return nil, nil, held
	}
	if had != nil {
		had.Close()
	}
	dev, err = h.openSoon(ctx, at)
	release = sync.OnceFunc(func() {
		if dev != nil {
			dev.Close()
		}
		h.mu.Lock()
		delete(h.taken, at)
		h.mu.Unlock()
		close(free)
	})
	if err != nil {
		release()
		return nil, nil, err
	}
	return dev, release, nil
}

// freeWithin is for how long a device may be busy of which this bench itself has let go.
const freeWithin = 2 * time.Second

func (h *Hosts) openSoon(ctx context.Context, at place) (usb.Device, error) {
	for began := time.Now(); ; {
		dev, err := h.openAt(ctx, at)
		if err == nil || !errors.Is(err, usb.ErrBusy) || time.Since(began) > freeWithin {
			return dev, err
		}
		if err := clock.Sleep(ctx, clock.System{}, 20*time.Millisecond); err != nil {
			return nil, err
		}
	}
}

func (h *Hosts) openAt(ctx context.Context, at place) (usb.Device, error) {
	w := h.watched(at.host)
	switch {
	case w == nil:
		return nil, fmt.Errorf("host %s: %w", at.host, store.ErrNotFound)
	case w.local != nil:
		return w.local.Open(ctx, at.busID)
	}
	if w.host.USBIP == "" {
		return nil, fmt.Errorf("host %s exports no devices", at.host)
	}
	exporter := usbip.Remote{Dial: func(ctx context.Context) (net.Conn, error) { return w.route.dial(ctx, w.host.USBIP) }}
	return exporter.Open(ctx, at.busID)
}

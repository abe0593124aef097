// Package rawusb forwards the USB of a device to another computer, for its own kernel and tools, by USB/IP over a stream
// (docs/formats/peer.md, "Exclusive loans"). It knows nothing of loans.
package rawusb

import (
	"context"
	"io"
	"net"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

// Taken is the USB of a device that was taken from this bench. Release gives it back.
type Taken struct {
	usb.Device
	BusID   string
	Release func()
}

// Lent is the forwarded USB of a device. One importer has it at a time.
type Lent struct {
	Taken
	only
}

// only is one device of which one importer has the USB at a time.
type only struct {
	info    usb.Info
	claimed sync.Mutex // by the importer
}

// List is the device.
func (o *only) List() []usb.Info { return []usb.Info{o.info} }

// claim reserves it; the caller unlocks claimed.
func (o *only) claim(busID string) error {
	switch {
	case busID != o.info.BusID:
		return usb.ErrNotFound
	case !o.claimed.TryLock():
		return usb.ErrBusy
	}
	return nil
}

// Lend reads what a device is, and passes it on under a name.
func Lend(ctx context.Context, t Taken, name string) (*Lent, error) {
	info, err := usbip.Info(ctx, t, t.BusID, name)
	if err != nil {
		return nil, err
	}
	return &Lent{Taken: t, only: only{info: info}}, nil
}

// Stream is a connection to the exporter of the device, which serve runs until ctx or the stream ends.
func (u *Lent) Stream(ctx context.Context) (stream io.ReadWriteCloser, serve func()) {
	near, far := net.Pipe()
	return near, func() { usbip.ServeConn(ctx, far, u) } //nolint:errcheck // the importer sees the end
}

// Claim reserves it for one importer.
func (u *Lent) Claim(busID string, _ net.Addr) (context.Context, usbip.Target, func(), error) {
	if err := u.claim(busID); err != nil {
		return nil, nil, nil, err
	}
	ctx, cancel := whileThere(u)
	return ctx, usbip.PassOn(u), func() { cancel(); u.claimed.Unlock() }, nil
}

// whileThere is a context that ends once a device has gone. Its cancel waits.
func whileThere(d usb.Device) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		select {
		case <-d.Gone():
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() { cancel(); <-ended }
}

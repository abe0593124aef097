package link

import (
	"context"
	"errors"
	"io"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
)

const (
	transferBytes = 64 << 10
	queued        = 16 // transfers under way in each direction
)

// bulk is a byte pipe over a pair of bulk endpoints of an open device. Several transfers are
// always pending, so that the wire is never idle.
type bulk struct {
	dev     usb.Device
	in, out uint8

	rest []byte // read and not handed on

	queue   sync.Mutex
	reading []usb.Transfer

	writing sync.Mutex
	sent    []usb.Transfer

	ctx    context.Context
	cancel context.CancelFunc
}

// Bulk opens the endpoints of the device link on dev: it selects the interface, which makes
// the device drop its buffers, and returns the byte pipe. Close does not close dev.
func Bulk(ctx context.Context, dev usb.Device, number, in, out uint8) (io.ReadWriteCloser, error) {
	_, err := dev.Control(ctx, usb.Setup{RequestType: 0x01, Request: usb.ReqSetInterface, Index: uint16(number)}, nil)
	if err != nil {
		return nil, err
	}
	b := &bulk{dev: dev, in: in, out: out}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	// A first transfer of length zero shows whether a driver is bound, before anything
	// waits on the endpoints.
	probe, err := dev.SubmitOut(out, nil)
	if err == nil {
		_, _, err = probe.Wait(ctx)
	}
	if err != nil {
		b.cancel()
		return nil, err
	}
	return b, nil
}

func (b *bulk) Read(p []byte) (int, error) {
	for len(b.rest) == 0 {
		t, err := b.next()
		if err != nil {
			return 0, err
		}
		data, _, err := t.Wait(b.ctx)
		if err != nil {
			return 0, b.ended(err)
		}
		b.rest = data
	}
	n := copy(p, b.rest)
	b.rest = b.rest[n:]
	return n, nil
}

// next fills the queue and returns the oldest pending transfer.
func (b *bulk) next() (usb.Transfer, error) {
	b.queue.Lock()
	defer b.queue.Unlock()
	if b.ctx.Err() != nil {
		return nil, io.ErrClosedPipe
	}
	for len(b.reading) < queued {
		t, err := b.dev.SubmitIn(b.in, transferBytes)
		if err != nil {
			return nil, err
		}
		b.reading = append(b.reading, t)
	}
	t := b.reading[0]
	b.reading = append(b.reading[:0], b.reading[1:]...)
	return t, nil
}

// Write sends p to the device in transfers. An error may belong to a transfer of an earlier
// Write.
func (b *bulk) Write(p []byte) (n int, err error) {
	b.writing.Lock()
	defer b.writing.Unlock()
	for len(p) > 0 {
		if len(b.sent) >= queued {
			_, _, err := b.sent[0].Wait(b.ctx)
			b.sent = append(b.sent[:0], b.sent[1:]...)
			if err != nil {
				return n, b.ended(err)
			}
		}
		k := min(len(p), transferBytes)
		t, err := b.dev.SubmitOut(b.out, p[:k])
		if err != nil {
			return n, err
		}
		b.sent = append(b.sent, t)
		p, n = p[k:], n+k
	}
	return n, nil
}

func (b *bulk) ended(err error) error {
	if errors.Is(err, context.Canceled) {
		return io.ErrClosedPipe
	}
	return err
}

// Close cancels the pending transfers for reading.
func (b *bulk) Close() error {
	b.cancel()
	b.queue.Lock()
	defer b.queue.Unlock()
	for _, t := range b.reading {
		t.Wait(b.ctx) //nolint:errcheck // withdraws it
	}
	return nil
}

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

// bulk makes a pair of bulk endpoints of an opened device a byte pipe. Several
// transfers are always under way, so that the wire is never idle.
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

// Bulk opens the device link's endpoints on dev: it selects the interface, which
// makes the device forget what it had buffered, and returns the byte pipe. Close
// does not close dev.
func Bulk(ctx context.Context, dev usb.Device, number, in, out uint8) (io.ReadWriteCloser, error) {
	_, err := dev.Control(ctx, usb.Setup{RequestType: 0x01, Request: usb.ReqSetInterface, Index: uint16(number)}, nil)
	if err != nil {
		return nil, err
	}
	b := &bulk{dev: dev, in: in, out: out}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	// A first transfer of no length reports whether a driver is bound, before
	// anything waits on the endpoints.
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

// next takes the oldest transfer under way, having filled the queue.
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

// Write hands p to the device in transfers; an error may belong to an earlier
// Write's transfer.
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

// Close withdraws what is under way to be read.
func (b *bulk) Close() error {
	b.cancel()
	b.queue.Lock()
	defer b.queue.Unlock()
	for _, t := range b.reading {
		t.Wait(b.ctx) //nolint:errcheck // withdraws it
	}
	return nil
}

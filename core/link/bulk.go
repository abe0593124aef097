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
	queued        = 16 // transfers to the device under way
	// pending is how many transfers from the device are. Each link holds a buffer for each, whether anything
	// comes or not, and a bench may have hundreds of links.
	pending = 4
)

// bulk is a byte pipe over a pair of bulk endpoints of an open device. Several transfers are
// always pending, so that the wire is never idle.
type bulk struct {
	dev     usb.Device
	in, out uint8

	buf  []byte // of the transfer that was read last; only Read's
	rest []byte // the part of buf that was not handed on; only Read's

	queue   sync.Mutex
	reading []reading

	writing sync.Mutex
	sent    chan usb.Transfer // waited for by reap; closed by Close
	closing sync.Once

	ctx    context.Context
	cancel context.CancelCauseFunc // the cause is why reads and writes end
}

// reading is a transfer from the device that is pending, with its buffer.
type reading struct {
	usb.Transfer
	buf []byte
}

// Bulk opens the endpoints of the device link on dev: it selects the interface, which makes
// the device drop its buffers, and returns the byte pipe. Close does not close dev.
func Bulk(ctx context.Context, dev usb.Device, number, in, out uint8) (io.ReadWriteCloser, error) {
	_, err := dev.Control(ctx, usb.Setup{RequestType: 0x01, Request: usb.ReqSetInterface, Index: uint16(number)}, nil)
	if err != nil {
		return nil, err
	}
	b := &bulk{dev: dev, in: in, out: out, sent: make(chan usb.Transfer, queued)}
	b.ctx, b.cancel = context.WithCancelCause(context.Background())
	// A first transfer of length zero shows whether a driver is bound, before anything
	// waits on the endpoints.
	probe, err := dev.SubmitOut(out, nil)
	if err == nil {
		_, _, err = probe.Wait(ctx)
	}
	if err != nil {
		b.cancel(io.ErrClosedPipe)
		return nil, err
	}
	go b.reap() // until Close, and until the device has taken what was sent, or is closed
	return b, nil
}

func (b *bulk) Read(p []byte) (int, error) {
	for len(b.rest) == 0 {
		next, err := b.next(b.buf)
		if err != nil {
			return 0, err
		}
		b.buf = nil // the device's now
		if b.rest, _, err = next.Wait(b.ctx); err != nil {
			return 0, b.ended(err)
		}
		b.buf = next.buf
	}
	n := copy(p, b.rest)
	b.rest = b.rest[n:]
	return n, nil
}

// next fills the queue, in which free is used if it is not nil, and returns the oldest pending
// transfer.
func (b *bulk) next(free []byte) (reading, error) {
	b.queue.Lock()
	defer b.queue.Unlock()
	if b.ctx.Err() != nil {
		return reading{}, context.Cause(b.ctx)
	}
	for len(b.reading) < pending {
		buf := free
		if free = nil; buf == nil {
			buf = make([]byte, transferBytes)
		}
		t, err := b.dev.SubmitIn(b.in, buf)
		if err != nil {
			return reading{}, err
		}
		b.reading = append(b.reading, reading{t, buf})
	}
	first := b.reading[0]
	b.reading = append(b.reading[:0], b.reading[1:]...)
	return first, nil
}

// Write sends p to the device in transfers. An error may belong to a transfer of an earlier
// Write.
func (b *bulk) Write(p []byte) (n int, err error) {
	b.writing.Lock()
	defer b.writing.Unlock()
	for len(p) > 0 {
		if b.ctx.Err() != nil {
			return n, context.Cause(b.ctx)
		}
		k := min(len(p), transferBytes)
		t, err := b.dev.SubmitOut(b.out, p[:k])
		if err != nil {
			return n, err
		}
		select {
		case b.sent <- t:
		case <-b.ctx.Done():
			return n, context.Cause(b.ctx)
		}
		p, n = p[k:], n+k
	}
	return n, nil
}

// reap waits for what was sent. A transfer that fails leaves a gap in the stream, so that
// the pipe ends at once, also while nobody writes.
func (b *bulk) reap() {
	for t := range b.sent {
		if _, _, err := t.Wait(context.Background()); err != nil {
			b.cancel(err)
		}
	}
}

// ended is why a transfer to read has ended.
func (b *bulk) ended(err error) error {
	if errors.Is(err, context.Canceled) {
		return context.Cause(b.ctx)
	}
	return err
}

// Close cancels the pending transfers for reading. What was written is still sent, unless
// the device is closed before.
func (b *bulk) Close() error {
	b.cancel(io.ErrClosedPipe)
	b.closing.Do(func() {
		b.writing.Lock()
		close(b.sent)
		b.writing.Unlock()
	})
	b.queue.Lock()
	defer b.queue.Unlock()
	for _, t := range b.reading {
		t.Wait(b.ctx) //nolint:errcheck // withdraws it
	}
	return nil
}

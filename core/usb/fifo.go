package usb

import (
	"context"
	"io"
	"sync"
)

// Fifo is the buffer of one bulk endpoint on the device's side: bytes in order,
// bounded, waiting when full (a device would answer NAK) or empty.
type Fifo struct {
	mu     sync.Mutex
	ring   []byte
	from   int           // where the first byte is
	have   int           // how many there are
	change chan struct{} // closed and replaced at every change
	err    error
}

// NewFifo makes a buffer of size bytes.
func NewFifo(size int) *Fifo { return &Fifo{ring: make([]byte, size), change: make(chan struct{})} }

func (f *Fifo) changed() {
	close(f.change)
	f.change = make(chan struct{})
}

// WriteContext writes all of p, waiting for room; n is how much was written.
func (f *Fifo) WriteContext(ctx context.Context, p []byte) (n int, err error) {
	for len(p) > 0 {
		f.mu.Lock()
		if f.err != nil {
			defer f.mu.Unlock()
			return n, f.err
		}
		if room := len(f.ring) - f.have; room > 0 {
			k := min(room, len(p))
			to := (f.from + f.have) % len(f.ring)
			copy(f.ring, p[copy(f.ring[to:], p[:k]):k])
			f.have += k
			p, n = p[k:], n+k
			f.changed()
			f.mu.Unlock()
			continue
		}
		change := f.change
		f.mu.Unlock()
		select {
		case <-ctx.Done():
			return n, ctx.Err()
		case <-change:
		}
	}
	return n, nil
}

// ReadContext reads what is buffered, up to len(p), waiting for the first byte.
func (f *Fifo) ReadContext(ctx context.Context, p []byte) (int, error) {
	for {
		f.mu.Lock()
		if f.have > 0 {
			n := min(len(p), f.have)
			copy(p[copy(p[:n], f.ring[f.from:]):n], f.ring)
			f.from, f.have = (f.from+n)%len(f.ring), f.have-n
			f.changed()
			f.mu.Unlock()
			return n, nil
		}
		if f.err != nil {
			defer f.mu.Unlock()
			return 0, f.err
		}
		change := f.change
		f.mu.Unlock()
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-change:
		}
	}
}

// Read is ReadContext with a context that never ends.
func (f *Fifo) Read(p []byte) (int, error) { return f.ReadContext(context.Background(), p) }

// Write is WriteContext with a context that never ends.
func (f *Fifo) Write(p []byte) (int, error) { return f.WriteContext(context.Background(), p) }

// Reset drops what is buffered.
func (f *Fifo) Reset() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.from, f.have = 0, 0
	f.changed()
}

// Close ends both directions: what is buffered can still be read.
func (f *Fifo) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.err == nil {
		f.err = io.EOF
		f.changed()
	}
	return nil
}

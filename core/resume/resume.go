// Package resume carries a stream of bytes over connections that may break: what was not received when one broke
// is sent again on the next, and nothing else (docs/formats/peer.md, "Streams that outlast connections").
//
// Either side keeps what the other has not acknowledged, a mebibyte at most, and tells at the beginning of
// each connection how much it has received.
package resume

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"
)

// Window is how many bytes are sent before an acknowledgement is waited for, and how many are received before
// they are read.
const Window = 1 << 20

// Bounds of frames.
const (
	mostPayload = 64 << 10
	ackEvery    = 64 << 10 // bytes
	header      = 5
)

// Kinds of frames: u8 kind, u32 length, payload; big-endian.
const (
	frameHello = 1 // u64: how many bytes were received so far; the first frame of a connection, once
	frameData  = 2
	frameAck   = 3 // u64: how many bytes were received so far
	frameEnd   = 4 // the sender has ended the stream; a text says why
)

var (
	// ErrBroken is the error of a stream that no connection has carried for as long as may be bridged.
	ErrBroken = errors.New("the connection was lost, and did not come back in time")
	// ErrForgotten is the error of a stream whose state the other side no longer has, because it was restarted.
	ErrForgotten = errors.New("the other side no longer knows the stream")
	// ErrProtocol is the error of a connection on which something else is spoken.
	ErrProtocol = errors.New("what arrives is not such a stream")
)

// Stream is one side of a stream. It is made by New, carried by Carry as often as needed, and ends with Close.
type Stream struct {
	bridge time.Duration

	mu       sync.Mutex
	changed  chan struct{} // closed and replaced when anything below changes
	out      []byte        // sent or to be sent, and not acknowledged
	acked    uint64        // bytes that the other side has received; out begins there
	in       []byte        // received and not read
	received uint64
	told     uint64   // how many received bytes were acknowledged
	ended    error    // nil: it has not; io.EOF: as it should
	closed   bool     // here
	finish   bool     // and what was written before is sent, if a connection carries it
	reason   string   // why it was closed here
	carrier  *carrier // that carries it; nil: none does
	lost     *time.Timer
	idle     time.Duration // for which nothing carried it, but for a break that goes on
	dropped  time.Time     // since when that goes on
}

// New makes a stream. It ends with [ErrBroken] once no connection has carried it for as long as bridge says.
func New(bridge time.Duration) *Stream {
	s := &Stream{bridge: bridge, changed: make(chan struct{}), dropped: time.Now()}
	s.lost = time.AfterFunc(bridge, s.giveUp)
	return s
}

// carrier is a connection that carries a stream.
type carrier struct {
	end  context.CancelCauseFunc
	done chan struct{}
}

// errReplaced is why a connection does not carry a stream any more.
var errReplaced = errors.New("another connection carries the stream now")

// tell wakes those who wait. The lock is held.
func (s *Stream) tell() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// giveUp ends a stream that has not been carried for longer than the bridge time, or was not delivered completely by then.
func (s *Stream) giveUp() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.endNow(ErrBroken)
	if s.finish = false; s.closed && s.carrier != nil {
		s.carrier.end(ErrBroken)
	}
}

// endNow ends the stream, if it has not ended. The lock is held.
func (s *Stream) endNow(why error) {
	if s.ended == nil {
		s.ended = why
		s.lost.Stop()
		s.tell()
	}
}

// Received is how many bytes have arrived, each counted once.
func (s *Stream) Received() uint64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.received
}

// Wait waits until the stream has ended, and returns why; io.EOF stands for the other side's end without a reason.
func (s *Stream) Wait(ctx context.Context) error {
	for {
		s.mu.Lock()
		ended, changed := s.ended, s.changed
		s.mu.Unlock()
		if ended != nil {
			return ended
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-changed:
		}
	}
}

// Read reads what has arrived. After the other side has closed the stream the error is io.EOF.
func (s *Stream) Read(p []byte) (int, error) {
	for {
		s.mu.Lock()
		if len(s.in) > 0 {
			n := copy(p, s.in)
			s.in = s.in[n:]
			if len(s.in) == 0 {
				s.in = nil
			}
			s.tell()
			s.mu.Unlock()
			return n, nil
		}
		ended, changed := s.ended, s.changed
		s.mu.Unlock()
		if ended != nil {
			return 0, ended
		}
		<-changed
	}
}

// Write hands bytes over to be sent. It waits while more than a window is not acknowledged.
func (s *Stream) Write(p []byte) (n int, err error) {
	for n < len(p) {
		s.mu.Lock()
		if s.ended != nil {
			err := s.ended
			s.mu.Unlock()
			if errors.Is(err, io.EOF) {
				err = io.ErrClosedPipe
			}
			return n, err
		}
		room, changed := min(Window-len(s.out), len(p)-n), s.changed
		if room > 0 {
			s.out = append(s.out, p[n:n+room]...)
			n += room
			s.tell()
		}
		s.mu.Unlock()
		if room <= 0 {
			<-changed
		}
	}
	return n, nil
}

// Close ends the stream on both sides. What was not sent by then is lost.
func (s *Stream) Close() error {
	s.CloseWith("")
	return nil
}

// CloseWith is Close with a reason, which the other side reads as an [Ended].
func (s *Stream) CloseWith(reason string) { s.close(reason, false) }

// Finish is CloseWith after sending everything written so far over the current connection.
func (s *Stream) Finish(reason string) { s.close(reason, true) }

func (s *Stream) close(reason string, finish bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lost.Stop()
	if finish && s.ended == nil {
		s.lost.Reset(s.bridge)
	}
	if s.ended == nil {
		s.ended, s.closed, s.finish, s.reason = io.ErrClosedPipe, true, finish, reason
		s.tell()
	}
}

// Ended is the error of a stream that the other side has closed with a reason.
type Ended struct{ Reason string }

func (e *Ended) Error() string { return e.Reason }

// Carry carries the stream over a connection, which it owns, until that breaks, ctx or the stream ends; then it
// returns why. One connection after the other may carry a stream; the newest one counts.
func (s *Stream) Carry(ctx context.Context, c io.ReadWriteCloser) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(ctx, func() { c.Close() })()
	mine := &carrier{cancel, make(chan struct{})}
	s.mu.Lock()
	if !s.closed {
		s.lost.Stop()
	}
	before := s.carrier
	if s.carrier = mine; before == nil {
		s.idle += time.Since(s.dropped)
	}
	s.mu.Unlock()
	defer func() {
		close(mine.done)
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.carrier == mine {
			s.carrier, s.dropped = nil, time.Now()
			if s.ended == nil {
				s.lost.Reset(s.bridge)
			}
		}
	}()
	if before != nil { // what it still receives is counted before the other side is told how much there is
		before.end(errReplaced)
		<-before.done
	}
	s.mu.Lock()
	received := s.received
	s.told = received
	s.mu.Unlock()
	var work sync.WaitGroup
	defer work.Wait()
	defer c.Close()
	// Both sides say hello at once, so neither may wait until the other has read it.
	hello := make(chan error, 1)
	work.Go(func() { hello <- write(c, frameHello, number(received)) })
	from, err := s.greeted(c)
	if errors.Is(err, ErrForgotten) { // the other side is to see that, too
		select {
		case <-hello:
		case <-time.After(time.Second):
		}
	}
	if err != nil {
		if cause := context.Cause(ctx); cause != nil {
			err = cause
		}
		return err
	}
	if err := <-hello; err != nil {
		return err
	}
	listened := make(chan struct{})
	work.Go(func() { defer close(listened); cancel(s.listen(ctx, c)) })
	if err := s.send(ctx, c, from); err != nil {
		return err
	}
	// The other side closes the connection once it has read the end. Closing it first could lose the end: TCP drops
	// what was not read yet where something arrives at a closed socket (RFC 9293, section 3.6.1).
	select {
	case <-listened:
	case <-time.After(lingers):
	}
	return nil
}

// lingers is how long a connection stays open after the end was sent, unless the other side closes it.
const lingers = time.Second

// greeted reads the other side's hello, and returns from which byte on is to be sent.
func (s *Stream) greeted(c io.Reader) (from uint64, err error) {
	kind, payload, err := read(c)
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if kind == frameEnd { // it has ended meanwhile
		return 0, s.endedThere(payload)
	}
	if kind != frameHello || len(payload) != 8 {
		return 0, ErrProtocol
	}
	from = binary.BigEndian.Uint64(payload)
	if err := s.acknowledge(from); err != nil {
		s.endNow(ErrForgotten)
		return 0, s.ended
	}
	return from, nil
}

// acknowledge takes how many bytes the other side has received. The lock is held.
func (s *Stream) acknowledge(n uint64) error {
	if n < s.acked || n > s.acked+uint64(len(s.out)) {
		return fmt.Errorf("%w: it received %d bytes, but %d to %d were sent", ErrProtocol, n, s.acked, s.acked+uint64(len(s.out)))
	}
	s.out = s.out[n-s.acked:]
	if len(s.out) == 0 {
		s.out = nil
	}
	s.acked = n
	s.tell()
	return nil
}

// endedThere ends the stream as the other side has. The lock is held.
func (s *Stream) endedThere(reason []byte) error {
	if len(reason) > 0 {
		s.endNow(&Ended{string(reason)})
	}
	s.endNow(io.EOF)
	return s.ended
}

// send sends what there is to be sent, from a byte on, and acknowledgements.
func (s *Stream) send(ctx context.Context, c io.Writer, next uint64) error {
	for {
		s.mu.Lock()
		changed := s.changed
		var kind byte
		var payload []byte
		switch {
		case s.closed && (!s.finish || s.acked+uint64(len(s.out)) <= next):
			kind, payload = frameEnd, []byte(s.reason)
		case s.ended != nil && !s.closed:
			err := s.ended
			s.mu.Unlock()
			return err
		case s.received-s.told >= ackEvery || s.received > s.told && s.acked+uint64(len(s.out)) == next:
			kind, payload = frameAck, number(s.received)
			s.told = s.received
		case s.acked+uint64(len(s.out)) > next:
			kind = frameData
			rest := s.out[next-s.acked:]
			payload = append([]byte{}, rest[:min(len(rest), mostPayload)]...)
			next += uint64(len(payload))
		}
		s.mu.Unlock()
		if kind != 0 {
			if err := write(c, kind, payload); err != nil {
				if cause := context.Cause(ctx); cause != nil {
					return cause
				}
				return err
			}
			if kind == frameEnd {
				return nil
			}
			continue
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-changed:
		}
	}
}

// listen takes frames until the connection breaks or the stream ends. While a window of what has arrived is not
// read it takes no more, so that the connection holds the other side back.
func (s *Stream) listen(ctx context.Context, c io.Reader) error {
	for {
		kind, payload, err := read(c)
		if err != nil {
			return err
		}
		s.mu.Lock()
		switch {
		case kind == frameAck && len(payload) == 8:
			err = s.acknowledge(binary.BigEndian.Uint64(payload))
		case kind == frameData && len(payload) > 0:
			if !s.closed {
				s.in = append(s.in, payload...)
			}
			s.received += uint64(len(payload))
			s.tell()
		case kind == frameEnd:
			err = s.endedThere(payload)
		default:
			err = ErrProtocol
		}
		for err == nil && len(s.in) >= Window && s.ended == nil {
			changed := s.changed
			s.mu.Unlock()
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-changed:
			}
			s.mu.Lock()
		}
		if err == nil && s.ended != nil && !s.closed { // one that was closed here goes on until its end was sent
			err = s.ended
		}
		s.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

func number(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }

func write(w io.Writer, kind byte, payload []byte) error {
	frame := append(make([]byte, 0, header+len(payload)), kind)
	frame = binary.BigEndian.AppendUint32(frame, uint32(len(payload)))
	_, err := w.Write(append(frame, payload...))
	return err
}

func read(r io.Reader) (kind byte, payload []byte, err error) {
	var head [header]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if n > mostPayload {
		return 0, nil, fmt.Errorf("%w: a frame of %d bytes", ErrProtocol, n)
	}
	payload = make([]byte, n)
	_, err = io.ReadFull(r, payload)
	return head[0], payload, err
}

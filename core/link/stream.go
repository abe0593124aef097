package link

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Frames: u32 length | u8 kind | payload, big-endian; length counts the
// payload. See docs/formats/link.md, "Byte stream".
const (
	maxPayload    = 65536
	frameHeader   = 5
	streamVersion = 1

	frameOpen  = 1 // u16 version, u64 epoch
	frameData  = 2
	frameClose = 3
	frameReset = 4
	openBytes  = 10
	mostStale  = 32 << 20 // bytes of an earlier stream that may come before the answer to an open
)

// ErrStream is the error for bytes of the other side that are not frames.
var ErrStream = errors.New("not the byte stream of the device link")

// ErrReset is the error of a stream after the other side has started over.
var ErrReset = errors.New("the other side restarted the link")

// Stream is a byte stream over a bulk pipe. It is a net.Conn, so that SSH runs
// over it; its deadlines end the whole stream.
type Stream struct {
	rw    io.ReadWriteCloser
	r     *bufio.Reader
	epoch uint64

	left int // of the data frame being read

	writing sync.Mutex
	buf     []byte

	once sync.Once
	dead chan struct{}
	errs error

	timing sync.Mutex
	timer  *time.Timer
}

// OpenStream opens a stream on the bench's side: it sends open with epoch, a number that was
// not used before, and drops everything until the device's answer to it: the rest of an earlier
// stream. More than 32 MB of that are an error.
func OpenStream(rw io.ReadWriteCloser, epoch uint64) (*Stream, error) {
	s := newStream(rw, epoch)
	if err := s.frame(frameOpen, openPayload(epoch)); err != nil {
		return nil, err
	}
	answer := append(header(frameOpen, openBytes), openPayload(epoch)...)
	for dropped := 0; dropped < mostStale; {
		if _, err := s.r.Peek(len(answer)); err != nil {
			return nil, fmt.Errorf("wait for the device to open the stream: %w", err)
		}
		have, _ := s.r.Peek(s.r.Buffered()) // what is buffered is there
		i := bytes.Index(have, answer)
		if i >= 0 {
			_, err := s.r.Discard(i + len(answer))
			return s, err
		}
		n, _ := s.r.Discard(len(have) - len(answer) + 1) // the rest may be its beginning
		dropped += n
	}
	return nil, fmt.Errorf("%w: the device has sent %d MB and not answered", ErrStream, mostStale>>20)
}

// AcceptStream waits on the device's side until the bench opens a stream, and answers. Frames
// of an earlier stream are skipped.
func AcceptStream(rw io.ReadWriteCloser) (*Stream, error) {
	s := newStream(rw, 0)
	for {
		kind, n, err := s.next()
		if err != nil {
			return nil, err
		}
		payload := make([]byte, n)
		if _, err := io.ReadFull(s.r, payload); err != nil {
			return nil, err
		}
		if kind != frameOpen {
			continue
		}
		if n != openBytes || binary.BigEndian.Uint16(payload) != streamVersion {
			return nil, fmt.Errorf("%w: version %d", ErrStream, binary.BigEndian.Uint16(append(payload, 0, 0)))
		}
		s.epoch = binary.BigEndian.Uint64(payload[2:])
		return s, s.frame(frameOpen, payload)
	}
}

func newStream(rw io.ReadWriteCloser, epoch uint64) *Stream {
	return &Stream{rw: rw, r: bufio.NewReaderSize(rw, 128<<10), epoch: epoch, dead: make(chan struct{})}
}

func openPayload(epoch uint64) []byte {
	return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint16(nil, streamVersion), epoch)
}

func header(kind byte, n int) []byte {
	return append(binary.BigEndian.AppendUint32(nil, uint32(n)), kind)
}

// next reads a frame's header.
func (s *Stream) next() (kind byte, n int, err error) {
	var h [frameHeader]byte
	if _, err := io.ReadFull(s.r, h[:]); err != nil {
		return 0, 0, err
	}
	length := binary.BigEndian.Uint32(h[:])
	if length > maxPayload {
		return 0, 0, fmt.Errorf("%w: a frame of %d bytes", ErrStream, length)
	}
	return h[4], int(length), nil
}

func (s *Stream) frame(kind byte, payload []byte) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	s.buf = append(append(s.buf[:0], header(kind, len(payload))...), payload...)
	_, err := s.rw.Write(s.buf)
	return err
}

// Read reads data of this stream.
func (s *Stream) Read(p []byte) (int, error) {
	for s.left == 0 {
		kind, n, err := s.next()
		if err != nil {
			return 0, s.fail(err)
		}
		switch kind {
		case frameData:
			s.left = n
		case frameClose:
			return 0, io.EOF
		case frameReset, frameOpen:
			return 0, ErrReset
		default: // a later version's: pass over
			if _, err := s.r.Discard(n); err != nil {
				return 0, s.fail(err)
			}
		}
	}
	n, err := s.r.Read(p[:min(len(p), s.left)])
	s.left -= n
	if err != nil {
		err = s.fail(err)
	}
	return n, err
}

// Write sends p in data frames.
func (s *Stream) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		// A frame and its header fill one transfer.
		k := min(len(p), transferBytes-frameHeader)
		if err := s.frame(frameData, p[:k]); err != nil {
			return n, s.fail(err)
		}
		p, n = p[k:], n+k
	}
	return n, nil
}

func (s *Stream) fail(err error) error {
	select {
	case <-s.dead:
		if s.errs != nil {
			return s.errs
		}
	default:
	}
	return err
}

// Close tells the other side and ends the stream and its pipe.
func (s *Stream) Close() error {
	s.end(net.ErrClosed)
	return nil
}

func (s *Stream) end(err error) {
	s.once.Do(func() {
		s.errs = err
		close(s.dead)
		s.SetDeadline(time.Time{}) //nolint:errcheck // returns none
		told := make(chan struct{})
		go func() {
			defer close(told)
			s.frame(frameClose, nil) //nolint:errcheck // it may be gone
		}()
		select {
		case <-told:
		case <-time.After(200 * time.Millisecond): // a wire that takes nothing
		}
		s.rw.Close()
	})
}

// SetDeadline ends the stream at time t; the zero time cancels that.
func (s *Stream) SetDeadline(t time.Time) error {
	s.timing.Lock()
	defer s.timing.Unlock()
	if s.timer != nil {
		s.timer.Stop()
		s.timer = nil
	}
	if !t.IsZero() {
		s.timer = time.AfterFunc(time.Until(t), func() { s.end(errDeadline) })
	}
	return nil
}

var errDeadline = errors.New("nothing arrived in time")

// SetReadDeadline is SetDeadline.
func (s *Stream) SetReadDeadline(t time.Time) error { return s.SetDeadline(t) }

// SetWriteDeadline is SetDeadline.
func (s *Stream) SetWriteDeadline(t time.Time) error { return s.SetDeadline(t) }

// LocalAddr names the stream.
func (s *Stream) LocalAddr() net.Addr { return address(s.epoch) }

// RemoteAddr names the stream.
func (s *Stream) RemoteAddr() net.Addr { return address(s.epoch) }

type address uint64

func (address) Network() string  { return "device link" }
func (a address) String() string { return fmt.Sprintf("epoch %d", uint64(a)) }

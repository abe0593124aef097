// Package rfb speaks the Remote Framebuffer protocol (RFC 6143), both sides:
// a server for one viewer on a [Source], and a viewer that takes a picture.
// Versions 3.8 and 3.3, no security of its own (it runs inside the link), raw
// encoding.
package rfb

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"sync"
)

// A Source is a screen. Its methods may be called from any goroutine.
type Source interface {
	// Frame returns the picture once it is newer than after, with its number. It
	// waits until there is one, or until ctx ends. The picture is not changed
	// later.
	Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error)
	// Pointer moves the pointer to x, y with the buttons that are down (bit 0:
	// the left one, a finger).
	Pointer(x, y int, buttons uint8)
	// Key presses or releases a key, an X11 keysym.
	Key(keysym uint32, down bool)
}

// ErrProtocol is returned when the other side does not speak RFB.
var ErrProtocol = errors.New("not RFB")

// Bounds on a screen's width and height, in pixels, and on both together.
const (
	maxSide   = 8192
	maxPixels = 16 << 20
)

// Client messages, RFC 6143 section 7.5.
const (
	msgSetPixelFormat = 0
	msgSetEncodings   = 2
	msgUpdateRequest  = 3
	msgKey            = 4
	msgPointer        = 5
	msgCutText        = 6
)

// pixelFormat is section 7.4.
type pixelFormat struct {
	Bits, Depth, BigEndian, TrueColour uint8
	RedMax, GreenMax, BlueMax          uint16
	RedShift, GreenShift, BlueShift    uint8
	_                                  [3]uint8
}

// native is the pixel format that a server offers: 32 bits, blue in the lowest.
var native = pixelFormat{Bits: 32, Depth: 24, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, RedShift: 16, GreenShift: 8}

func (f *pixelFormat) usable() error {
	switch {
	case f.Bits != 8 && f.Bits != 16 && f.Bits != 32:
		return fmt.Errorf("%w: pixels of %d bits", ErrProtocol, f.Bits)
	case f.TrueColour == 0:
		return fmt.Errorf("%w: colour maps are not supported", ErrProtocol)
	case f.RedShift > 31 || f.GreenShift > 31 || f.BlueShift > 31:
		return fmt.Errorf("%w: a colour shift over 31", ErrProtocol)
	}
	return nil
}

// Serve serves one viewer on rw, which it owns, until either side ends or ctx
// does. Requests for changes are held until something changes.
func Serve(ctx context.Context, rw io.ReadWriteCloser, src Source) error {
	ctx, cancel := context.WithCancel(ctx)
	defer rw.Close()
	v := &viewer{rw: rw, src: src, format: native, wake: make(chan struct{}, 1)}
	if err := v.greet(ctx); err != nil {
		cancel()
		return err
	}
	var sending sync.WaitGroup
	sending.Go(func() {
		v.send(ctx) //nolint:errcheck // the reader sees the end
		rw.Close()
	})
	err := v.read()
	cancel()
	sending.Wait()
	return err
}

type viewer struct {
	rw  io.ReadWriteCloser
	src Source

	wake chan struct{}

	mu     sync.Mutex
	format pixelFormat
	asked  bool // an update was requested and not sent
	whole  bool // and not only of what changed
}

func (v *viewer) greet(ctx context.Context) error {
	if _, err := io.WriteString(v.rw, "RFB 003.008\n"); err != nil {
		return err
	}
	var theirs [12]byte
	if _, err := io.ReadFull(v.rw, theirs[:]); err != nil {
		return err
	}
	switch string(theirs[:]) {
	case "RFB 003.003\n":
		if _, err := v.rw.Write([]byte{0, 0, 0, 1}); err != nil {
			return err
		}
	case "RFB 003.007\n", "RFB 003.008\n":
		if _, err := v.rw.Write([]byte{1, 1}); err != nil {
			return err
		}
		var choice [1]byte
		if _, err := io.ReadFull(v.rw, choice[:]); err != nil {
			return err
		}
		if choice[0] != 1 {
			return fmt.Errorf("%w: security type %d", ErrProtocol, choice[0])
		}
		if string(theirs[:]) == "RFB 003.008\n" {
			if _, err := v.rw.Write([]byte{0, 0, 0, 0}); err != nil {
				return err
			}
		}
	default:
		return fmt.Errorf("%w: version %q", ErrProtocol, theirs)
	}
	var shared [1]byte
	if _, err := io.ReadFull(v.rw, shared[:]); err != nil {
		return err
	}
	frame, _, err := v.src.Frame(ctx, 0)
	if err != nil {
		return err
	}
	const name = "device"
	b := binary.BigEndian.AppendUint16(nil, uint16(frame.Bounds().Dx()))
	b = binary.BigEndian.AppendUint16(b, uint16(frame.Bounds().Dy()))
	b, _ = binary.Append(b, binary.BigEndian, native)
	b = binary.BigEndian.AppendUint32(b, uint32(len(name)))
	_, err = v.rw.Write(append(b, name...))
	return err
}

func (v *viewer) read() error {
	for {
		var kind [1]byte
		if _, err := io.ReadFull(v.rw, kind[:]); err != nil {
			return err
		}
		if err := v.message(kind[0]); err != nil {
			return err
		}
	}
}

func (v *viewer) message(kind byte) error {
	be := binary.BigEndian
	switch kind {
	case msgSetPixelFormat:
		var m struct {
			_ [3]byte
			F pixelFormat
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		if err := m.F.usable(); err != nil {
			return err
		}
		v.mu.Lock()
		v.format = m.F
		v.mu.Unlock()
	case msgSetEncodings:
		var m struct {
			_ byte
			N uint16
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		_, err := io.CopyN(io.Discard, v.rw, 4*int64(m.N))
		return err
	case msgUpdateRequest:
		var m struct {
			Incremental uint8
			X, Y, W, H  uint16
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		v.mu.Lock()
		v.asked = true
		v.whole = v.whole || m.Incremental == 0
		v.mu.Unlock()
		select {
		case v.wake <- struct{}{}:
		default:
		}
	case msgKey:
		var m struct {
			Down uint8
			_    [2]byte
			Key  uint32
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		v.src.Key(m.Key, m.Down != 0)
	case msgPointer:
		var m struct {
			Buttons uint8
			X, Y    uint16
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		v.src.Pointer(int(m.X), int(m.Y), m.Buttons)
	case msgCutText:
		var m struct {
			_ [3]byte
			N uint32
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		if m.N > 1<<20 {
			return fmt.Errorf("%w: %d bytes of text", ErrProtocol, m.N)
		}
		_, err := io.CopyN(io.Discard, v.rw, int64(m.N))
		return err
	default:
		return fmt.Errorf("%w: message %d", ErrProtocol, kind)
	}
	return nil
}

// send answers each request with the whole picture once it has changed.
func (v *viewer) send(ctx context.Context) error {
	var sent uint64
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-v.wake:
		}
		v.mu.Lock()
		asked, after := v.asked, sent
		if v.whole {
			after = 0
		}
		v.asked, v.whole = false, false
		v.mu.Unlock()
		if !asked {
			continue
		}
		frame, number, err := v.src.Frame(ctx, after)
		if err != nil {
			return err
		}
		v.mu.Lock()
		format := v.format
		v.mu.Unlock()
		if _, err := v.rw.Write(update(frame, &format)); err != nil {
			return err
		}
		sent = number
	}
}

func update(frame *image.RGBA, f *pixelFormat) []byte {
	w, h := frame.Bounds().Dx(), frame.Bounds().Dy()
	b := make([]byte, 0, 16+w*h*4)
	b = append(b, 0, 0, 0, 1, 0, 0, 0, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(w))
	b = binary.BigEndian.AppendUint16(b, uint16(h))
	b = append(b, 0, 0, 0, 0)
	var order binary.AppendByteOrder = binary.LittleEndian
	if f.BigEndian != 0 {
		order = binary.BigEndian
	}
	for y := range h {
		row := frame.Pix[y*frame.Stride : y*frame.Stride+4*w]
		for x := 0; x < len(row); x += 4 {
			p := uint32(row[x])*uint32(f.RedMax)/255<<f.RedShift |
				uint32(row[x+1])*uint32(f.GreenMax)/255<<f.GreenShift |
				uint32(row[x+2])*uint32(f.BlueMax)/255<<f.BlueShift
			switch f.Bits {
			case 8:
				b = append(b, byte(p))
			case 16:
				b = order.AppendUint16(b, uint16(p))
			default:
				b = order.AppendUint32(b, p)
			}
		}
	}
	return b
}

// Package rfb speaks the Remote Framebuffer protocol (RFC 6143), both sides:
// a server for one viewer on a [Source], and a viewer that takes a picture.
// Versions 3.8 and 3.3, no security of its own (it runs inside the link); what has
// changed, in ZRLE where the viewer knows it, else raw; over a slow line what moves is coarser until it is still.
package rfb

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"slices"
	"sync"
	"time"
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

	wake    chan struct{}
	greeted time.Time // when the last of the greeting was sent, which the viewer answers at once

	mu      sync.Mutex
	format  pixelFormat
	asked   bool // an update was requested and not sent
	askedAt time.Time
	whole   bool // and not only of what changed
	zrle    bool // the viewer knows ZRLE
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
	case version33:
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
	v.greeted = time.Now()
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
		known := make([]int32, m.N)
		if err := binary.Read(v.rw, be, known); err != nil {
			return err
		}
		v.mu.Lock()
		v.zrle = slices.Contains(known, encodingZRLE)
		v.mu.Unlock()
	case msgUpdateRequest:
		var m struct {
			Incremental uint8
			X, Y, W, H  uint16
		}
		if err := binary.Read(v.rw, be, &m); err != nil {
			return err
		}
		v.mu.Lock()
		v.asked, v.askedAt = true, time.Now()
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
		if m.N > mostText {
			return fmt.Errorf("%w: %d bytes of text", ErrProtocol, m.N)
		}
		_, err := io.CopyN(io.Discard, v.rw, int64(m.N))
		return err
	default:
		return fmt.Errorf("%w: message %d", ErrProtocol, kind)
	}
	return nil
}

// send answers each request with what has changed, once something has. What changed meanwhile is not sent: a slow line
// gets fewer pictures, coarser ones, and none that is out of date. What is coarse is sent as it is once nothing changes.
func (v *viewer) send(ctx context.Context) error {
	var sent uint64
	var last, shown *image.RGBA // the picture that was sent, and what of it the viewer shows; the same unless that is coarse
	var z *zrle
	var l line
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-v.wake:
		}
		v.mu.Lock()
		asked, at, after := v.asked, v.askedAt, sent
		if v.whole {
			after, last = 0, nil
		}
		v.asked, v.whole = false, false
		v.mu.Unlock()
		if !asked {
			continue
		}
		if last == nil && sent == 0 {
			l.least = at.Sub(v.greeted)
		}
		l.arrived(at)
		frame, parts, number, err := v.next(ctx, after, last, shown)
		if err != nil {
			return err
		}
		v.mu.Lock()
		format, short := v.format, v.zrle
		v.mu.Unlock()
		level := l.level
		if frame == last || last == nil || !short { // it is made finer, is the first one, or would not become shorter
			level = 0
		}
		switch {
		case last == nil || level == 0 && shown == last && frame != last:
			shown = frame
		default:
			if shown = repainted(shown, frame, parts, level); level == 0 && len(changed(frame, shown)) == 0 {
				shown = frame
			}
		}
		if short && z == nil {
			z = newZRLE()
		}
		message, err := update(shown, parts, &format, z, short)
		if err == nil {
			l.began = time.Now()
			_, err = v.rw.Write(message)
		}
		if err != nil {
			return err
		}
		sent, last = number, frame
	}
}

// next waits for a picture that differs from the one before, and returns where. While what is shown is coarse and nothing
// changes, it is the same picture, with parts that are to be made finer.
func (v *viewer) next(ctx context.Context, after uint64, last, shown *image.RGBA) (*image.RGBA, []image.Rectangle, uint64, error) {
	waiting, cancel := ctx, context.CancelFunc(func() {})
	if last != nil && shown != last {
		waiting, cancel = context.WithTimeout(ctx, stillFor)
	}
	defer cancel()
	for {
		frame, number, err := v.src.Frame(waiting, after)
		if waiting.Err() != nil && ctx.Err() == nil {
			parts := changed(last, shown)
			return last, parts[:min(len(parts), mostFiner)], after, nil
		}
		if err != nil {
			return nil, nil, 0, err
		}
		if parts := changed(frame, last); len(parts) > 0 {
			return frame, parts, number, nil
		}
		after = number
	}
}

// update is a FramebufferUpdate (section 7.6.1) with the given parts of a picture.
func update(frame *image.RGBA, parts []image.Rectangle, f *pixelFormat, z *zrle, short bool) (b []byte, err error) {
	b = append(b, 0, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(len(parts)))
	for _, r := range parts {
		for _, n := range []int{r.Min.X, r.Min.Y, r.Dx(), r.Dy()} {
			b = binary.BigEndian.AppendUint16(b, uint16(n))
		}
		if short {
			b = binary.BigEndian.AppendUint32(b, encodingZRLE)
			if b, err = z.rectangle(b, frame, r, f); err != nil {
				return nil, err
			}
			continue
		}
		b = binary.BigEndian.AppendUint32(b, encodingRaw)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			row := frame.Pix[frame.PixOffset(r.Min.X, y):]
			for x := range r.Dx() {
				b = f.append(b, f.pixel(row[4*x:4*x+3]))
			}
		}
	}
	return b, nil
}

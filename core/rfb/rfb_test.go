package rfb_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"image"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/rfb"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// screen is a source of one colour, which can be changed.
type screen struct {
	mu      sync.Mutex
	rev     uint64
	shade   byte
	changed chan struct{}
	taps    chan [3]int
	keys    chan uint32
}

func newScreen() *screen {
	return &screen{rev: 1, shade: 0x40, changed: make(chan struct{}), taps: make(chan [3]int, 9), keys: make(chan uint32, 9)}
}

func (s *screen) Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error) {
	for {
		s.mu.Lock()
		rev, shade, changed := s.rev, s.shade, s.changed
		s.mu.Unlock()
		if rev > after {
			img := image.NewRGBA(image.Rect(0, 0, 4, 3))
			copy(img.Pix, bytes.Repeat([]byte{shade, 0x80, 0xff, 0xff}, 12))
			return img, rev, nil
		}
		select {
		case <-ctx.Done():
			return nil, 0, ctx.Err()
		case <-changed:
		}
	}
}

func (s *screen) set(shade byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rev++
	s.shade = shade
	close(s.changed)
	s.changed = make(chan struct{})
}

func (s *screen) Pointer(x, y int, buttons uint8) { s.taps <- [3]int{x, y, int(buttons)} }
func (s *screen) Key(k uint32, _ bool)            { s.keys <- k }

func serve(t *testing.T, s *screen) net.Conn {
	t.Helper()
	a, b := net.Pipe()
	done := make(chan struct{})
	go func() { defer close(done); rfb.Serve(t.Context(), a, s) }()
	t.Cleanup(func() { b.Close(); <-done })
	b.SetDeadline(time.Now().Add(10 * time.Second))
	return b
}

func TestAPictureIsTheScreensPixels(t *testing.T) {
	s := newScreen()
	img, err := rfb.Picture(serve(t, s))
	require.NoError(t, err)
	want, _, _ := s.Frame(t.Context(), 0)
	require.Equal(t, want, img)
}

// greet speaks version 3.3 as an old viewer does (RFC 6143, 7.1.1 and the
// protocol of 1998): the server decides the security, and says no result.
func greet(t *testing.T, c net.Conn) {
	t.Helper()
	version := make([]byte, 12)
	_, err := io.ReadFull(c, version)
	require.NoError(t, err)
	require.Equal(t, "RFB 003.008\n", string(version))
	c.Write([]byte("RFB 003.003\n"))
	security := make([]byte, 4)
	_, err = io.ReadFull(c, security)
	require.NoError(t, err)
	require.Equal(t, []byte{0, 0, 0, 1}, security)
	c.Write([]byte{1})
	init := make([]byte, 24+len("device"))
	_, err = io.ReadFull(c, init)
	require.NoError(t, err)
	require.Equal(t, []byte{0, 4, 0, 3}, init[:4])
}

func request(incremental byte) []byte { return []byte{3, incremental, 0, 0, 0, 0, 0, 4, 0, 3} }

func read(t *testing.T, c net.Conn, perPixel int) []byte {
	t.Helper()
	b := make([]byte, 16+12*perPixel)
	_, err := io.ReadFull(c, b)
	require.NoError(t, err)
	return b[16:]
}

func TestARequestForChangesWaitsUntilSomethingChanges(t *testing.T) {
	s := newScreen()
	c := serve(t, s)
	greet(t, c)
	c.Write(request(0))
	require.Equal(t, []byte{0xff, 0x80, 0x40, 0}, read(t, c, 4)[:4])
	c.Write(request(1))
	c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	_, err := c.Read(make([]byte, 1))
	require.Error(t, err, "nothing has changed")
	c.SetReadDeadline(time.Now().Add(10 * time.Second))
	s.set(0x41)
	require.Equal(t, []byte{0xff, 0x80, 0x41, 0}, read(t, c, 4)[:4])
}

func TestPixelsComeInTheFormatThatTheViewerAsksFor(t *testing.T) {
	c := serve(t, newScreen())
	greet(t, c)
	// 16 bits, big-endian, 5-6-5.
	c.Write([]byte{0, 0, 0, 0, 16, 16, 1, 1, 0, 31, 0, 63, 0, 31, 11, 5, 0, 0, 0, 0})
	c.Write(request(0))
	got := binary.BigEndian.Uint16(read(t, c, 2))
	require.Equal(t, uint16(0x40*31/255)<<11|uint16(0x80*63/255)<<5|31, got)
}

func TestTouchesAndKeysReachTheScreen(t *testing.T) {
	s := newScreen()
	c := serve(t, s)
	greet(t, c)
	c.Write([]byte{5, 1, 0, 2, 0, 1})
	c.Write([]byte{4, 1, 0, 0, 0, 0, 0, 0x61})
	c.Write([]byte{6, 0, 0, 0, 0, 0, 0, 2, 'h', 'i'})
	c.Write([]byte{2, 0, 0, 1, 0, 0, 0, 0})
	c.Write([]byte{5, 0, 0, 3, 0, 2})
	require.Equal(t, [3]int{2, 1, 1}, <-s.taps)
	require.Equal(t, uint32(0x61), <-s.keys)
	require.Equal(t, [3]int{3, 2, 0}, <-s.taps)
}

func FuzzPicture(f *testing.F) {
	f.Add([]byte("RFB 003.008\n\x01\x01\x00\x00\x00\x00\x00\x02\x00\x01" + string(make([]byte, 20)) + "\x00\x00\x00\x01\x00\x00\x00\x00\x00\x02\x00\x01\x00\x00\x00\x00abcdefgh"))
	f.Add([]byte("RFB 003.008\n\x01\x01\x00\x00\x00\x00\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, in []byte) {
		rfb.Picture(struct {
			io.Reader
			io.Writer
		}{bytes.NewReader(in), io.Discard})
	})
}

func FuzzServe(f *testing.F) {
	greeting := "RFB 003.008\n\x01\x01"
	f.Add([]byte(greeting))
	f.Add([]byte(greeting + "\x05\x01\x00\x02\x00\x01" + "\x04\x01\x00\x00\x00\x00\x00\x61"))
	f.Add([]byte(greeting + "\x02\x00\xff\xff" + "\x06\x00\x00\x00\xff\xff\xff\xff"))
	f.Add([]byte(greeting + "\x03\x00\x00\x00\x00\x00\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, in []byte) {
		ctx, end := context.WithTimeout(t.Context(), 5*time.Second)
		defer end()
		rfb.Serve(ctx, struct {
			io.Reader
			io.Writer
			io.Closer
		}{bytes.NewReader(in), io.Discard, io.NopCloser(nil)}, still{})
		if ctx.Err() != nil {
			t.Fatal("it has not ended, although the viewer has")
		}
	})
}

// still is a screen on which nothing ever changes.
type still struct{}

func (still) Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error) {
	if after == 0 {
		return image.NewRGBA(image.Rect(0, 0, 4, 4)), 1, nil
	}
	<-ctx.Done()
	return nil, 0, ctx.Err()
}
func (still) Pointer(int, int, uint8) {}
func (still) Key(uint32, bool)        {}

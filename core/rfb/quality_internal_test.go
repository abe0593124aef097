package rfb

import (
	"context"
	"encoding/binary"
	"image"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// moving is a screen whose picture can be changed.
type moving struct {
	mu    sync.Mutex
	frame *image.RGBA
	n     uint64
	next  chan struct{}
}

func (m *moving) set(frame *image.RGBA) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.frame, m.n = frame, m.n+1
	if m.next != nil {
		close(m.next)
	}
	m.next = make(chan struct{})
}

func (m *moving) Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error) {
	for {
		m.mu.Lock()
		frame, n, next := m.frame, m.n, m.next
		m.mu.Unlock()
		if n > after {
			return frame, n, nil
		}
		select {
		case <-ctx.Done():
			return nil, 0, ctx.Err()
		case <-next:
		}
	}
}

func (*moving) Pointer(int, int, uint8) {}
func (*moving) Key(uint32, bool)        {}

// slope is a picture of colours that go over into each other, which is long in ZRLE. It moves with at.
func slope(w, h, at int) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			copy(img.Pix[img.PixOffset(x, y):], []byte{byte(x + at), byte(y + 3*at), byte((x + y) / 2), 255})
		}
	}
	return img
}

// narrow is a connection that carries so many bytes in a second to its reader; 0 for as fast as it goes.
type narrow struct {
	io.ReadWriteCloser
	rate int
	in   int // bytes that have come
}

func (n *narrow) Read(p []byte) (int, error) {
	got, err := n.ReadWriteCloser.Read(p[:min(len(p), 4096)])
	n.in += got
	if n.rate > 0 {
		time.Sleep(time.Duration(got) * time.Second / time.Duration(n.rate))
	}
	return got, err
}

const slopeWide, slopeHigh = 320, 256

// watch is a viewer that takes pictures for a time; then nothing changes any more until it shows the last one. It returns how
// many pictures it took while they changed.
func watch(t *testing.T, rate int, long time.Duration) (v *viewed, pictures, came int) {
	t.Helper()
	src := &moving{}
	src.set(slope(slopeWide, slopeHigh, 0))
	a, b := net.Pipe()
	done := make(chan struct{})
	go func() { defer close(done); Serve(t.Context(), a, src) }()
	line := &narrow{ReadWriteCloser: b, rate: rate}
	defer func() { b.Close(); <-done }()
	send := func(bytes ...byte) { _, err := b.Write(bytes); require.NoError(t, err) }
	get := func(n int) []byte {
		out := make([]byte, n)
		_, err := io.ReadFull(line, out)
		require.NoError(t, err)
		return out
	}
	get(12)
	send([]byte("RFB 003.008\n")...)
	get(2)
	send(1)
	get(4)
	send(1)
	get(24 + 6)
	send(2, 0, 0, 1, 0, 0, 0, 16)
	request := func(again byte) {
		send(append([]byte{3, again, 0, 0, 0, 0}, byte(slopeWide>>8), byte(slopeWide&255), byte(slopeHigh>>8), byte(slopeHigh&255))...)
	}
	v = &viewed{t: t, f: native, width: slopeWide, pixels: make([]uint32, slopeWide*slopeHigh)}
	take := func() {
		message := get(4)
		for range binary.BigEndian.Uint16(message[2:]) {
			head := get(16)
			message = append(append(message, head...), get(int(binary.BigEndian.Uint32(head[12:])))...)
		}
		v.take(message)
	}
	request(0)
	take()
	began, last := time.Now(), slope(slopeWide, slopeHigh, 0)
	for at := 1; time.Since(began) < long; at++ {
		last = slope(slopeWide, slopeHigh, at)
		src.set(last)
		request(1)
		take()
		pictures++
	}
	came = line.in
	for deadline := time.Now().Add(20 * time.Second); !v.shows(last); { // it becomes exact
		require.True(t, time.Now().Before(deadline), "it stays coarse")
		request(1)
		take()
	}
	return v, pictures, came
}

// shows reports whether it shows a picture as it is.
func (v *viewed) shows(frame *image.RGBA) bool {
	for i, p := range v.pixels {
		if p != native.pixel(frame.Pix[4*i:4*i+3]) {
			return false
		}
	}
	return true
}

func TestASlowLineGetsCoarserPicturesAndTheLastOneAsItIs(t *testing.T) {
	const rate = 250_000 // bytes in a second: 2 Mbit/s
	_, pictures, came := watch(t, rate, 2*time.Second)
	exact := len(mustUpdate(t, slope(slopeWide, slopeHigh, 7)))
	t.Logf("%d pictures in 2 s, %d bytes each; as they are they have %d bytes, so that %.1f would come", pictures, came/pictures, exact, 2*float64(rate)/float64(exact))
	require.Greater(t, float64(pictures), 1.5*2*float64(rate)/float64(exact), "more come than if all were exact")
}

func TestAFastLineGetsPicturesAsTheyAre(t *testing.T) {
	src := &moving{}
	src.set(slope(slopeWide, slopeHigh, 0))
	var l line
	for range 20 {
		l.began = time.Now().Add(-20 * time.Millisecond)
		l.arrived(time.Now())
	}
	require.Zero(t, l.level)
	_, pictures, _ := watch(t, 0, 500*time.Millisecond)
	require.Positive(t, pictures)
}

// The way there and back alone makes no picture coarse.
func TestALongWayIsNoSlowLine(t *testing.T) {
	var l line
	now := time.Now()
	for range 50 {
		l.began = now
		now = now.Add(420 * time.Millisecond)
		l.arrived(now)
		require.Zero(t, l.level)
	}
	for i, took := range []time.Duration{700, 900, 1200, 1200} { // it has become slow
		l.began = now
		now = now.Add(took * time.Millisecond)
		l.arrived(now)
		require.Equal(t, min(i+1, len(coarse)-1), l.level)
	}
	for range 10 { // and fast again
		l.began = now
		now = now.Add(425 * time.Millisecond)
		l.arrived(now)
	}
	require.Zero(t, l.level)
}

func TestTheDarkestAndTheLightestStayAsTheyAre(t *testing.T) {
	for level, s := range shades {
		require.Zero(t, s[0], level)
		require.EqualValues(t, 255, s[255], level)
		for v := range s[1:] {
			require.GreaterOrEqual(t, s[v+1], s[v], "no colour changes its place")
		}
	}
}

func mustUpdate(t *testing.T, frame *image.RGBA) []byte {
	t.Helper()
	b, err := update(frame, []image.Rectangle{frame.Bounds()}, &native, newZRLE(), true)
	require.NoError(t, err)
	return b
}

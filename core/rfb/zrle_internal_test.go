package rfb

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"image"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// viewed is what a viewer sees that reads ZRLE as RFC 6143, section 7.7.6 describes it; values of pixels, not colours.
type viewed struct {
	t      *testing.T
	f      pixelFormat
	width  int
	pixels []uint32
	in     bytes.Buffer // of the zlib stream
	stream io.Reader
}

func (v *viewed) take(message []byte) {
	v.t.Helper()
	be := binary.BigEndian
	require.Equal(v.t, []byte{0, 0}, message[:2])
	count := be.Uint16(message[2:])
	message = message[4:]
	for range count {
		x, y, w, h := int(be.Uint16(message)), int(be.Uint16(message[2:])), int(be.Uint16(message[4:])), int(be.Uint16(message[6:]))
		require.EqualValues(v.t, 16, be.Uint32(message[8:]))
		n := be.Uint32(message[12:])
		v.in.Write(message[16 : 16+n])
		message = message[16+n:]
		if v.stream == nil {
			var err error
			v.stream, err = zlib.NewReader(&v.in)
			require.NoError(v.t, err)
		}
		for ty := y; ty < y+h; ty += 64 {
			for tx := x; tx < x+w; tx += 64 {
				v.tile(tx, ty, min(64, x+w-tx), min(64, y+h-ty))
			}
		}
	}
	require.Empty(v.t, message)
}

func (v *viewed) bytes(n int) []byte {
	v.t.Helper()
	b := make([]byte, n)
	_, err := io.ReadFull(v.stream, b)
	require.NoError(v.t, err)
	return b
}

func (v *viewed) compact() uint32 {
	b := v.bytes(v.f.compact())
	switch len(b) {
	case 1:
		return uint32(b[0])
	case 2:
		if v.f.BigEndian != 0 {
			return uint32(binary.BigEndian.Uint16(b))
		}
		return uint32(binary.LittleEndian.Uint16(b))
	case 4:
		if v.f.BigEndian != 0 {
			return binary.BigEndian.Uint32(b)
		}
		return binary.LittleEndian.Uint32(b)
	}
	p := uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16
	if v.f.BigEndian != 0 {
		p = uint32(b[2]) | uint32(b[1])<<8 | uint32(b[0])<<16
	}
	if v.f.mask()&0xff000000 != 0 {
		p <<= 8
	}
	return p
}

func (v *viewed) tile(x, y, w, h int) {
	v.t.Helper()
	put := func(i int, p uint32) { v.pixels[(y+i/w)*v.width+x+i%w] = p }
	kind := int(v.bytes(1)[0])
	switch {
	case kind == 0:
		for i := range w * h {
			put(i, v.compact())
		}
	case kind == 1:
		p := v.compact()
		for i := range w * h {
			put(i, p)
		}
	case kind <= 16:
		var palette []uint32
		for range kind {
			palette = append(palette, v.compact())
		}
		bits := 4
		if kind == 2 {
			bits = 1
		} else if kind <= 4 {
			bits = 2
		}
		for row := range h {
			packed := v.bytes((w*bits + 7) / 8)
			for i := range w {
				put(row*w+i, palette[packed[i*bits/8]>>(8-bits-i*bits%8)&(1<<bits-1)])
			}
		}
	case kind == 128:
		for i := 0; i < w*h; {
			p, length := v.compact(), 1
			for {
				b := v.bytes(1)[0]
				length += int(b)
				if b != 255 {
					break
				}
			}
			for range length {
				put(i, p)
				i++
			}
		}
	default:
		require.Fail(v.t, "a kind of tile that is not written", "%d", kind)
	}
}

// painted is a picture of parts that are solid, of few colours, of long runs, and of noise.
func painted(w, h int) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	kind := func(x, y int) int { return (x/64 + y/64*7) % 5 }
	for y := range h {
		for x := range w {
			var c uint32
			switch kind(x, y) {
			case 0:
				c = 0x204060
			case 1:
				c = uint32(x/3%2) * 0xffffff
			case 2:
				c = uint32(x%13) * 0x0a1511
			case 3:
				c = uint32(y*w+x) / 300 * 0x010203
			default:
				c = rand.Uint32()
			}
			copy(img.Pix[img.PixOffset(x, y):], []byte{byte(c >> 16), byte(c >> 8), byte(c), 255})
		}
	}
	return img
}

func TestAViewerThatKnowsZRLESeesThePictureWhateverItsPixels(t *testing.T) {
	for name, f := range map[string]pixelFormat{
		"native":                 native,
		"red lowest":             {Bits: 32, Depth: 24, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, GreenShift: 8, BlueShift: 16},
		"big endian":             {Bits: 32, Depth: 24, BigEndian: 1, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, RedShift: 16, GreenShift: 8},
		"in the highest bytes":   {Bits: 32, Depth: 24, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, RedShift: 24, GreenShift: 16, BlueShift: 8},
		"highest, big endian":    {Bits: 32, Depth: 24, BigEndian: 1, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, RedShift: 24, GreenShift: 16, BlueShift: 8},
		"of 32 bits in all":      {Bits: 32, Depth: 32, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, RedShift: 16, GreenShift: 8},
		"of 16 bits":             {Bits: 16, Depth: 16, TrueColour: 1, RedMax: 31, GreenMax: 63, BlueMax: 31, RedShift: 11, GreenShift: 5},
		"of 16 bits, big endian": {Bits: 16, Depth: 16, BigEndian: 1, TrueColour: 1, RedMax: 31, GreenMax: 63, BlueMax: 31, RedShift: 11, GreenShift: 5},
		"of 8 bits":              {Bits: 8, Depth: 8, TrueColour: 1, RedMax: 7, GreenMax: 7, BlueMax: 3, GreenShift: 3, BlueShift: 6},
	} {
		t.Run(name, func(t *testing.T) {
			const w, h = 333, 201 // no whole tiles at the edges
			v := &viewed{t: t, f: f, width: w, pixels: make([]uint32, w*h)}
			z := newZRLE()
			var before *image.RGBA
			for range 3 {
				frame := painted(w, h)
				if before != nil { // only one part of it is another one
					noise := frame
					frame = image.NewRGBA(before.Bounds())
					copy(frame.Pix, before.Pix)
					for y := 70; y < 90; y++ {
						copy(frame.Pix[frame.PixOffset(100, y):frame.PixOffset(300, y)], noise.Pix[noise.PixOffset(100, y):])
					}
				}
				parts := changed(frame, before)
				message, err := update(frame, parts, &f, z, true)
				require.NoError(t, err)
				v.take(message)
				for y := range h {
					for x := range w {
						o := frame.PixOffset(x, y)
						require.Equal(t, f.pixel(frame.Pix[o:o+3]), v.pixels[y*w+x], "at %d, %d", x, y)
					}
				}
				before = frame
			}
		})
	}
}

func TestOnlyWhatHasChangedIsSent(t *testing.T) {
	frame := painted(640, 400)
	require.Equal(t, []image.Rectangle{frame.Bounds()}, changed(frame, nil))
	require.Empty(t, changed(frame, frame))
	next := image.NewRGBA(frame.Bounds())
	copy(next.Pix, frame.Pix)
	for _, at := range []image.Point{{10, 10}, {100, 10}, {600, 399}} {
		next.Pix[next.PixOffset(at.X, at.Y)] ^= 0xff
	}
	require.Equal(t, []image.Rectangle{image.Rect(0, 0, 128, 64), image.Rect(576, 384, 640, 400)}, changed(next, frame))
	smaller := painted(320, 400)
	require.Equal(t, []image.Rectangle{smaller.Bounds()}, changed(smaller, frame), "of another size it is another picture")
}

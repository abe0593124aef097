package rfb

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"image"
)

// Encodings, RFC 6143 section 7.7.
const (
	encodingRaw  = 0
	encodingZRLE = 16
)

// tileSide is the side of a tile of ZRLE, in pixels, and of the parts of a picture that are compared.
const tileSide = 64

// zrle writes rectangles in ZRLE (RFC 6143, section 7.7.6): one zlib stream for a viewer.
type zrle struct {
	out    bytes.Buffer
	stream *zlib.Writer
	plain  []byte
}

func newZRLE() *zrle {
	z := &zrle{}
	z.stream, _ = zlib.NewWriterLevel(&z.out, zlib.BestSpeed) // the level is a good one
	return z
}

// rectangle appends a rectangle of a picture, with its length before it.
func (z *zrle) rectangle(to []byte, frame *image.RGBA, r image.Rectangle, f *pixelFormat) ([]byte, error) {
	z.plain = z.plain[:0]
	for y := r.Min.Y; y < r.Max.Y; y += tileSide {
		for x := r.Min.X; x < r.Max.X; x += tileSide {
			z.plain = appendTile(z.plain, frame, image.Rect(x, y, min(x+tileSide, r.Max.X), min(y+tileSide, r.Max.Y)), f)
		}
	}
	z.out.Reset()
	if _, err := z.stream.Write(z.plain); err != nil {
		return nil, err
	}
	if err := z.stream.Flush(); err != nil {
		return nil, err
	}
	to = binary.BigEndian.AppendUint32(to, uint32(z.out.Len()))
	return append(to, z.out.Bytes()...), nil
}

// mostPalette is how many colours a packed palette may have.
const mostPalette = 16

// Kinds of tiles: 2 to 16 means a packed palette with that number of colours.
const (
	tileRaw   = 0
	tileSolid = 1
	tileRuns  = 128
)

// appendTile appends a tile in the shortest of four ways.
func appendTile(b []byte, frame *image.RGBA, r image.Rectangle, f *pixelFormat) []byte {
	var pixels [tileSide * tileSide]uint32
	n := 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		row := frame.Pix[frame.PixOffset(r.Min.X, y):]
		for x := range r.Dx() {
			pixels[n] = f.pixel(row[4*x : 4*x+3])
			n++
		}
	}
	tile := pixels[:n]
	palette, runs := colours(tile)
	switch {
	case len(palette) == 1:
		return f.appendCompact(append(b, tileSolid), tile[0])
	case len(palette) <= mostPalette:
		return f.appendPacked(b, tile, r.Dx(), palette)
	case runs*(f.compact()+1) < n*f.compact():
		b = append(b, tileRuns)
		for i := 0; i < n; {
			length := 1
			for i+length < n && tile[i+length] == tile[i] {
				length++
			}
			b = f.appendCompact(b, tile[i])
			i += length
			for length--; length >= 255; length -= 255 {
				b = append(b, 255)
			}
			b = append(b, byte(length))
		}
		return b
	}
	b = append(b, tileRaw)
	for _, p := range tile {
		b = f.appendCompact(b, p)
	}
	return b
}

// colours returns the colours of a tile in the order in which they come, or one more than a palette may have, and how many
// runs of one colour there are.
func colours(tile []uint32) (palette []uint32, runs int) {
	var last uint32
	for i, p := range tile {
		if i > 0 && p == last {
			continue
		}
		last = p
		runs++
		if len(palette) <= mostPalette && index(palette, p) < 0 {
			palette = append(palette, p)
		}
	}
	return palette, runs
}

func index(palette []uint32, p uint32) int {
	for i, c := range palette {
		if c == p {
			return i
		}
	}
	return -1
}

// appendPacked appends a tile with a palette. Each row begins with a byte of its own.
func (f *pixelFormat) appendPacked(b []byte, tile []uint32, width int, palette []uint32) []byte {
	b = append(b, byte(len(palette)))
	for _, c := range palette {
		b = f.appendCompact(b, c)
	}
	bits := 4
	switch {
	case len(palette) == 2:
		bits = 1
	case len(palette) <= 4:
		bits = 2
	}
	for ; len(tile) > 0; tile = tile[width:] {
		var now byte
		used := 0
		for _, p := range tile[:width] {
			now = now<<bits | byte(index(palette, p))
			if used += bits; used == 8 {
				b, now, used = append(b, now), 0, 0
			}
		}
		if used > 0 {
			b = append(b, now<<(8-used))
		}
	}
	return b
}

// changed are the parts of a picture that differ from an earlier one, as rectangles of tiles that lie side by side.
func changed(frame, before *image.RGBA) []image.Rectangle {
	whole := frame.Bounds()
	if before == nil || before.Bounds() != whole {
		return []image.Rectangle{whole}
	}
	var out []image.Rectangle
	for y := whole.Min.Y; y < whole.Max.Y; y += tileSide {
		open := -1 // the rectangle that goes on
		for x := whole.Min.X; x < whole.Max.X; x += tileSide {
			r := image.Rect(x, y, min(x+tileSide, whole.Max.X), min(y+tileSide, whole.Max.Y))
			switch {
			case same(frame, before, r):
				open = -1
			case open >= 0:
				out[open].Max.X = r.Max.X
			default:
				open = len(out)
				out = append(out, r)
			}
		}
	}
	return out
}

func same(a, b *image.RGBA, r image.Rectangle) bool {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		from, to := a.PixOffset(r.Min.X, y), a.PixOffset(r.Max.X-1, y)+4
		other := b.PixOffset(r.Min.X, y)
		if !bytes.Equal(a.Pix[from:to], b.Pix[other:other+to-from]) {
			return false
		}
	}
	return true
}

package rfb

import (
	"image"
	"time"
)

// line measures how long pictures take to reach a viewer, and chooses how coarse their colours are. The zero value sends them
// unchanged.
type line struct {
	level int           // into coarse; 0 for exact
	least time.Duration // that a picture took: the way there and back
	began time.Time     // when the picture that is on its way was begun; zero for none
}

// coarse is by how many bits each colour is reduced, by level.
var coarse = [...]int{0, 3, 4, 5}

// A picture may take this long beyond the round trip; after one that takes less than fast, the next is more exact.
const (
	slow = 150 * time.Millisecond
	fast = 40 * time.Millisecond
	// stillFor is how long nothing must have changed before coarse parts are sent exactly.
	stillFor = 300 * time.Millisecond
	// mostFiner is how many rows of tiles are then sent at once, so that new changes do not wait for long.
	mostFiner = 3
)

// arrived notes that the viewer has received the last picture, since it has asked for the next one.
func (l *line) arrived(at time.Time) {
	if l.began.IsZero() {
		return
	}
	took := at.Sub(l.began)
	l.began = time.Time{}
	if l.least == 0 || took < l.least {
		l.least = took
	}
	switch carried := took - l.least; {
	case carried > slow && l.level < len(coarse)-1:
		l.level++
	case carried < fast && l.level > 0:
		l.level--
	}
	l.least += (took - l.least) / 512 // the route may have become longer
}

// shades are the values that a colour is rounded to, by level; the darkest and the lightest stay.
var shades = func() (out [len(coarse)][256]byte) {
	for level, bits := range coarse {
		for v := range 256 {
			out[level][v] = byte(v >> bits * 255 / (255 >> bits))
		}
	}
	return out
}()

// repainted is a picture with the given parts of another one, coarse by a level. The picture itself is not changed.
func repainted(on, from *image.RGBA, parts []image.Rectangle, level int) *image.RGBA {
	out := &image.RGBA{Pix: append([]byte(nil), on.Pix...), Stride: on.Stride, Rect: on.Rect}
	shade := &shades[level]
	for _, r := range parts {
		for y := r.Min.Y; y < r.Max.Y; y++ {
			to, row := out.Pix[out.PixOffset(r.Min.X, y):], from.Pix[from.PixOffset(r.Min.X, y):]
			for i := range 4 * r.Dx() {
				to[i] = shade[row[i]]
			}
		}
	}
	return out
}

package body

import (
	"image"
	"image/color"
	"math"
	"strings"

	"github.com/fogleman/gg"
)

// style is one manner of laying out and drawing screens. A family's data picks
// one and its hue.
type style interface {
	size() image.Point
	// tabbed reports whether the first-level pages show all the time.
	tabbed() bool
	// place sets the position of everything that can be touched.
	place(*scene)
	// scroll returns the page's new offset after a finger moved by that much.
	scroll(s *scene, way image.Point) int
	// canvas is where an app draws.
	canvas() image.Rectangle
	draw(*painter, *scene)
}

// styles are the known ones, by name.
var styles = map[string]func(form string, l Look) style{
	"water":  func(form string, l Look) style { return water{sizes[form], l.Hue} },
	"inn":    func(form string, l Look) style { return inn{sizes[form], l.Hue} },
	"plate":  func(string, Look) style { return plate{} },
	"candle": func(string, Look) style { return candle{} },
}

// sizes are the forms' screens, in points.
var sizes = map[string]image.Point{"phone": {276, 550}, "tablet": {324, 432}, "keys": {232, 352}, "round": {258, 258}}

// draw draws the whole screen. The lock is held.
func (b *Body) draw() *image.RGBA {
	s := b.layout()
	size := b.style.size()
	p := &painter{Context: gg.NewContext(size.X*Scale, size.Y*Scale), w: float64(size.X), h: float64(size.Y)}
	b.style.draw(p, s)
	if s.app != nil {
		b.drawApp(p, s)
	}
	return p.Image().(*image.RGBA)
}

// drawApp scales what an app draws, on an area of 276 by 452 points, to where
// it is shown.
func (b *Body) drawApp(p *painter, s *scene) {
	area := b.style.canvas()
	scale := min(float64(area.Dx())/canvasWidth, float64(area.Dy())/canvasHeight)
	inner := &painter{Context: gg.NewContext(area.Dx()*Scale, area.Dy()*Scale), w: float64(area.Dx()), h: float64(area.Dy())}
	inner.Scale(scale, scale)
	inner.zoom = scale
	s.app.canvas.paint(inner)
	p.DrawImage(inner.Image(), area.Min.X*Scale, area.Min.Y*Scale)
}

// gridKeys lays out lines of keys in an area; each line fills the whole width.
func gridKeys(keys [][]Element, area image.Rectangle, gap int) {
	if len(keys) == 0 {
		return
	}
	h := (area.Dy() + gap) / len(keys)
	for i, line := range keys {
		widest := max(len(line), 1)
		if len(line) > 4 { // letters keep one width
			widest = 10
		}
		w := (area.Dx() + gap) / widest
		left := area.Min.X + (area.Dx()+gap-w*len(line))/2
		for j := range line {
			x, y := left+j*w, area.Min.Y+i*h
			line[j].Rect = image.Rect(x, y, x+w-gap, y+h-gap)
		}
	}
}

// keyText is the label of a key.
func keyText(e Element) string {
	if e.Value != "" {
		return e.Value
	}
	return e.Text
}

// hidden is what a secret looks like while it is entered.
func hidden(s *scene) string {
	if s.hide {
		return strings.Repeat("•", len(s.typed))
	}
	return s.typed
}

// drawKeys draws keys of one look.
func drawKeys(p *painter, keys [][]Element, face, ink color.Color, size, radius float64) {
	for _, line := range keys {
		for _, e := range line {
			p.rect(face, e.Rect, radius)
			p.centred("medium", size, ink, keyText(e), e.Rect)
		}
	}
}

// drawDial draws a round face of twelve marks with its two hands.
func drawDial(p *painter, s *scene, c image.Point, radius float64, quiet, bright color.Color) {
	x, y := float64(c.X), float64(c.Y)
	p.ring(quiet, 1.6, x, y, radius)
	for mark := range dialMarks {
		dx, dy := direction(mark)
		p.line(quiet, 2, x+dx*radius*0.86, y+dy*radius*0.86, x+dx*radius*0.95, y+dy*radius*0.95)
	}
	for i, length := range []float64{0.45, 0.75} {
		dx, dy := direction(s.dial[i])
		p.line(bright, 5-2*float64(i), x, y, x+dx*radius*length, y+dy*radius*length)
		p.disc(bright, x+dx*radius*length, y+dy*radius*length, 7-2*float64(i))
	}
	p.disc(bright, x, y, 4)
}

// direction returns the unit vector from the dial's centre to a mark.
func direction(mark int) (dx, dy float64) {
	sin, cos := math.Sincos(2 * math.Pi * float64(mark) / dialMarks)
	return sin, -cos
}

// scrolled moves rows by an offset and hides the ones outside their window.
func scrolled(rows []Element, window image.Rectangle, pitch, height, offset int) {
	for i := range rows {
		y := window.Min.Y + i*pitch - offset
		rows[i].Rect = image.Rectangle{}
		if y >= window.Min.Y && y+height <= window.Max.Y {
			rows[i].Rect = image.Rect(window.Min.X, y, window.Max.X, y+height)
		}
	}
}

// scrolledTo returns the offset after a finger moved, limited to the page's length
// and rounded to whole rows.
func scrolledTo(s *scene, way, pitch, window int) int {
	fits := window / pitch
	most := max(len(s.rows)-fits, 0) * pitch
	to := s.scroll - way
	return min(max((to+pitch/2)/pitch*pitch, 0), most)
}

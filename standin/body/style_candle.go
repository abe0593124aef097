package body

import (
	"image"
	"image/color"
	"math"
)

// candle is a round watch: a black disc, sixty ticks on the rim that burn down
// with the battery, one row at a time in the middle, a flame for a switch.
type candle struct{}

const candleSide = 258

var (
	night = color.RGBA{0x0b, 0x06, 0x04, 255}
	wax   = color.RGBA{0xf3, 0xe6, 0xd2, 255}
	ember = color.RGBA{0xe0, 0x8a, 0x3c, 255}
	ash   = color.RGBA{0x3a, 0x2f, 0x2a, 255}
	flame = color.RGBA{0xf7, 0xb1, 0x4a, 255}
	core  = color.RGBA{0xff, 0xf0, 0xc4, 255}
)

func (candle) size() image.Point       { return sizes["round"] }
func (candle) tabbed() bool            { return false }
func (candle) canvas() image.Rectangle { return image.Rect(52, 46, 206, 212) }

// scroll goes to the next row or the one before: left and up go on.
func (candle) scroll(s *scene, way image.Point) int {
	step := 1
	if way.X+way.Y > 0 {
		step = -1
	}
	return min(max(s.scroll+step, 0), max(len(s.rows)-1, 0))
}

func (c candle) place(s *scene) {
	for i := range s.rows {
		s.rows[i].Rect = image.Rectangle{}
		if i == min(s.scroll, len(s.rows)-1) {
			s.rows[i].Rect = image.Rect(56, 84, 202, 190)
		}
	}
	if s.back != nil {
		s.back.Rect = image.Rect(108, 224, 150, 250)
	}
	if s.wake != nil {
		s.wake.Rect = image.Rect(0, 0, candleSide, candleSide)
	}
	for i := range s.options {
		y := 204 - 38*(len(s.options)-i)
		inset := 44
		if i == len(s.options)-1 {
			inset = 58
		}
		s.options[i].Rect = image.Rect(inset, y, candleSide-inset, y+33)
	}
	keys := image.Rect(54, 92, 204, 220)
	if len(s.keys) > 0 && len(s.keys[0]) > 4 {
		keys = image.Rect(26, 104, 232, 200)
		s.rows = s.rows[:min(len(s.rows), 1)]
		for i := range s.rows {
			s.rows[i].Rect = image.Rect(60, 74, 198, 98)
		}
	}
	if s.field != nil {
		s.field.Rect = image.Rect(60, 44, 198, 72)
	}
	gridKeys(s.keys, keys, 4)
}

func (c candle) draw(p *painter, s *scene) {
	p.box(color.Black, 0, 0, p.w, p.h, 0)
	p.disc(night, 129, 129, 129)
	if s.kind == "dark" {
		return
	}
	c.drawRim(p, s)
	mid := func(weight string, size float64, ink color.Color, text string, y int) {
		p.centred(weight, size, ink, p.fit(weight, size, text, 190), image.Rect(0, y-10, candleSide, y+10))
	}
	switch {
	case s.kind == "boot":
		c.drawFlame(p, 129, 110, 1, true)
		mid("light", 20, wax, s.title, 160)
	case s.kind == "lock":
		mid("light", 40, wax, s.clock, 110)
		mid("medium", 15, ember, s.wake.Text, 160)
	case s.kind == "dialog":
		mid("regular", 16, wax, s.title, 40)
		lines := p.wrap("regular", 12, s.text, 186)
		room := (int(204) - 38*len(s.options) - 56) / 15
		for i, l := range lines[:min(len(lines), max(room, 1))] {
			mid("regular", 12, ember, l, 62+15*i)
		}
		for _, e := range s.options {
			p.rect(ash, e.Rect, 16)
			p.centred("medium", 14, wax, e.Text, e.Rect)
		}
	case len(s.keys) > 0:
		mid("regular", 13, wax, s.title, 34)
		if s.field == nil {
			mid("medium", 20, ember, hidden(s), 62)
		} else {
			mid("medium", 16, ember, s.typed+"_", 58)
		}
		drawKeys(p, s.keys, ash, wax, 13, 8)
		for _, e := range s.rows {
			p.centred("medium", 13, flame, e.Text, e.Rect)
		}
	default:
		c.drawRow(p, s, mid)
	}
	if s.back != nil && s.kind != "dialog" {
		p.line(wax, 1.8, 132, 231, 126, 237)
		p.line(wax, 1.8, 126, 237, 132, 243)
	}
	if s.toast != "" && s.kind != "dialog" {
		lines := p.wrap("medium", 13, s.toast, 180)
		top := 129 - 10*len(lines)
		p.box(ash, 28, float64(top)-8, 202, float64(20*len(lines))+16, 16)
		for i, l := range lines {
			mid("medium", 13, wax, l, top+10+20*i)
		}
	}
}

func (c candle) drawRow(p *painter, s *scene, mid func(string, float64, color.Color, string, int)) {
	mid("regular", 14, color.RGBA{0xb9, 0xa9, 0x97, 255}, s.title, 46)
	if len(s.rows) == 0 {
		return
	}
	here := min(s.scroll, len(s.rows)-1)
	e := s.rows[here]
	y := 126
	if e.state != "" {
		c.drawFlame(p, 129, 100, 1, e.state == "on")
		y = 154
	}
	mid("medium", 22, wax, e.Text, y)
	lines := p.wrap("regular", 13, e.Value, 160)
	for i, l := range lines[:min(len(lines), 2)] {
		mid("regular", 13, ember, l, y+26+16*i)
	}
	for i := range s.rows {
		ink := color.Color(ash)
		if i == here {
			ink = flame
		}
		p.disc(ink, 129+10*(float64(i)-float64(len(s.rows)-1)/2), 212, 2.4)
	}
}

// drawRim burns the ticks down with the battery, from the top against the clock.
func (c candle) drawRim(p *painter, s *scene) {
	lit := int(math.Ceil(60 * float64(s.battery) / 100))
	for i := range 60 {
		a := -math.Pi/2 - 2*math.Pi*float64(60-i)/60
		ink := color.Color(ash)
		from := 116.0
		if i < lit {
			ink = hsl(14+28*float64(i)/60, 0.75, 0.56)
		}
		if i == lit-1 {
			ink, from = core, 111
		}
		p.line(ink, 2.6, 129+from*math.Cos(a), 129+from*math.Sin(a), 129+122*math.Cos(a), 129+122*math.Sin(a))
	}
}

func (c candle) drawFlame(p *painter, x, y, k float64, lit bool) {
	outer, inner := color.Color(flame), color.Color(core)
	if !lit {
		outer, inner = ash, night
	} else {
		for i := range 8 {
			p.disc(color.RGBA{0x30, 0x1a, 0x08, uint8(20 + 6*i)}, x, y, 46-4*float64(i))
		}
	}
	tear := func(ink color.Color, cy, w, h float64) {
		p.SetColor(ink)
		p.MoveTo(x*Scale, (cy-h)*Scale)
		p.CubicTo((x+w)*Scale, (cy-h*0.2)*Scale, (x+w)*Scale, (cy+h*0.5)*Scale, x*Scale, (cy+h*0.5)*Scale)
		p.CubicTo((x-w)*Scale, (cy+h*0.5)*Scale, (x-w)*Scale, (cy-h*0.2)*Scale, x*Scale, (cy-h)*Scale)
		p.Fill()
	}
	tear(outer, y+4, 22*k, 34*k)
	tear(inner, y+10, 11*k, 17*k)
	p.line(ash, 3, x, y+21, x, y+28)
}

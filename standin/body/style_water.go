package body

import (
	"image"
	"image/color"
)

// water is a screen like a lake: the title at the shore below, rows that hang on
// a sounding line, touches that ripple, a question that raises the water.
type water struct {
	at  image.Point
	hue float64
}

const (
	waterTop   = 54
	waterPitch = 53
	waterShore = 98 // above the lower edge
	waterRow   = 40 // of an option
)

func (w water) size() image.Point       { return w.at }
func (w water) tabbed() bool            { return false }
func (w water) canvas() image.Rectangle { return image.Rect(0, 0, w.at.X, w.at.Y-waterShore) }
func (w water) shore() int              { return w.at.Y - waterShore }

func (w water) rows() image.Rectangle {
	return image.Rect(14, waterTop, w.at.X-14, w.shore()-6)
}

func (w water) scroll(s *scene, way image.Point) int {
	return scrolledTo(s, way.Y, waterPitch, w.rows().Dy()+4)
}

func (w water) place(s *scene) {
	if s.back != nil {
		s.back.Rect = image.Rect(w.at.X-58, w.at.Y-68, w.at.X-14, w.at.Y-24)
	}
	if s.wake != nil {
		s.wake.Rect = image.Rect(20, w.at.Y/2-40, w.at.X-20, w.at.Y/2+40)
		if s.kind == "dark" {
			s.wake.Rect = image.Rectangle{Max: w.at}
		}
	}
	top := w.at.Y - 22 - waterRow*len(s.options)
	for i := range s.options {
		s.options[i].Rect = image.Rect(20, top+i*waterRow, w.at.X-20, top+(i+1)*waterRow-6)
	}
	window := w.rows()
	if s.field != nil {
		s.field.Rect = image.Rect(20, waterTop, w.at.X-20, waterTop+36)
		window.Min.Y += 50
	}
	scrolled(s.rows, window, waterPitch, waterPitch-4, s.scroll)
	keys := image.Rect(10, w.shore()-150, w.at.X-10, w.shore()-16)
	if s.kind == "pad" || s.entry != "" {
		keys.Min.Y -= 70
	}
	if s.dial != nil {
		keys.Min.Y = keys.Max.Y - 120
	}
	s.codeAt = image.Rect(20, 100, w.at.X-20, 180)
	gridKeys(s.keys, keys, 5)
}

func (w water) ink(s, l float64) color.Color { return hsl(w.hue-15, s, l) }

func (w water) draw(p *painter, s *scene) {
	if s.kind == "dark" {
		p.box(color.Black, 0, 0, p.w, p.h, 0)
		return
	}
	p.fade(w.ink(0.62, 0.955), w.ink(0.45, 0.82))
	ink, soft, deep := w.ink(0.85, 0.11), w.ink(0.35, 0.30), w.ink(0.98, 0.15)
	white, pale := w.ink(0.3, 0.96), w.ink(0.3, 0.80)
	p.text("medium", 12, ink, s.clock, 18, 27)
	w.drawBattery(p, s, ink)
	switch s.kind {
	case "boot":
		p.wave(deep, p.h*0.62, 9, 0)
		p.text("light", 30, white, s.text, 33, p.h*0.62+70)
		p.text("regular", 13, pale, s.title, 34, p.h*0.62+96)
		return
	case "lock":
		p.wave(w.ink(0.35, 0.62), p.h*0.36, 9, 0.4)
		p.wave(deep, p.h*0.36+10, 6, 2.2)
		p.text("light", 64, ink, s.clock, 30, 150)
		p.text("light", 30, white, s.title, 33, p.h-74)
		p.text("regular", 12, pale, s.above, 34, p.h-108)
		p.rect(w.ink(0.55, 0.26), s.wake.Rect, 16)
		p.centred("medium", 16, white, s.wake.Text, s.wake.Rect)
	case "pad":
		p.text("light", 26, ink, p.fit("light", 26, s.title, p.w-56), 28, 96)
		if s.dial != nil {
			drawDial(p, s, image.Pt(w.at.X/2, 208), 90, w.ink(0.35, 0.55), ink)
		} else {
			p.box(w.ink(0.4, 0.90), 28, 112, p.w-56, 40, 10)
			p.text("medium", 20, ink, hidden(s), 42, 139)
		}
		drawKeys(p, s.keys, w.ink(0.4, 0.90), ink, 16, 9)
		w.drawShore(p, s, deep, white, pale)
	case "dialog":
		w.drawDialog(p, s, deep, white, pale)
	default:
		w.drawRows(p, s, ink, soft)
		w.drawShore(p, s, deep, white, pale)
	}
	w.drawToast(p, s, deep, white)
}

func (w water) drawShore(p *painter, s *scene, deep, white, pale color.Color) {
	shore := float64(w.shore())
	p.wave(w.ink(0.35, 0.62), shore-2, 7, 0.4)
	p.wave(deep, shore+6, 5, 2.2)
	p.text("regular", 12, pale, s.above, 34, shore+40)
	if s.kind != "pad" {
		p.text("light", 30, white, p.fit("light", 30, s.title, p.w-100), 33, shore+74)
	}
	if s.back != nil {
		p.line(white, 2, p.w-34, p.h-54, p.w-42, p.h-46)
		p.line(white, 2, p.w-42, p.h-46, p.w-34, p.h-38)
	}
}

// drawRows hangs the rows on a sounding line.
func (w water) drawRows(p *painter, s *scene, ink, soft color.Color) {
	cord := w.ink(0.35, 0.55)
	if s.entry != "" {
		w.drawEntry(p, s, ink, soft, cord)
	}
	if s.field != nil {
		p.rect(w.ink(0.4, 0.90), s.field.Rect, 12)
		text, c := s.typed, ink
		if text == "" {
			text, c = s.field.Text, soft
		}
		p.text("regular", 15, c, text, float64(s.field.Rect.Min.X)+14, float64(s.field.Rect.Min.Y)+23)
		p.text("regular", 13, soft, s.text, 34, float64(s.field.Rect.Max.Y)+28)
		drawKeys(p, s.keys, w.ink(0.4, 0.90), ink, 15, 6)
	}
	for _, e := range s.rows {
		if e.Rect.Empty() {
			continue
		}
		y := float64(e.Rect.Min.Y)
		p.line(cord, 2, 21, y-4, 21, y+waterPitch-6)
		p.line(cord, 2, 21, y+17, 33, y+17)
		w.drawNotches(p, e, cord, ink)
		p.text("semibold", 14.5, ink, p.fit("semibold", 14.5, e.Text, p.w-70), 42, y+22)
		p.text("regular", 12.5, soft, p.fit("regular", 12.5, e.Value, p.w-70), 42, y+40)
		if e.state != "" {
			w.drawFloat(p, e, ink)
		}
	}
	w.drawMore(p, s, cord)
	if r := s.ripple; r != (image.Point{}) && r.Y < w.shore()-10 {
		for i, radius := range []float64{9, 17, 25} {
			p.ring(w.ink(0.45, 0.45+0.1*float64(i)), 1.5, float64(r.X), float64(r.Y), radius)
		}
	}
}

// drawEntry draws a floating buoy for each character to type.
func (w water) drawEntry(p *painter, s *scene, ink, soft, cord color.Color) {
	y := p.lines("regular", 13, 18, soft, p.wrap("regular", 13, s.text, p.w-48), 24, waterTop+16) + 26
	pitch := (p.w - 48) / float64(len(s.entry))
	p.line(cord, 2, 24, y+9, p.w-24, y+9)
	for i := range s.entry {
		x := 24 + pitch*(float64(i)+0.5)
		if i >= len(s.typed) {
			p.disc(w.ink(0.4, 0.90), x, y, 15)
			p.ring(cord, 2, x, y, 15)
			continue
		}
		p.disc(ink, x, y, 17)
		at := image.Pt(int(x), int(y))
		p.centred("medium", 18, w.ink(0.3, 0.96), s.typed[i:i+1], image.Rectangle{Min: at.Sub(image.Pt(17, 17)), Max: at.Add(image.Pt(17, 17))})
	}
	drawKeys(p, s.keys, w.ink(0.4, 0.90), ink, 16, 9)
}

// drawNotches draws notches in the sounding line beside a row, from the bottom up,
// and fills one for each touch.
func (w water) drawNotches(p *painter, e Element, cord, ink color.Color) {
	for i := range e.of {
		y := float64(e.Rect.Max.Y) - 3 - 7*float64(i)
		if i < e.notch {
			p.box(ink, 14, y-2, 14, 4, 1.5)
			continue
		}
		p.line(cord, 1.4, 16, y, 26, y)
	}
}

// drawFloat draws a switch: a float on the water line, or under it.
func (w water) drawFloat(p *painter, e Element, ink color.Color) {
	x, y := float64(e.Rect.Max.X)-26, float64(e.Rect.Min.Y)+24
	p.line(ink, 2, x-14, y, x+14, y)
	if e.state == "on" {
		p.disc(ink, x, y-8, 6)
		return
	}
	p.ring(ink, 1.6, x, y+8, 5.4)
}

// drawMore draws a sign that there are more rows above or below.
func (w water) drawMore(p *painter, s *scene, c color.Color) {
	if len(s.rows) == 0 {
		return
	}
	x, end := p.w-16, float64(w.shore())-18
	if s.rows[0].Rect.Empty() {
		p.path(c, x-5, waterTop+4, x+5, waterTop+4, x, waterTop-3)
	}
	if s.rows[len(s.rows)-1].Rect.Empty() {
		p.path(c, x-5, end-6, x+5, end-6, x, end+1)
	}
}

func (w water) drawBattery(p *painter, s *scene, ink color.Color) {
	p.SetColor(ink)
	p.SetLineWidth(1.4 * Scale)
	x := p.w - 48
	p.MoveTo(x*Scale, 17*Scale)
	p.LineTo(x*Scale, 24*Scale)
	p.QuadraticTo(x*Scale, 28*Scale, (x+4)*Scale, 28*Scale)
	p.LineTo((x+24)*Scale, 28*Scale)
	p.QuadraticTo((x+28)*Scale, 28*Scale, (x+28)*Scale, 24*Scale)
	p.LineTo((x+28)*Scale, 17*Scale)
	p.Stroke()
	level := 8 * float64(s.battery) / 100
	p.box(ink, x+3, 26-level, 22, level, 1)
}

func (w water) drawToast(p *painter, s *scene, deep, white color.Color) {
	if s.toast == "" || s.kind == "dialog" {
		return
	}
	lines := p.wrap("medium", 13, s.toast, p.w-76)
	wide := p.width("medium", 13, lines[0]) + 30
	if len(lines) > 1 {
		wide = p.w - 46
	}
	x, h := 20.0, 20+18*float64(len(lines))
	y := float64(w.shore()) - 16 - h
	p.box(deep, x, y, wide, h, 17)
	tx := x + 15
	p.lines("medium", 13, 18, white, lines, tx, y+23.5)
}

// drawDialog raises the water until it carries the question.
func (w water) drawDialog(p *painter, s *scene, deep, white, pale color.Color) {
	p.box(color.RGBA{0, 20, 26, 120}, 0, 0, p.w, p.h, 0)
	lines := p.wrap("regular", 12.5, s.text, p.w-48)
	title := p.wrap("light", 22, s.title, p.w-48)
	top := p.h - 22 - waterRow*float64(len(s.options)) - float64(len(lines))*17 - 18 - 28*float64(len(title))
	p.wave(deep, top-14, 4, 1)
	y := p.lines("light", 22, 28, white, title, 24, top+16)
	p.lines("regular", 12.5, 17, pale, lines, 24, y-4)
	for _, e := range s.options {
		c := w.ink(0.55, 0.26)
		if e.state == "chosen" {
			c = w.ink(0.55, 0.40)
		}
		p.rect(c, e.Rect, 10)
		x, y := float64(e.Rect.Max.X), float64(e.Rect.Min.Y)
		p.text("medium", 14, white, e.Text, float64(e.Rect.Min.X)+16, y+22)
		if e.state == "chosen" {
			p.line(white, 2, x-26, y+18, x-21, y+23)
			p.line(white, 2, x-21, y+23, x-13, y+12)
		}
	}
}

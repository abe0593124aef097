package body

import (
	"image"
	"image/color"
	"math"
)

// inn is a screen like an inn: doors down the left, a room at the right, key tags
// that hang from a rail.
type inn struct {
	at  image.Point
	hue float64
}

const (
	innDoors = 92 // how wide they are
	innDoor  = 36
	innPitch = 48
	innTop   = 128 // of the rows
)

var (
	chestnut = color.RGBA{0x4d, 0x2a, 0x20, 255}
	door     = color.RGBA{0x60, 0x3a, 0x2d, 255}
	beam     = color.RGBA{0x6a, 0x33, 0x22, 255}
	cream    = color.RGBA{0xf8, 0xf1, 0xe1, 255}
	dusk     = color.RGBA{0x2e, 0x1d, 0x16, 255}
	clay     = color.RGBA{0x6b, 0x50, 0x43, 255}
	linen    = color.RGBA{0xea, 0xdc, 0xc2, 255}
	oak      = color.RGBA{0xd2, 0xa0, 0x63, 255}
)

func (n inn) size() image.Point       { return n.at }
func (n inn) tabbed() bool            { return true }
func (n inn) canvas() image.Rectangle { return image.Rect(n.left(), 40, n.at.X, n.at.Y-20) }

// left is the left edge of the room.
func (n inn) left() int { return innDoors }

func (n inn) rows() image.Rectangle {
	return image.Rect(n.left()+14, innTop, n.at.X-12, n.at.Y-16)
}

func (n inn) scroll(s *scene, way image.Point) int {
	return scrolledTo(s, way.Y, innPitch, n.rows().Dy())
}

func (n inn) place(s *scene) {
	for i := range s.tabs {
		s.tabs[i].Rect = image.Rect(10, 62+i*(innDoor+6), n.left(), 62+i*(innDoor+6)+innDoor)
	}
	if s.back != nil {
		s.back.Rect = image.Rect(8, n.at.Y-48, n.left()-8, n.at.Y-12)
	}
	room := image.Rect(n.left()+14, 0, n.at.X-12, n.at.Y)
	if s.kind == "lock" || s.kind == "dark" {
		s.wake.Rect = image.Rect(n.at.X/2-70, n.at.Y/2+20, n.at.X/2+70, n.at.Y/2+64)
		if s.kind == "dark" {
			s.wake.Rect = image.Rectangle{Max: n.at}
		}
	}
	top := n.at.Y - 20 - 42*len(s.options)
	for i := range s.options {
		s.options[i].Rect = image.Rect(room.Min.X, top+i*42, room.Max.X, top+i*42+36)
	}
	window := n.rows()
	if s.field != nil {
		s.field.Rect = image.Rect(room.Min.X, 104, room.Max.X, 136)
		window.Min.Y = 146
	}
	scrolled(s.rows, window, innPitch, innPitch-6, s.scroll)
	keys := image.Rect(n.left()+8, n.at.Y-128, n.at.X-8, n.at.Y-12)
	switch {
	case s.kind == "pad" && len(s.keys) == 4 && len(s.keys[0]) == 3:
		keys.Min.Y = n.at.Y/2 - 20
	case s.entry != "":
		keys.Min.Y = n.at.Y/2 + 10
	case s.kind == "pad":
		keys.Min.Y = n.at.Y - 160
	}
	gridKeys(s.keys, keys, 4)
}

func (n inn) draw(p *painter, s *scene) {
	if s.kind == "dark" {
		p.box(color.Black, 0, 0, p.w, p.h, 0)
		return
	}
	p.box(cream, 0, 0, p.w, p.h, 0)
	if s.kind == "boot" || s.kind == "lock" {
		n.drawShut(p, s)
		n.drawToast(p, s)
		return
	}
	left, x := float64(n.left()), float64(n.left())+14
	p.box(chestnut, 0, 0, left, p.h, 0)
	p.text("medium", 12, linen, s.clock, 12, 26)
	n.drawLamp(p, s)
	for _, e := range s.tabs {
		r, face, ink := e.Rect, color.Color(door), color.Color(linen)
		if e.state == "here" {
			face, ink = cream, dusk
		}
		p.rect(face, image.Rect(r.Min.X+8, r.Min.Y, r.Max.X, r.Max.Y), 0)
		p.rect(face, image.Rect(r.Min.X, r.Min.Y, r.Max.X-20, r.Max.Y), 12)
		p.text("medium", 13, ink, p.fit("medium", 13, e.Text, left-26), float64(r.Min.X)+10, float64(r.Min.Y)+23)
	}
	if s.back != nil {
		p.text("regular", 13, linen, "‹ "+s.back.Text, 14, p.h-26)
	}
	p.text("regular", 12, clay, s.above, x, 44)
	title := p.wrap("light", 25, s.title, p.w-x-10)
	if s.kind == "pad" {
		title = []string{p.fit("regular", 18, s.title, p.w-x-10)}
	}
	p.lines("light", 25, 28, dusk, title, x, 72)
	y := 72 + 28*float64(len(title))
	text := p.lines("regular", 12.5, 17, clay, p.wrap("regular", 12.5, s.text, p.w-x-12), x, y-4)
	switch {
	case s.kind == "dialog":
		for i, e := range s.options {
			face, ink := color.Color(linen), color.Color(dusk)
			if i == 0 {
				face, ink = beam, cream
			}
			p.rect(face, e.Rect, 12)
			p.centred("medium", 14, ink, e.Text, e.Rect)
		}
	case s.entry != "":
		n.drawTags(p, s, text+2)
		drawKeys(p, s.keys, linen, dusk, 14, 6)
	default:
		n.drawRows(p, s)
	}
	n.drawToast(p, s)
}

// drawRows draws rows as lines in a house book.
func (n inn) drawRows(p *painter, s *scene) {
	x := float64(n.left()) + 14
	if s.field != nil {
		p.rect(linen, s.field.Rect, 10)
		text, ink := s.typed, dusk
		if text == "" {
			text, ink = s.field.Text, clay
		}
		p.text("regular", 14, ink, text, float64(s.field.Rect.Min.X)+12, float64(s.field.Rect.Min.Y)+21)
	}
	if s.kind == "pad" {
		p.box(linen, x, 92, p.w-x-12, 38, 10)
		p.text("medium", 18, dusk, hidden(s), x+12, 117)
	}
	drawKeys(p, s.keys, linen, dusk, 14, 6)
	for _, e := range s.rows {
		if e.Rect.Empty() {
			continue
		}
		y := float64(e.Rect.Min.Y)
		room := p.w - x - 16
		if e.state != "" {
			room -= 44
			n.drawBolt(p, e)
		}
		p.text("medium", 14, dusk, p.fit("medium", 14, e.Text, room), x, y+17)
		p.text("regular", 12, clay, p.fit("regular", 12, e.Value, room), x, y+34)
		p.line(linen, 1.2, x, y+43, p.w-12, y+43)
	}
	if k := len(s.rows); k > 0 && s.rows[k-1].Rect.Empty() {
		p.path(clay, p.w-20, p.h-14, p.w-10, p.h-14, p.w-15, p.h-8)
	}
}

// drawBolt draws a switch: a bolt, open or shut.
func (n inn) drawBolt(p *painter, e Element) {
	x, y := float64(e.Rect.Max.X)-38, float64(e.Rect.Min.Y)+8
	p.box(linen, x, y, 38, 18, 4)
	if e.state == "on" {
		p.box(beam, x+20, y+3, 16, 12, 3)
		return
	}
	p.box(clay, x+2, y+3, 16, 12, 3)
}

// drawTags draws a key tag on a rail for each character to type, in two groups.
func (n inn) drawTags(p *painter, s *scene, y float64) {
	x, wide := float64(n.left())+12, p.w-float64(n.left())-22
	p.box(beam, x, y, wide, 4, 2)
	count := len(s.entry)
	pitch := (wide - 14) / float64(count)
	for i := range count {
		cx := x + pitch*(float64(i)+0.5)
		if i >= count/2 {
			cx += 14
		}
		p.line(clay, 1.2, cx, y+4, cx, y+12)
		w, face := min(pitch-4, 26), color.Color(linen)
		if i < len(s.typed) {
			face = oak
		}
		p.box(face, cx-w/2, y+12, w, 30, 7)
		p.disc(cream, cx, y+17, 2)
		if i < len(s.typed) {
			t := string(s.typed[i])
			p.text("semibold", 15, dusk, t, cx-p.width("semibold", 15, t)/2, y+35)
		}
		if i == len(s.typed) {
			p.line(color.RGBA{0x9a, 0x2e, 0x14, 255}, 2, cx-w/2+3, y+46, cx+w/2-3, y+46)
		}
	}
}

// drawShut draws the house with its door shut: starting or locked.
func (n inn) drawShut(p *painter, s *scene) {
	p.box(chestnut, 0, 0, p.w, p.h, 0)
	p.text("medium", 12, linen, s.clock, 14, 26)
	cx, cy := p.w/2, p.h/2-60
	p.box(door, cx-46, cy-50, 92, 112, 8)
	p.SetColor(door)
	p.DrawArc(cx*Scale, (cy-50)*Scale, 46*Scale, math.Pi, 2*math.Pi)
	p.Fill()
	p.disc(oak, cx+30, cy+10, 4)
	if s.kind == "boot" {
		p.centred("light", 22, cream, s.text, image.Rect(0, int(cy)+80, n.at.X, int(cy)+110))
		p.centred("regular", 13, linen, s.title, image.Rect(0, int(cy)+110, n.at.X, int(cy)+130))
		return
	}
	p.rect(oak, s.wake.Rect, 14)
	p.centred("medium", 15, dusk, s.wake.Text, s.wake.Rect)
	p.centred("regular", 13, linen, s.above, image.Rect(0, n.at.Y-60, n.at.X, n.at.Y-40))
}

// drawLamp draws the battery as the glass of an oil lamp.
func (n inn) drawLamp(p *painter, s *scene) {
	x := float64(n.left()) - 24
	p.ring(linen, 1.2, x+4, 22, 6)
	level := 10 * float64(s.battery) / 100
	p.box(oak, x, 27-level, 8, level, 2)
	p.line(linen, 1.2, x, 30, x+8, 30)
}

func (n inn) drawToast(p *painter, s *scene) {
	if s.toast == "" || s.kind == "dialog" {
		return
	}
	x := float64(n.left()) + 10
	lines := p.wrap("medium", 12.5, s.toast, p.w-x-34)
	h := 16 + 17*float64(len(lines))
	y := p.h - h - 14
	if len(s.keys) > 0 {
		y = 8
	}
	p.box(chestnut, x, y, p.w-x-10, h, 10)
	p.lines("medium", 12.5, 17, cream, lines, x+12, y+21)
}

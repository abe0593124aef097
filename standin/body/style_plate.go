package body

import (
	"fmt"
	"image"
	"image/color"
	"strings"
)

// plate is one green plate of a strongroom, with a dark line for what is typed,
// and real keys below it: a row is chosen by its number.
type plate struct{}

const (
	plateHeight = 186
	platePitch  = 17
	plateRows   = 7
)

var (
	plateFace = color.RGBA{0xc7, 0xd3, 0xb0, 255}
	plateInk  = color.RGBA{0x14, 0x1f, 0x0f, 255}
	plateSoft = color.RGBA{0x4a, 0x5a, 0x3c, 255}
	keyFace   = color.RGBA{0x3d, 0x3e, 0x3a, 255}
	keyInk    = color.RGBA{0xdd, 0xde, 0xd6, 255}
)

func (plate) size() image.Point       { return sizes["keys"] }
func (plate) tabbed() bool            { return false }
func (plate) canvas() image.Rectangle { return image.Rect(0, 0, 232, plateHeight) }

func (plate) scroll(s *scene, way image.Point) int {
	return scrolledTo(s, way.Y, platePitch, plateRows*platePitch)
}

// place puts rows on the plate, and the acts of what they do on the keys.
func (pl plate) place(s *scene) {
	window := image.Rect(8, 44, 224, 44+plateRows*platePitch)
	if s.text != "" && s.kind != "boot" && s.kind != "dialog" {
		window.Min.Y += 2 * platePitch
	}
	if s.code != "" {
		s.codeAt = image.Rect(8, window.Min.Y, 224, window.Min.Y+3*platePitch)
		window.Min.Y += 3 * platePitch
	}
	if s.field != nil {
		s.field.Rect = image.Rect(8, plateHeight-24, 224, plateHeight)
	}
	scrolled(s.rows, window, platePitch, platePitch, s.scroll)
	for i := range s.options {
		y := plateHeight - 8 - platePitch*(len(s.options)-i)
		s.options[i].Rect = image.Rect(8, y, 224, y+platePitch)
	}
	if s.wake != nil {
		s.wake.Rect = image.Rect(8, 90, 224, 130)
	}
	pl.placeKeys(s)
}

func (plate) placeKeys(s *scene) {
	area := image.Rect(8, plateHeight+14, 224, 346)
	if len(s.keys) > 0 {
		if s.kind == "pad" && s.back != nil {
			s.back.Rect = image.Rect(170, 4, 224, 22)
		} else if s.back != nil {
			s.back.Rect = image.Rect(8, 4, 60, 22)
		}
		gridKeys(s.keys, area, 5)
		return
	}
	targets := s.options
	if len(targets) == 0 {
		targets = shown(s.rows)
	}
	for line := range 3 {
		var keys []Element
		for i := range 3 {
			n := line*3 + i
			e := Element{Text: fmt.Sprintf("Key %d", n+1), Value: fmt.Sprint(n + 1), Kind: "key"}
			switch {
			case s.press != nil:
				e.act = func() { s.press(n + 1) }
				if s.held == n+1 {
					e.state, e.Note = "held", "held"
				}
			case n < len(targets):
				e.act = targets[n].act
			}
			keys = append(keys, e)
		}
		s.keys = append(s.keys, keys)
	}
	left := Element{Text: "Key ‹", Value: "‹", Kind: "key"}
	if s.press != nil && len(s.options) > 0 {
		left.act = s.options[0].act
	}
	if s.back != nil {
		left.act = s.back.act
		s.back.Rect = image.Rect(170, 4, 224, 22)
	}
	enter := Element{Text: "Key", Value: "key", Kind: "key"}
	if s.wake != nil {
		enter.act = s.wake.act
	}
	s.keys = append(s.keys, []Element{left, {Text: "Key 0", Value: "0", Kind: "key"}, enter})
	gridKeys(s.keys, area, 5)
}

func shown(rows []Element) (out []Element) {
	for _, e := range rows {
		if !e.Rect.Empty() {
			out = append(out, e)
		}
	}
	return out
}

func (pl plate) draw(p *painter, s *scene) {
	p.fade(color.RGBA{0x2c, 0x2d, 0x2a, 255}, color.RGBA{0x1d, 0x1e, 0x1c, 255})
	p.box(plateFace, 0, 0, p.w, plateHeight, 4)
	drawKeys(p, s.keys, keyFace, keyInk, 13, 5)
	for _, line := range s.keys {
		for _, e := range line {
			if e.state == "held" {
				p.rect(plateInk, e.Rect, 5)
				p.centred("medium", 13, plateFace, keyText(e), e.Rect)
			}
		}
	}
	if s.kind == "dark" || s.kind == "boot" {
		p.text("mono", 13, plateInk, strings.TrimSpace(s.text+" "+s.title), 10, 90)
		return
	}
	head := strings.ToUpper(s.above)
	p.text("mono bold", 11, plateInk, p.fit("mono bold", 11, head, 150), 10, 17)
	right := fmt.Sprintf("%d%%", s.battery)
	p.text("mono", 11, plateInk, right, p.w-10-p.width("mono", 11, right), 17)
	p.line(plateInk, 1.6, 8, 23, p.w-8, 23)
	p.text("mono", 15, plateInk, p.fit("mono", 15, s.title, p.w-20), 10, 40)
	text := p.wrap("mono", 10.5, s.text, p.w-20)
	p.lines("mono", 10.5, 14, plateSoft, text, 10, 58)
	pl.drawRows(p, s)
	if s.code != "" {
		p.centred("mono bold", 40, plateInk, strings.ToUpper(s.code), s.codeAt)
	}
	if s.wake != nil {
		p.text("mono", 12, plateInk, "key  "+s.wake.Text, 10, 108)
	}
	input := ""
	switch {
	case s.kind == "pad":
		input = strings.ToLower(s.title) + " " + hidden(s) + "_"
	case s.entry != "":
		input = s.typed + s.entry[len(s.typed):]
	case s.field != nil:
		input = "find " + s.typed + "_"
	case s.toast != "" && s.kind != "dialog":
		input = s.toast
	}
	if input != "" {
		lines := p.wrap("mono", 11.5, input, p.w-20)
		if s.toast != "" && (s.kind == "pad" || s.entry != "") {
			lines = append(p.wrap("mono", 11.5, s.toast, p.w-20), lines...)
		}
		h := 10 + 15*float64(len(lines))
		p.box(plateInk, 0, plateHeight-h, p.w, h, 0)
		p.lines("mono", 11.5, 15, plateFace, lines, 10, plateHeight-h+16)
	}
}

func (pl plate) drawRows(p *painter, s *scene) {
	for i, e := range append(shown(s.rows), s.options...) {
		y := float64(e.Rect.Min.Y) + 13
		number := fmt.Sprint(i + 1)
		if s.press != nil {
			number = "‹"
		}
		if e.act != nil || s.press != nil { // no key chooses the others
			p.text("mono", 12, plateSoft, number, 10, y)
		}
		mark := ""
		switch e.state {
		case "on":
			mark = "in"
		case "off":
			mark = "out"
		case "chosen":
			mark = "*"
		}
		if mark == "" {
			mark = e.Value
		}
		room := p.w - 38 - p.width("mono", 12, e.Text) - 8
		p.text("mono", 12, plateInk, e.Text, 26, y)
		if room > 20 {
			mark = p.fit("mono", 12, mark, room)
			p.text("mono", 12, plateInk, mark, p.w-10-p.width("mono", 12, mark), y)
		}
	}
}

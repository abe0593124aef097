package body

import (
	"embed"
	"fmt"
	"image"
	"image/color"
	"io/fs"
	"math"
	"strings"
	"sync"

	"github.com/fogleman/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
)

//go:embed fonts/*.ttf
var fontFiles embed.FS

// Fonts are the typefaces of the stand-ins' screens, for the page that shows
// them.
func Fonts() fs.FS { return fontFiles }

// face makes a font face of a weight and size in points. Faces are not to be
// shared between goroutines, so each drawing makes its own from parsed fonts.
var parsed = sync.OnceValue(func() map[string]*opentype.Font {
	out := map[string]*opentype.Font{}
	for _, w := range []string{"light", "regular", "medium", "semibold"} {
		raw, err := fontFiles.ReadFile("fonts/plex-sans-" + w + ".ttf")
		if err != nil {
			panic(err)
		}
		if out[w], err = opentype.Parse(raw); err != nil {
			panic(err)
		}
	}
	return out
})

func face(weight string, size float64) font.Face {
	f, err := opentype.NewFace(parsed()[weight], &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingNone})
	if err != nil {
		panic(err) // only sizes that are no number
	}
	return f
}

// hsl makes a colour: hue in degrees, the others from 0 to 1.
func hsl(h, s, l float64) color.Color {
	c := (1 - math.Abs(2*l-1)) * s
	x := c * (1 - math.Abs(math.Mod(h/60, 2)-1))
	m := l - c/2
	var r, g, b float64
	switch int(h/60) % 6 {
	case 0:
		r, g = c, x
	case 1:
		r, g = x, c
	case 2:
		g, b = c, x
	case 3:
		g, b = x, c
	case 4:
		r, b = x, c
	default:
		r, b = c, x
	}
	to := func(v float64) uint8 { return uint8(math.Round((v + m) * 255)) }
	return color.RGBA{to(r), to(g), to(b), 255}
}

// painter draws one picture.
type painter struct {
	*gg.Context
	hue float64
}

func (p *painter) text(weight string, size float64, c color.Color, s string, x, y float64) float64 {
	p.SetFontFace(face(weight, size*Scale))
	p.SetColor(c)
	p.DrawString(s, x*Scale, y*Scale)
	w, _ := p.MeasureString(s)
	return w / Scale
}

func (p *painter) width(weight string, size float64, s string) float64 {
	p.SetFontFace(face(weight, size*Scale))
	w, _ := p.MeasureString(s)
	return w / Scale
}

func (p *painter) line(c color.Color, w, x1, y1, x2, y2 float64) {
	p.SetColor(c)
	p.SetLineWidth(w * Scale)
	p.DrawLine(x1*Scale, y1*Scale, x2*Scale, y2*Scale)
	p.Stroke()
}

func (p *painter) box(c color.Color, x, y, w, h, r float64) {
	p.SetColor(c)
	p.DrawRoundedRectangle(x*Scale, y*Scale, w*Scale, h*Scale, r*Scale)
	p.Fill()
}

// wave fills everything below a wavy line at y.
func (p *painter) wave(c color.Color, y, swing, phase float64) {
	p.SetColor(c)
	p.MoveTo(0, Height*Scale)
	for x := 0.0; x <= Width; x += 2 {
		p.LineTo(x*Scale, (y+swing*math.Sin(x/Width*2*math.Pi+phase))*Scale)
	}
	p.LineTo(Width*Scale, Height*Scale)
	p.ClosePath()
	p.Fill()
}

// draw draws the whole screen. The lock is held.
func (b *Body) draw() *image.RGBA {
	p := &painter{gg.NewContext(Width*Scale, Height*Scale), b.cfg.Spec.Look.Hue}
	sky := gg.NewLinearGradient(0, 0, 0, Height*Scale)
	sky.AddColorStop(0, hsl(p.hue-15, 0.62, 0.955))
	sky.AddColorStop(1, hsl(p.hue-15, 0.45, 0.82))
	p.SetFillStyle(sky)
	p.DrawRectangle(0, 0, Width*Scale, Height*Scale)
	p.Fill()
	ink, soft, deep := hsl(p.hue-15, 0.85, 0.11), hsl(p.hue-15, 0.35, 0.30), hsl(p.hue-15, 0.98, 0.15)

	bar := ink
	if run := b.running[b.screen.front]; b.screen.front != "" && run != nil {
		run.canvas.paint(p)
		bar = hsl(p.hue-15, 0.3, 0.92)
	} else {
		b.drawRows(p, ink, soft)
	}
	p.text("medium", 12, bar, b.cfg.Clock.Now().Format("15:04"), 18, 27)
	b.drawBattery(p, bar)
	p.wave(hsl(p.hue-15, 0.35, 0.62), shoreTop-2, 7, 0.4)
	p.wave(deep, shoreTop+6, 5, 2.2)
	above, title := b.titles()
	white, pale := hsl(p.hue-15, 0.3, 0.96), hsl(p.hue-15, 0.3, 0.80)
	p.text("regular", 12, pale, above, 34, shoreTop+40)
	p.text("light", 30, white, title, 33, shoreTop+74)
	if len(b.screen.pages) > 1 || b.screen.front != "" {
		p.line(white, 2, Width-34, 496, Width-42, 504)
		p.line(white, 2, Width-42, 504, Width-34, 512)
	}
	b.drawToast(p, deep, white)
	if d := b.asking(); d != nil {
		b.drawDialog(p, d, deep, white, pale)
	}
	return p.Image().(*image.RGBA)
}

func (b *Body) titles() (above, title string) {
	if a := b.st.Apps[b.screen.front]; a != nil {
		return "App", a.Name
	}
	page := b.cfg.Spec.Pages[b.screen.page()]
	if page == nil {
		return b.cfg.Spec.Maker, b.model.Name
	}
	return page.Above, page.Title
}

// drawRows hangs the rows on a sounding line.
func (b *Body) drawRows(p *painter, ink, soft color.Color) {
	cord := hsl(p.hue-15, 0.35, 0.55)
	n := 0
	for _, e := range b.layoutRows() {
		y := float64(e.Rect.Min.Y)
		p.line(cord, 2, 21, y-4, 21, y+rowPitch-4)
		p.line(cord, 2, 21, y+17, 33, y+17)
		p.text("semibold", 14.5, ink, e.Text, 42, y+22)
		p.text("regular", 12.5, soft, e.Value, 42, y+40)
		n++
	}
	if r := b.screen.ripple; r != (image.Point{}) && n > 0 && b.asking() == nil && r.Y < shoreTop-10 {
		for i, radius := range []float64{9, 17, 25} {
			p.SetColor(hsl(p.hue-15, 0.45, 0.45+0.1*float64(i)))
			p.SetLineWidth(1.5 * Scale)
			p.DrawCircle(float64(r.X)*Scale, float64(r.Y)*Scale, radius*Scale)
			p.Stroke()
		}
	}
}

// layoutRows are the rows as they would be without a dialog in front.
func (b *Body) layoutRows() []Element {
	q, d := b.question, b.screen.dialog
	b.question, b.screen.dialog = nil, nil
	defer func() { b.question, b.screen.dialog = q, d }()
	var out []Element
	for _, e := range b.layout() {
		if e.Kind == "row" {
			out = append(out, e)
		}
	}
	return out
}

func (b *Body) drawBattery(p *painter, ink color.Color) {
	p.SetColor(ink)
	p.SetLineWidth(1.4 * Scale)
	p.MoveTo(228*Scale, 17*Scale)
	p.LineTo(228*Scale, 24*Scale)
	p.QuadraticTo(228*Scale, 28*Scale, 232*Scale, 28*Scale)
	p.LineTo(252*Scale, 28*Scale)
	p.QuadraticTo(256*Scale, 28*Scale, 256*Scale, 24*Scale)
	p.LineTo(256*Scale, 17*Scale)
	p.Stroke()
	level := 8 * float64(b.battery) / 100
	p.box(ink, 231, 26-level, 22, level, 1)
}

func (b *Body) drawToast(p *painter, deep, white color.Color) {
	s := b.screen
	if s.toast == "" || b.asking() != nil {
		return
	}
	w := p.width("medium", 13, s.toast) + 30
	x := 20.0
	if s.of > 0 {
		w += float64(7*s.of) + 6
	}
	p.box(deep, x, 398, w, 38, 17)
	tx := x + 15
	for i := range s.of {
		c := color.Color(hsl(p.hue-15, 0.3, 0.36))
		if i < s.strokes {
			c = hsl(p.hue-25, 0.75, 0.72)
		}
		p.box(c, tx, 409, 2.5, 16, 1.2)
		tx += 7
	}
	if s.of > 0 {
		tx += 6
	}
	p.text("medium", 13, white, s.toast, tx, 421.5)
}

// drawDialog raises the water until it carries the question.
func (b *Body) drawDialog(p *painter, d *dialog, deep, white, pale color.Color) {
	p.SetColor(color.RGBA{0, 20, 26, 120})
	p.DrawRectangle(0, 0, Width*Scale, Height*Scale)
	p.Fill()
	lines := b.wrap(p, d.text, Width-48)
	first := Height - 22 - dialogRow*len(d.options)
	top := float64(first) - float64(len(lines))*17 - 46
	p.wave(deep, top-12, 4, 1)
	y := top + 16
	p.text("light", 22, white, fit(p, d.title, Width-48, 22), 24, y)
	y += 24
	for _, l := range lines {
		p.text("regular", 12.5, pale, l, 24, y)
		y += 17
	}
	for _, e := range dialogElements(b, d) {
		r := e.Rect
		c := hsl(p.hue-15, 0.55, 0.26)
		if e.Value == "chosen" {
			c = hsl(p.hue-15, 0.55, 0.40)
		}
		p.box(c, float64(r.Min.X), float64(r.Min.Y), float64(r.Dx()), float64(r.Dy()), 10)
		p.text("medium", 14, white, e.Text, float64(r.Min.X)+16, float64(r.Min.Y)+22)
		if e.Value == "chosen" {
			p.line(white, 2, float64(r.Max.X)-26, float64(r.Min.Y)+18, float64(r.Max.X)-21, float64(r.Min.Y)+23)
			p.line(white, 2, float64(r.Max.X)-21, float64(r.Min.Y)+23, float64(r.Max.X)-13, float64(r.Min.Y)+12)
		}
	}
}

// wrap breaks a text into lines of at most w points; a word that is wider than
// that, such as a fingerprint, is broken anywhere.
func (b *Body) wrap(p *painter, s string, w float64) []string {
	var out []string
	for _, paragraph := range strings.Split(s, "\n") {
		line := ""
		for _, word := range strings.Fields(paragraph) {
			for p.width("regular", 12.5, word) > w {
				n := len(word)
				for n > 1 && p.width("regular", 12.5, word[:n]) > w {
					n--
				}
				if line != "" {
					out, line = append(out, line), ""
				}
				out, word = append(out, word[:n]), word[n:]
			}
			if try := strings.TrimSpace(line + " " + word); p.width("regular", 12.5, try) > w {
				out, line = append(out, line), word
			} else {
				line = try
			}
		}
		if line != "" {
			out = append(out, line)
		}
	}
	return out
}

// fit cuts a text to w points.
func fit(p *painter, s string, w, size float64) string {
	for n := len([]rune(s)); p.width("light", size, s) > w && n > 1; n-- {
		s = fmt.Sprintf("%s…", strings.TrimSpace(string([]rune(s)[:n-2])))
	}
	return s
}

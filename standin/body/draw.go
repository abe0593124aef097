package body

import (
	"embed"
	"image"
	"image/color"
	"io/fs"
	"math"
	"strings"
	"sync"

	"github.com/fogleman/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
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
	for _, w := range []string{"light", "regular", "medium", "semibold", "mono", "mono bold"} {
		raw, err := fontFiles.ReadFile("fonts/plex-sans-" + w + ".ttf")
		switch w {
		case "mono":
			raw, err = gomono.TTF, nil
		case "mono bold":
			raw, err = gomonobold.TTF, nil
		}
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

// painter draws one picture; its measures are points.
type painter struct {
	*gg.Context
	w, h float64
	zoom float64 // of the type, where the context is scaled; 0: 1
}

func (p *painter) face(weight string, size float64) {
	if p.zoom == 0 {
		p.zoom = 1
	}
	p.SetFontFace(face(weight, size*Scale*p.zoom))
}

// text writes s with its baseline at y and returns its width.
func (p *painter) text(weight string, size float64, c color.Color, s string, x, y float64) float64 {
	p.face(weight, size)
	p.SetColor(c)
	if p.zoom != 1 {
		// Type is not stretched: it is set at its size, at the place scaled.
		p.Push()
		p.Identity()
		p.DrawString(s, x*Scale*p.zoom, y*Scale*p.zoom)
		p.Pop()
	} else {
		p.DrawString(s, x*Scale, y*Scale)
	}
	return p.width(weight, size, s)
}

func (p *painter) width(weight string, size float64, s string) float64 {
	p.face(weight, size)
	w, _ := p.MeasureString(s)
	return w / Scale / p.zoom
}

// centred writes s into the middle of a place.
func (p *painter) centred(weight string, size float64, c color.Color, s string, r image.Rectangle) {
	w := p.width(weight, size, s)
	p.text(weight, size, c, s, float64(r.Min.X)+(float64(r.Dx())-w)/2, float64(r.Min.Y)+float64(r.Dy())/2+size*0.36)
}

func (p *painter) line(c color.Color, w, x1, y1, x2, y2 float64) {
	p.SetColor(c)
	p.SetLineWidth(w * Scale)
	p.SetLineCapRound()
	p.DrawLine(x1*Scale, y1*Scale, x2*Scale, y2*Scale)
	p.Stroke()
}

func (p *painter) box(c color.Color, x, y, w, h, r float64) {
	p.SetColor(c)
	p.DrawRoundedRectangle(x*Scale, y*Scale, w*Scale, h*Scale, r*Scale)
	p.Fill()
}

func (p *painter) rect(c color.Color, r image.Rectangle, radius float64) {
	p.box(c, float64(r.Min.X), float64(r.Min.Y), float64(r.Dx()), float64(r.Dy()), radius)
}

func (p *painter) disc(c color.Color, x, y, r float64) {
	p.SetColor(c)
	p.DrawCircle(x*Scale, y*Scale, r*Scale)
	p.Fill()
}

func (p *painter) ring(c color.Color, w, x, y, r float64) {
	p.SetColor(c)
	p.SetLineWidth(w * Scale)
	p.DrawCircle(x*Scale, y*Scale, r*Scale)
	p.Stroke()
}

// path fills the closed shape through points.
func (p *painter) path(c color.Color, points ...float64) {
	p.SetColor(c)
	for i := 0; i+1 < len(points); i += 2 {
		p.LineTo(points[i]*Scale, points[i+1]*Scale)
	}
	p.ClosePath()
	p.Fill()
}

// wave fills everything below a wavy line at y.
func (p *painter) wave(c color.Color, y, swing, phase float64) {
	p.SetColor(c)
	p.MoveTo(0, p.h*Scale)
	for x := 0.0; x <= p.w; x += 2 {
		p.LineTo(x*Scale, (y+swing*math.Sin(x/p.w*2*math.Pi+phase))*Scale)
	}
	p.LineTo(p.w*Scale, p.h*Scale)
	p.ClosePath()
	p.Fill()
}

// wrap breaks a text into lines of at most w points; a word that is wider than
// that, such as a fingerprint, is broken anywhere.
func (p *painter) wrap(weight string, size float64, s string, w float64) []string {
	var out []string
	for _, paragraph := range strings.Split(s, "\n") {
		line := ""
		for _, word := range strings.Fields(paragraph) {
			for p.width(weight, size, word) > w {
				n := len(word)
				for n > 1 && p.width(weight, size, word[:n]) > w {
					n--
				}
				if line != "" {
					out, line = append(out, line), ""
				}
				out, word = append(out, word[:n]), word[n:]
			}
			if try := strings.TrimSpace(line + " " + word); p.width(weight, size, try) > w {
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
func (p *painter) fit(weight string, size float64, s string, w float64) string {
	for n := len([]rune(s)); p.width(weight, size, s) > w && n > 2; n-- {
		s = strings.TrimSpace(string([]rune(s)[:n-2])) + "…"
	}
	return s
}

// lines writes lines from top to bottom and returns the next baseline.
func (p *painter) lines(weight string, size, pitch float64, c color.Color, lines []string, x, y float64) float64 {
	for _, l := range lines {
		p.text(weight, size, c, l, x, y)
		y += pitch
	}
	return y
}

// fade fills everything with a gradient from top to bottom, row by row: a pattern that is asked for the colour of
// every single point takes longer than all else that is drawn.
func (p *painter) fade(above, below color.Color) {
	img := p.Image().(*image.RGBA) // as gg makes it
	from, to := color.RGBAModel.Convert(above).(color.RGBA), color.RGBAModel.Convert(below).(color.RGBA)
	b := img.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		at := min(float64(y)/(p.h*Scale), 1)
		mix := func(a, b uint8) uint8 { return uint8(float64(a) + at*(float64(b)-float64(a)) + 0.5) }
		row := img.Pix[img.PixOffset(b.Min.X, y):][:4*b.Dx()]
		copy(row, []byte{mix(from.R, to.R), mix(from.G, to.G), mix(from.B, to.B), 255})
		for done := 4; done < len(row); done *= 2 {
			copy(row[done:], row[:done])
		}
	}
}

package body

import (
	"context"
	"image/color"
	"sync"

	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"

	"earlybench.invalid/earlybench/core/plain"
)

// An app draws on an area of this size, in points, whatever it is shown on.
const (
	canvasWidth  = 276
	canvasHeight = 452
)

// canvas is what an app has drawn: marks in points, on an area of 276 by 452.
// The module "screen" has
//
//	clear(rgb u32)
//	rect(x, y, w, h i32, rgb u32)
//	text(x, y, size i32, at, length u32, rgb u32)   a baseline at y; UTF-8 in memory
//	show()
//
// and nothing is visible before show.
type canvas struct {
	mu     sync.Mutex
	shown  []mark
	coming []mark
}

type mark struct {
	kind          byte // c, r, t
	x, y, w, h, s int32
	text          string
	rgb           uint32
}

// maxMarks limits the marks in one picture of an app.
const maxMarks = 2000

func (c *canvas) add(m mark) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.coming) < maxMarks {
		c.coming = append(c.coming, m)
	}
}

func (c *canvas) export(ctx context.Context, r wazero.Runtime, changed func()) error {
	m := r.NewHostModuleBuilder("screen")
	m.NewFunctionBuilder().WithFunc(func(rgb uint32) {
		c.mu.Lock()
		c.coming = nil
		c.mu.Unlock()
		c.add(mark{kind: 'c', rgb: rgb})
	}).Export("clear")
	m.NewFunctionBuilder().WithFunc(func(x, y, w, h int32, rgb uint32) {
		c.add(mark{kind: 'r', x: x, y: y, w: w, h: h, rgb: rgb})
	}).Export("rect")
	m.NewFunctionBuilder().WithFunc(func(_ context.Context, mod api.Module, x, y, size int32, at, length, rgb uint32) {
		if raw, ok := mod.Memory().Read(at, min(length, 400)); ok {
			c.add(mark{kind: 't', x: x, y: y, s: min(max(size, 6), 96), text: plain.Cut(plain.Line(string(raw)), 200), rgb: rgb})
		}
	}).Export("text")
	m.NewFunctionBuilder().WithFunc(func() {
		c.mu.Lock()
		c.shown = append([]mark(nil), c.coming...)
		c.mu.Unlock()
		changed()
	}).Export("show")
	_, err := m.Instantiate(ctx)
	return err
}

func rgb(v uint32) color.Color {
	return color.RGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255}
}

func (c *canvas) paint(p *painter) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range c.shown {
		switch m.kind {
		case 'c':
			p.box(rgb(m.rgb), 0, 0, canvasWidth, canvasHeight, 0)
		case 'r':
			p.box(rgb(m.rgb), float64(m.x), float64(m.y), float64(m.w), float64(m.h), float64(min(6, m.w/2, m.h/2)))
		case 't':
			weight := "regular"
			if m.s >= 24 {
				weight = "light"
			}
			p.text(weight, float64(m.s), rgb(m.rgb), m.text, float64(m.x), float64(m.y))
		}
	}
}

package body

import (
	"context"
	"fmt"
	"image"
	"slices"
	"strings"
	"time"
)

// Scale is how many pixels a picture has for each point.
const Scale = 2

// screen is the current position in the device's pages.
type screen struct {
	pages  []string // from home to the current one
	scroll int      // of the current one, in points; on a round screen: rows
	dialog *dialog
	pad    *pad
	typed  string // into the search or an entry
	about  string // the app whose developer is to be accepted
	wrong  int    // figures that were wrong
	toast  string
	ends   time.Time // of the toast
	taps   int
	tapped time.Time
	ripple image.Point
	front  string // the app in front; "" for the pages
	finger []image.Point
}

// dialog asks before something is changed.
type dialog struct {
	title   string
	text    string
	options []option
	press   func(key int) // what real keys do
	held    int
}

type option struct {
	text   string
	chosen bool
	act    func() // with the lock held
}

func (s *screen) home() { *s = screen{pages: []string{"home"}} }

func (s *screen) page() string { return s.pages[len(s.pages)-1] }

// open goes to a page. The lock is held.
func (b *Body) open(page string) {
	s := &b.screen
	s.pages = append(s.pages, page)
	s.toast, s.typed, s.scroll, s.taps = "", "", 0, 0
}

func (b *Body) back() {
	s := &b.screen
	switch {
	case s.front != "":
		s.front = ""
	case len(s.pages) > 1:
		s.pages = s.pages[:len(s.pages)-1]
	}
	s.toast, s.taps, s.typed, s.scroll = "", 0, "", 0
}

// Size is the screen's size, in points.
func (b *Body) Size() image.Point { return b.style.size() }

// Style is the name of the look, for pages that draw the body around the screen.
func (b *Body) Style() string { return b.cfg.Spec.Look.Style }

// Form is its form: phone, tablet, keys, round.
func (b *Body) Form() string { return b.form() }

func (b *Body) form() string {
	if b.model.Size != "" {
		return b.model.Size
	}
	return b.cfg.Spec.Look.Size
}

// Frame waits for a picture of the screen that is newer than after, and returns it.
func (b *Body) Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error) {
	for {
		b.mu.Lock()
		if b.rev > after {
			img, rev := b.picture(), b.rev
			b.mu.Unlock()
			return img, rev, nil
		}
		changed := b.changed
		b.mu.Unlock()
		select {
		case <-ctx.Done():
			return nil, 0, ctx.Err()
		case <-changed:
		}
	}
}

// Elements are the things on the screen that can be touched now.
func (b *Body) Elements() ([]Element, uint64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := b.layout().elements()
	for i := range out {
		r := out[i].Rect
		out[i].X, out[i].Y, out[i].W, out[i].H = r.Min.X, r.Min.Y, r.Dx(), r.Dy()
	}
	return out, b.rev
}

// picture draws the screen if it changed since. The lock is held.
func (b *Body) picture() *image.RGBA {
	if b.drawn == nil || b.drawnRev != b.rev {
		b.drawn, b.drawnRev = b.draw(), b.rev
	}
	return b.drawn
}

// Tap touches a point, in points.
func (b *Body) Tap(x, y int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.tap(image.Pt(x, y))
}

func (b *Body) tap(at image.Point) {
	b.used = b.cfg.Clock.Now()
	page := b.screen.page()
	b.screen.ripple = at
	if e := hit(b.layout().elements(), at); e != nil && e.act != nil {
		e.act()
	}
	if b.screen.page() != page {
		b.screen.ripple = image.Point{}
	}
	b.redraw()
}

// hit returns the element under a finger; of several, the front one.
func hit(elements []Element, at image.Point) *Element {
	for i := len(elements) - 1; i >= 0; i-- {
		if at.In(elements[i].Rect) {
			return &elements[i]
		}
	}
	return nil
}

// slideFrom is how far a finger must go to slide, in points.
const slideFrom = 12

// Slide draws a finger along points: it scrolls, and on a round screen goes to the
// next row.
func (b *Body) Slide(path []image.Point) {
	if len(path) == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	way := path[len(path)-1].Sub(path[0])
	far := image.Rectangle{Min: path[0], Max: path[0]}
	for _, p := range path {
		far = far.Union(image.Rectangle{Min: p, Max: p.Add(image.Pt(1, 1))})
	}
	if max(far.Dx(), far.Dy()) < slideFrom {
		b.tap(path[0])
		return
	}
	b.used = b.cfg.Clock.Now()
	if s := b.layout(); s.kind == "lock" && way.Y < 0 {
		s.wake.act()
	} else if s.kind == "page" {
		b.screen.scroll = b.style.scroll(s, way)
	}
	b.redraw()
}

// Touch finds the element with a text on the screen and taps it.
func (b *Body) Touch(text string) error {
	elements, _ := b.Elements()
	var seen []string
	for i := len(elements) - 1; i >= 0; i-- {
		e := elements[i]
		if strings.EqualFold(e.Text, text) {
			b.Tap(e.X+e.W/2, e.Y+e.H/2)
			return nil
		}
		if e.Kind != "key" || len([]rune(e.Text)) > 1 {
			seen = append([]string{fmt.Sprintf("%q", e.Text)}, seen...)
		}
	}
	if len(seen) == 0 {
		return fmt.Errorf("there is nothing to touch on the screen of %s just now", b.cfg.Name)
	}
	return fmt.Errorf("there is no %q on the screen of %s; there are %s", text, b.cfg.Name, strings.Join(seen, ", "))
}

// SlideTo slides up, down, left or right over the middle of the screen.
func (b *Body) SlideTo(way string) error {
	size := b.style.size()
	middle, far := image.Pt(size.X/2, size.Y/2), image.Pt(size.X/3, size.Y/4)
	d, ok := map[string]image.Point{"up": {0, -far.Y}, "down": {0, far.Y}, "left": {-far.X, 0}, "right": {far.X, 0}}[way]
	if !ok {
		return fmt.Errorf("%q is no way to slide: say up, down, left or right", way)
	}
	b.Slide([]image.Point{middle.Sub(d), middle.Add(d)})
	return nil
}

// Type types a text where there is something to type into.
func (b *Body) Type(text string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.typing() {
		return fmt.Errorf("there is nothing to type into on the screen of %s", b.cfg.Name)
	}
	b.used = b.cfg.Clock.Now()
	for _, r := range text {
		b.typeRune(r)
	}
	b.redraw()
	return nil
}

// keyNames are the keys that any body has on its outside.
var keyNames = []string{"power", "back", "enter"}

// Keys are the keys that any body has on its outside.
func Keys() []string { return slices.Clone(keyNames) }

// Press presses a key of the body: power, back or enter.
func (b *Body) Press(key string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.used = b.cfg.Clock.Now()
	s := b.layout()
	switch key {
	case "power":
		switch {
		case b.booting:
		case b.asleep:
			b.rouse()
		case b.cfg.Spec.Sleep != "":
			b.asleep = true
		default:
			b.lock()
		}
	case "back":
		if s.back != nil {
			s.back.act()
		}
	case "enter":
		for _, line := range s.keys {
			for _, e := range line {
				if len([]rune(e.Text)) > 1 && e.Value == "" {
					e.act()
					b.redraw()
					return nil
				}
			}
		}
	default:
		return fmt.Errorf("%s has no key %q; it has %s", b.cfg.Name, key, strings.Join(keyNames, ", "))
	}
	b.redraw()
	return nil
}

// Pointer handles a finger on the link's screen channel, in pixels. Its path takes
// effect when it is lifted.
func (b *Body) Pointer(x, y int, buttons uint8) {
	at := image.Pt(x/Scale, y/Scale)
	b.mu.Lock()
	if buttons&1 != 0 {
		if len(b.screen.finger) < 200 {
			b.screen.finger = append(b.screen.finger, at)
		}
		b.mu.Unlock()
		return
	}
	path := b.screen.finger
	b.screen.finger = nil
	b.mu.Unlock()
	b.Slide(path)
}

// Keys of RFC 6143, 7.5.4, that are more than their letter.
const (
	keyBackspace = 0xff08
	keyReturn    = 0xff0d
	keyEscape    = 0xff1b
	keyLeft      = 0xff51
	keyUp        = 0xff52
	keyRight     = 0xff53
	keyDown      = 0xff54
)

// Key is a key over the link's screen channel.
func (b *Body) Key(code uint32, down bool) {
	if !down {
		return
	}
	switch {
	case code == keyBackspace:
		b.mu.Lock()
		b.deleteRune()
		b.redraw()
		b.mu.Unlock()
	case code >= keyLeft && code <= keyDown:
		b.arrow(code)
	case code == keyReturn:
		b.Press("enter") //nolint:errcheck // a known key
	case code == keyEscape:
		b.Press("back") //nolint:errcheck // a known key
	case code >= ' ' && code < 0x7f:
		b.Type(string(rune(code))) //nolint:errcheck // where nothing is typed, nothing happens
	}
}

// arrow turns a hand of the dial, or slides where there is none: right and down go on.
func (b *Body) arrow(code uint32) {
	b.mu.Lock()
	dial := b.screen.pad != nil && b.cfg.Spec.Lock.Kind == "dial"
	if dial {
		by := map[uint32]int{keyLeft: -1, keyDown: -1, keyRight: 1, keyUp: 1}[code]
		b.turn(map[bool]int{true: 1}[code == keyUp || code == keyDown], by)
		b.redraw()
	}
	b.mu.Unlock()
	if !dial {
		b.SlideTo(map[uint32]string{keyLeft: "right", keyUp: "down", keyRight: "left", keyDown: "up"}[code]) //nolint:errcheck // known ways
	}
}

// say shows a toast for a few seconds. The lock is held.
func (b *Body) say(text string) {
	b.screen.toast = text
	b.screen.ends = b.cfg.Clock.Now().Add(4 * time.Second)
}

package body

import (
	"context"
	"fmt"
	"image"
	"slices"
	"strings"
	"time"
)

// Width and Height are the screen's size, in points; a picture has [Scale]
// pixels a point.
const (
	Width  = 276
	Height = 550
	Scale  = 2
)

// Element is something on the screen that a finger can find.
type Element struct {
	Text  string          `json:"text"`
	Value string          `json:"value,omitempty"`
	Kind  string          `json:"kind"` // row, button, option, back
	Rect  image.Rectangle `json:"-"`    // in points
	X     int             `json:"x"`
	Y     int             `json:"y"`
	W     int             `json:"w"`
	H     int             `json:"h"`

	act func() // with the lock held
}

// screen is where on the device one is.
type screen struct {
	pages  []string // from home to the current one
	dialog *dialog
	toast  string
	toasts int // counts them, so that an old one's end does not end a new one
	strokes,
	of int // of a toast that counts
	taps   int
	tapped time.Time
	ripple image.Point
	front  string // the app in front; "" for the pages
}

// dialog asks before something changes.
type dialog struct {
	title   string
	text    string
	options []option
}

type option struct {
	text   string
	chosen bool
	act    func() // with the lock held
}

func (s *screen) home() { *s = screen{pages: []string{"home"}} }

func (s *screen) page() string { return s.pages[len(s.pages)-1] }

// Frame is the picture of the screen, once it is newer than after.
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
	out := b.layout()
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
	at, page := image.Pt(x, y), b.screen.page()
	b.screen.ripple = at
	for _, e := range slices.Backward(b.layout()) {
		if at.In(e.Rect) {
			if e.act != nil {
				e.act()
			}
			break
		}
	}
	if b.screen.page() != page {
		b.screen.ripple = image.Point{}
	}
	b.redraw()
}

// Touch finds the element with a text on the screen, as a finger would, and
// taps it.
func (b *Body) Touch(text string) error {
	elements, _ := b.Elements()
	var seen []string
	for _, e := range slices.Backward(elements) {
		if strings.EqualFold(e.Text, text) {
			b.Tap(e.X+e.W/2, e.Y+e.H/2)
			return nil
		}
		seen = append(seen, fmt.Sprintf("%q", e.Text))
	}
	slices.Reverse(seen)
	return fmt.Errorf("there is no %q on the screen of %s; there are %s", text, b.cfg.Name, strings.Join(seen, ", "))
}

// Pointer is a finger over the link's screen channel, in pixels.
func (b *Body) Pointer(x, y int, buttons uint8) {
	if buttons&1 != 0 {
		b.Tap(x/Scale, y/Scale)
	}
}

// Key does nothing: this body has no keys.
func (b *Body) Key(uint32, bool) {}

// say shows a toast for a while. The lock is held.
func (b *Body) say(text string) {
	b.screen.toast, b.screen.strokes, b.screen.of = text, 0, 0
	b.screen.toasts++
	mine := b.screen.toasts
	after := b.cfg.Clock.After(4 * time.Second)
	go func() {
		<-after
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.screen.toasts == mine && !b.closed {
			b.screen.toast = ""
			b.redraw()
		}
	}()
}

// row does what tapping a row of a page does. The lock is held.
func (b *Body) row(r RowSpec) {
	if !r.Hidden {
		b.screen.taps = 0
	}
	switch {
	case r.Page != "":
		b.screen.pages = append(b.screen.pages, r.Page)
		b.screen.toast = ""
	case r.Hidden:
		b.hiddenTap()
	case r.Choose != "":
		b.choose(r)
	case r.Switch != "":
		b.flip(r)
	case r.Action == "wipe":
		b.ask("Start over?", "Everything on this handset is forgotten, and it will be a new one to every computer.", "Start over", b.wipe)
	case r.Action == "close":
		b.ask("Close the Back room?", "It goes away, and every computer that was let in is sent away.", "Close it", func() {
			b.st.Opened = false
			b.st.Settings = map[string]string{"computers": "nothing", "air": "no", "lit": "no"}
			b.st.Admissions = map[string]admission{}
			b.screen.pages = []string{"home", "settings"}
			b.touchState()
		})
	}
}

// hiddenTap counts the taps on the row that opens the hidden page.
func (b *Body) hiddenTap() {
	h := b.cfg.Spec.Hidden
	if b.st.Opened {
		b.say(h.Already)
		return
	}
	within, _ := time.ParseDuration(h.Within)
	now := b.cfg.Clock.Now()
	if now.Sub(b.screen.tapped) > within {
		b.screen.taps = 0
	}
	b.screen.tapped = now
	b.screen.taps++
	if b.screen.taps < h.Taps {
		b.say(strings.NewReplacer("{n}", fmt.Sprint(b.screen.taps), "{taps}", fmt.Sprint(h.Taps)).Replace(h.Counting))
		b.screen.strokes, b.screen.of = b.screen.taps, h.Taps
		return
	}
	b.st.Opened = true
	b.screen.taps = 0
	b.say(h.Opened)
	b.touchState()
}

func (b *Body) ask(title, text, yes string, act func()) {
	b.screen.dialog = &dialog{title: title, text: text, options: []option{{text: yes, act: act}, {text: "Leave it"}}}
}

func (b *Body) choose(r RowSpec) {
	d := &dialog{title: r.Text}
	for _, o := range r.Options {
		d.options = append(d.options, option{text: o, chosen: b.st.Settings[r.Choose] == o, act: func() {
			set := func() { b.set(r.Choose, o) }
			if risk := r.Risk[o]; risk != "" && b.st.Settings[r.Choose] != o {
				b.ask("At your own risk", risk, "Let them", set)
				return
			}
			set()
		}})
	}
	b.screen.dialog = d
}

func (b *Body) flip(r RowSpec) {
	if b.st.Settings[r.Switch] == "yes" {
		b.set(r.Switch, "no")
		return
	}
	b.ask(r.Text+"?", r.Risk[""], "Yes", func() { b.set(r.Switch, "yes") })
}

func (b *Body) set(setting, value string) {
	b.st.Settings[setting] = value
	b.touchState()
}

// answer answers the admission question. The lock is held.
func (b *Body) answer(a string) {
	if b.question != nil {
		select {
		case b.question.answer <- a:
		default:
		}
		b.question = nil
	}
}

func (b *Body) back() {
	s := &b.screen
	switch {
	case s.front != "":
		s.front = ""
	case len(s.pages) > 1:
		s.pages = s.pages[:len(s.pages)-1]
	}
	s.toast, s.taps = "", 0
}

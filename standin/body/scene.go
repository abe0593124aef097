package body

import (
	"fmt"
	"image"
	"maps"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
)

// Element is something on the screen that can be touched.
type Element struct {
	Text  string          `json:"text"`
	Value string          `json:"value,omitempty"`
	Note  string          `json:"note,omitempty"` // what a picture shows beside it
	Kind  string          `json:"kind"`           // row, tab, option, key, field, back, wake, code
	Rect  image.Rectangle `json:"-"`              // in points
	X     int             `json:"x"`
	Y     int             `json:"y"`
	W     int             `json:"w"`
	H     int             `json:"h"`

	state string // "on" or "off" of a switch, "here" of a tab, "chosen" of an option, "held" of a key
	notch int    // filled notches beside a row, of notches
	of    int
	act   func() // with the lock held
}

// scene is what is on the screen, before a style lays it out.
type scene struct {
	kind         string // dark, boot, lock, pad, dialog, app, page
	above, title string
	text         string
	rows         []Element
	tabs         []Element
	options      []Element
	keys         [][]Element // of a pad or of the search
	dial         *[2]int     // where its short and its long hand stand
	field        *Element    // of the search
	typed        string      // into the field, the pad or an entry
	hide         bool        // typed is a secret
	code         string      // shown large
	codeAt       image.Rectangle
	entry        string        // what is to be typed, as underscores; "" for nothing
	press        func(key int) // what a real key does, where rows and options are not chosen by it
	held         int           // the key that is held down
	back         *Element
	wake         *Element
	scroll       int
	toast        string
	ripple       image.Point
	clock        string
	battery      int
	app          *process
}

// elements are all that can be touched, those in front last.
func (s *scene) elements() []Element {
	var out []Element
	out = append(out, s.tabs...)
	if s.field != nil {
		out = append(out, *s.field)
	}
	if s.code != "" {
		out = append(out, Element{Text: s.code, Kind: "code", Rect: s.codeAt})
	}
	out = append(out, s.rows...)
	for _, line := range s.keys {
		out = append(out, line...)
	}
	out = append(out, s.options...)
	for _, e := range []*Element{s.back, s.wake} {
		if e != nil {
			out = append(out, *e)
		}
	}
	return slices.DeleteFunc(out, func(e Element) bool { return e.Rect.Empty() })
}

// layout returns the screen's scene, laid out. The lock is held.
func (b *Body) layout() *scene {
	s := b.compose()
	b.style.place(s)
	return s
}

// compose builds what the screen shows. The lock is held.
func (b *Body) compose() *scene {
	s := &scene{toast: b.screen.toast, ripple: b.screen.ripple,
		clock: b.now().Local().Format("15:04"), battery: b.charge()}
	spec := b.cfg.Spec
	switch {
	case b.booting:
		s.kind, s.title, s.text = "boot", spec.word("booting"), spec.Maker
	case b.asleep:
		s.kind, s.wake = "dark", &Element{Text: spec.word("wake"), Kind: "wake", act: b.rouse}
	case b.screen.pad != nil:
		b.composePad(s, b.screen.pad)
	case b.locked:
		s.kind, s.title, s.above = "lock", spec.word("locked"), b.model.Name
		s.wake = &Element{Text: spec.word("unlock"), Kind: "wake", act: func() { b.unlock(nil) }}
	case b.asking() != nil:
		b.composeDialog(s, b.asking())
	case b.screen.front != "" && b.running[b.screen.front] != nil:
		s.kind, s.app = "app", b.running[b.screen.front]
		s.above, s.title = "App", b.st.Apps[b.screen.front].Name
		s.back = b.backElement()
	default:
		b.composePage(s)
	}
	return s
}

func (b *Body) backElement() *Element {
	return &Element{Text: b.cfg.Spec.word("back"), Kind: "back", act: b.back}
}

func (b *Body) composeDialog(s *scene, d *dialog) {
	s.kind, s.title, s.text, s.press, s.held = "dialog", d.title, d.text, d.press, d.held
	for _, o := range d.options {
		e := Element{Text: o.text, Kind: "option", act: func() {
			b.screen.dialog = nil
			if o.act != nil {
				o.act()
			}
		}}
		if o.chosen {
			e.Value, e.state = "chosen", "chosen"
		}
		s.options = append(s.options, e)
	}
}

func (b *Body) composePage(s *scene) {
	s.kind, s.scroll = "page", b.screen.scroll
	at := b.screen.page()
	b.composeTabs(s)
	if len(b.screen.pages) > 1 {
		s.back = b.backElement()
	}
	switch at {
	case "home":
		s.above, s.title, s.rows = b.cfg.Spec.Maker, b.model.Name, b.homeRows()
		return
	case "find":
		b.composeFind(s)
		return
	case "accept":
		b.composeAccept(s)
		return
	}
	page := b.cfg.Spec.Pages[at]
	s.above, s.title, s.text = page.Above, page.Title, b.fill(page.Text)
	if e := b.entry(); e != nil {
		b.composeEntry(s, e)
		return
	}
	if page.Code != nil && b.holds(page.Code.When) {
		s.text, s.code = page.Code.Text, b.st.Code
	}
	if at == "settings" {
		s.rows = append(s.rows, Element{Text: b.cfg.Spec.word("find"), Kind: "row", act: func() { b.open("find") }})
	}
	for _, r := range b.rows(at) {
		e := Element{Text: b.fill(r.Text), Value: b.fill(r.Value), Kind: "row", act: func() { b.row(r) }}
		if r.Switch != "" {
			e.state = map[bool]string{true: "on", false: "off"}[b.st.Settings[r.Switch] == "yes"]
			e.Note = e.state
		}
		if h := b.cfg.Spec.Hidden; r.Hidden && b.st.Opened && r.Page != "" {
			e.Value = h.Opened
		} else if r.Hidden && h.Notches {
			e.notch, e.of = b.screen.taps, h.Taps
			e.Note = fmt.Sprintf("%d of %d notches", e.notch, e.of)
		}
		s.rows = append(s.rows, e)
	}
	s.rows = append(s.rows, b.listRows(page.List)...)
}

// composeTabs are the first-level pages, which some styles show all the time.
func (b *Body) composeTabs(s *scene) {
	if !b.style.tabbed() {
		return
	}
	for _, r := range b.rows("settings") {
		e := Element{Text: r.Text, Kind: "tab", act: func() { b.screen.pages = []string{"home", "settings"}; b.open(r.Page) }}
		if slices.Contains(b.screen.pages, r.Page) {
			e.state = "here"
		}
		s.tabs = append(s.tabs, e)
	}
}

// composeFind is the settings' own search: every row of every page that holds
// what was typed, hidden ones too.
func (b *Body) composeFind(s *scene) {
	w := b.cfg.Spec
	s.title, s.above, s.typed = w.word("find"), w.word("settings"), b.screen.typed
	s.field = &Element{Text: w.word("field"), Value: b.screen.typed, Kind: "field"}
	s.keys = b.letters(false, "", nil)
	if b.screen.typed == "" {
		return
	}
	for _, id := range slices.Sorted(maps.Keys(w.Pages)) {
		if !b.reachable(id) {
			continue
		}
		for _, r := range b.rows(id) {
			if strings.Contains(strings.ToLower(r.Text), strings.ToLower(b.screen.typed)) {
				s.rows = append(s.rows, Element{Text: b.fill(r.Text), Value: w.Pages[id].Title, Kind: "row", act: func() { b.openFound(id) }})
			}
		}
	}
	s.rows = s.rows[:min(len(s.rows), 4)]
	if len(s.rows) == 0 {
		s.text = w.word("nothing")
	}
}

// reachable reports whether visible rows lead to a page.
func (b *Body) reachable(id string) bool {
	_, ok := b.leadingTo(id)
	return id == "settings" || ok
}

// leadingTo returns the row that leads to a page.
func (b *Body) leadingTo(id string) (RowSpec, bool) {
	way := b.wayTo(id)
	if len(way) < 2 {
		return RowSpec{}, false
	}
	rows := b.rows(way[len(way)-2])
	i := slices.IndexFunc(rows, func(r RowSpec) bool { return b.leads(r) == id })
	if i < 0 {
		return RowSpec{}, false
	}
	return rows[i], true
}

// openFound opens a page that the search found, as tapping the row that leads there does.
func (b *Body) openFound(id string) {
	if r, ok := b.leadingTo(id); ok {
		b.row(r)
		return
	}
	b.open(id)
}

// leads returns the page that a row leads to now; a hidden page cannot be reached
// before it was opened. The lock is held.
func (b *Body) leads(r RowSpec) string {
	if r.Hidden && !b.st.Opened {
		return ""
	}
	return r.Page
}

// holds reports whether all conditions are true. The lock is held.
func (b *Body) holds(c conditions) bool {
	for name, values := range c {
		v := b.st.Settings[name]
		switch name {
		case "opened":
			v = yesNo(b.st.Opened)
		case "locked":
			v = yesNo(b.locked)
		case "asleep":
			v = yesNo(b.asleep)
		}
		if !slices.Contains(values, v) {
			return false
		}
	}
	return true
}

func yesNo(v bool) string { return map[bool]string{true: "yes", false: "no"}[v] }

// rows returns the visible rows of a page. The lock is held.
func (b *Body) rows(page string) []RowSpec {
	p := b.cfg.Spec.Pages[page]
	if p == nil {
		return nil
	}
	release := fact.Release(b.release())
	var out []RowSpec
	for _, r := range p.Rows {
		if !b.holds(r.When) || r.From != "" && release.Compare(fact.Release(r.From)) < 0 || r.Below != "" && release.Compare(fact.Release(r.Below)) >= 0 {
			continue
		}
		if r.Choose != "" {
			r.Value = b.st.Settings[r.Choose]
		}
		out = append(out, r)
	}
	return out
}

// listRows returns rows for what the device keeps: admitted computers, installed
// apps.
func (b *Body) listRows(list string) []Element {
	var out []Element
	switch list {
	case "admissions":
		for _, key := range slices.Sorted(maps.Keys(b.st.Admissions)) {
			a := b.st.Admissions[key]
			value := b.cfg.Spec.word(a.For)
			switch {
			case a.Loan != nil:
				value += " until " + a.Until.Format("2 Jan, 15:04")
			case !a.Until.IsZero():
				value += ", " + a.Until.Format("2 Jan 2006")
			}
			out = append(out, Element{Text: a.Name, Value: value, Kind: "row", act: func() {
				b.ask(b.cfg.Spec.word("away"), a.Name+"\n"+strings.TrimPrefix(key, lentPrefix), b.cfg.Spec.word("yes"), func() { b.sendAway(key) })
			}})
		}
	case "developers":
		out = b.developerRows()
	case "apps":
		for _, a := range b.appList() {
			out = append(out, Element{Text: a.Name, Value: a.Version, Kind: "row"})
		}
	case "ledger":
		for _, a := range b.appList() {
			whose, until := b.ledgerOf(b.st.Apps[a.ID])
			out = append(out, Element{Text: a.Name, Value: until, Kind: "row"}, Element{Text: "of " + whose, Kind: "row"})
		}
	}
	if len(out) == 0 && list != "" {
		out = []Element{{Text: b.cfg.Spec.word("none"), Kind: "row"}}
	}
	return out
}

// homeRows are the settings and the installed apps.
func (b *Body) homeRows() []Element {
	out := []Element{{Text: b.cfg.Spec.word("settings"), Value: b.cfg.Spec.word("this"), Kind: "row", act: func() { b.open("settings") }}}
	for _, a := range b.appList() {
		value := a.Version
		if a.Running {
			value += ", " + b.cfg.Spec.word("running")
		}
		stopped := b.isStopped(b.st.Apps[a.ID].By)
		if stopped {
			value += ", " + b.cfg.Spec.Accept.Mark
		}
		out = append(out, Element{Text: a.Name, Value: value, Kind: "row", act: func() {
			switch {
			case b.running[a.ID] != nil:
				b.screen.front = a.ID
			case stopped:
				b.open("accept")
				b.screen.about = a.ID
			default:
				go b.start(a.ID) //nolint:errcheck // the log tells
			}
		}})
	}
	return out
}

// asking builds what is shown in front of the pages: the admission question or a
// dialog.
func (b *Body) asking() *dialog {
	q := b.question
	if q == nil && b.meeting != nil {
		if d := b.meeting.dialog(); d != nil {
			return d
		}
	}
	if q == nil {
		return b.screen.dialog
	}
	name := plain.Cut(plain.Line(q.visitor.Name), 40)
	fill := strings.NewReplacer("{bench}", name, "{fingerprint}", q.visitor.Key)
	a := b.cfg.Spec.Admit
	d := &dialog{title: fill.Replace(a.Title), text: fill.Replace(a.Text)}
	if q.met {
		d.text = fill.Replace(b.cfg.Spec.Air.Offer)
	}
	switch {
	case a.Pick != nil:
		for _, n := range q.numbers {
			d.options = append(d.options, option{text: n, act: func() { b.answer(q.onPick(n, a.Pick.For)) }})
		}
		d.options = append(d.options, option{text: a.Pick.None, act: func() { b.answer("no") }})
	case a.Hold != nil:
		d.text += "\n" + strings.NewReplacer("{one}", fmt.Sprint(q.keys[0]), "{other}", fmt.Sprint(q.keys[1])).Replace(a.Hold.Text)
		d.press, d.held = b.holdKey, q.held
		d.options = []option{{text: a.Hold.Away, act: func() { b.answer("no") }}}
	}
	for _, o := range a.Options {
		if q.visitor.Shared && o.For != "visit" && o.For != "no" {
			continue
		}
		d.options = append(d.options, option{text: o.Text, act: func() { b.answer(o.For) }})
	}
	return d
}

// letters returns a keyboard; enter is the label of its last key, "" for none.
func (b *Body) letters(upper bool, enter string, act func()) [][]Element {
	var out [][]Element
	for _, line := range []string{"qwertyuiop", "asdfghjkl", "zxcvbnm"} {
		var keys []Element
		for _, r := range line {
			if upper {
				r += 'A' - 'a'
			}
			keys = append(keys, Element{Text: string(r), Kind: "key", act: func() { b.typeRune(r) }})
		}
		out = append(out, keys)
	}
	out[2] = append(out[2], Element{Text: b.cfg.Spec.word("delete"), Value: "‹", Kind: "key", act: b.deleteRune})
	if enter != "" {
		out = append(out, []Element{{Text: enter, Kind: "key", act: act}})
	}
	return out
}

// durationOr parses a duration of the spec, which was checked when it was loaded; ""
// means the default.
func durationOr(s string, otherwise time.Duration) time.Duration {
	if d, err := time.ParseDuration(s); err == nil {
		return d
	}
	return otherwise
}

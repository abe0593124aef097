package body

import (
	"image"
	"maps"
	"slices"
)

const (
	rowTop    = 54
	rowPitch  = 53
	shoreTop  = 452
	dialogRow = 40
)

// layout puts the elements of the current screen in their places. The lock is
// held.
func (b *Body) layout() []Element {
	if d := b.asking(); d != nil {
		return dialogElements(b, d)
	}
	if b.screen.front != "" {
		return []Element{b.backElement()}
	}
	var out []Element
	for i, r := range b.rows() {
		out = append(out, Element{Text: b.fill(r.Text), Value: b.fill(r.Value), Kind: "row",
			Rect: image.Rect(14, rowTop+i*rowPitch, Width-14, rowTop+i*rowPitch+rowPitch-4), act: func() { b.row(r) }})
	}
	if len(b.screen.pages) > 1 {
		out = append(out, b.backElement())
	}
	if b.screen.page() == "home" {
		out = append(b.homeElements(), out...)
	}
	return out
}

func (b *Body) backElement() Element {
	return Element{Text: "Back", Kind: "back", Rect: image.Rect(Width-58, 482, Width-14, 526), act: b.back}
}

// rows are the rows of the current page that show.
func (b *Body) rows() []RowSpec {
	page := b.cfg.Spec.Pages[b.screen.page()]
	if page == nil {
		return nil
	}
	var out []RowSpec
	for _, r := range page.Rows {
		if r.When == "opened" && !b.st.Opened {
			continue
		}
		if r.Choose != "" {
			r.Value = b.st.Settings[r.Choose]
		}
		if r.Switch != "" {
			r.Value = b.st.Settings[r.Switch]
		}
		out = append(out, r)
	}
	if page.List == "admissions" {
		for _, key := range slices.Sorted(maps.Keys(b.st.Admissions)) {
			a := b.st.Admissions[key]
			out = append(out, RowSpec{Text: a.Name, Value: a.For})
		}
	}
	return out
}

// homeElements are the settings and the installed apps.
func (b *Body) homeElements() []Element {
	at := func(i int) image.Rectangle {
		return image.Rect(14, rowTop+i*rowPitch, Width-14, rowTop+i*rowPitch+rowPitch-4)
	}
	out := []Element{{Text: "Settings", Value: "this handset", Kind: "row", Rect: at(0), act: func() {
		b.screen.pages = append(b.screen.pages, "settings")
	}}}
	for i, a := range b.appList() {
		value := a.Version
		if a.Running {
			value += ", running"
		}
		out = append(out, Element{Text: a.Name, Value: value, Kind: "row", Rect: at(i + 1), act: func() {
			if b.running[a.ID] != nil {
				b.screen.front = a.ID
				return
			}
			go b.start(a.ID) //nolint:errcheck // the log tells
		}})
	}
	return out
}

// asking is what stands in front of everything: the admission question, or a
// dialog.
func (b *Body) asking() *dialog {
	if q := b.question; q != nil {
		name := clean(q.visitor.Name, 40)
		d := &dialog{title: "Let " + name + " in?", text: "A computer calls itself " + name + " and shows this key:\n" + q.visitor.Key}
		d.options = append(d.options, option{text: "This visit", act: func() { b.answer("visit") }})
		if !q.visitor.Shared {
			d.options = append(d.options, option{text: "Until withdrawn", act: func() { b.answer("until withdrawn") }})
		}
		d.options = append(d.options, option{text: "No", act: func() { b.answer("no") }})
		return d
	}
	return b.screen.dialog
}

func dialogElements(b *Body, d *dialog) []Element {
	var out []Element
	top := Height - 22 - dialogRow*len(d.options)
	for i, o := range d.options {
		out = append(out, Element{Text: o.text, Kind: "option", Rect: image.Rect(20, top+i*dialogRow, Width-20, top+(i+1)*dialogRow-6), act: func() {
			b.screen.dialog = nil
			if o.act != nil {
				o.act()
			}
		}})
		if o.chosen {
			out[i].Value = "chosen"
		}
	}
	return out
}

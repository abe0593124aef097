package body

import (
	"maps"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/fact"
)

// row carries out a tap on a row of a page. The lock is held.
func (b *Body) row(r RowSpec) {
	if !r.Hidden {
		b.screen.taps = 0
	}
	switch {
	case r.Hidden && !b.st.Opened:
		b.hiddenTap()
	case r.Page != "" && r.Secret:
		b.wantSecret(b.secretTitle(), func() { b.open(r.Page) })
	case r.Page != "":
		b.open(r.Page)
	case r.Choose != "":
		b.choose(r)
	case r.Switch != "":
		b.flip(r)
	case r.Action != "":
		if risk := r.Risk[""]; risk != "" {
			b.ask(r.Text+"?", risk, r.Yes, func() { b.action(r.Action) })
			return
		}
		b.action(r.Action)
	}
}

func (b *Body) action(name string) {
	switch name {
	case "wipe":
		b.wipe()
	case "close":
		b.close()
	case "restart":
		b.restart()
	case "lock":
		b.lock()
	case "update":
		b.update()
	}
}

// close ends development on the body: its page is hidden, its settings return to
// their first values, and admitted computers are removed.
func (b *Body) close() {
	b.st.Opened = false
	b.st.Settings = maps.Clone(b.cfg.Spec.Settings)
	b.st.Admissions = map[string]admission{}
	b.st.Developers = map[string]*developerState{}
	b.screen.pages = []string{"home", "settings"}
	b.touchState()
}

// sendAway revokes one computer's admission.
func (b *Body) sendAway(key string) {
	delete(b.st.Admissions, key)
	b.say(b.cfg.Spec.word("sent"))
	b.touchState()
}

// update installs the next release, if there is one, with a restart.
func (b *Body) update() {
	next := b.model.Next
	if next == "" || fact.Release(next).Compare(fact.Release(b.release())) <= 0 {
		b.say(b.cfg.Spec.word("current"))
		return
	}
	b.st.Release = next
	b.restart()
	b.say(strings.ReplaceAll(b.cfg.Spec.word("updated"), "{release}", next))
	b.touchState()
}

// hiddenTap counts touches of the row that opens the hidden page. A pause that is too
// long starts the count again.
func (b *Body) hiddenTap() {
	h := b.cfg.Spec.Hidden
	now := b.cfg.Clock.Now()
	if now.Sub(b.screen.tapped) > durationOr(h.Within, 2*time.Second) {
		b.screen.taps = 0
	}
	b.screen.tapped = now
	if b.screen.taps++; b.screen.taps < h.Taps {
		return
	}
	b.screen.taps = 0
	open := func() {
		b.st.Opened = true
		b.touchState()
	}
	if h.Secret {
		b.wantSecret(b.secretTitle(), open)
		return
	}
	open()
}

func (b *Body) secretTitle() string { return b.cfg.Spec.word("secret " + b.cfg.Spec.Lock.Kind) }

func (b *Body) ask(title, text, yes string, act func()) {
	if yes == "" {
		yes = b.cfg.Spec.word("yes")
	}
	b.screen.dialog = &dialog{title: title, text: text, options: []option{{text: yes, act: act}, {text: b.cfg.Spec.word("leave")}}}
}

// risky calls do once the risk, if one is stated, was accepted and the secret, if one
// is asked for, was entered.
func (b *Body) risky(r RowSpec, title, risk string, act func()) {
	if r.Secret {
		inner := act
		act = func() { b.wantSecret(b.secretTitle(), inner) }
	}
	if risk == "" {
		act()
		return
	}
	b.ask(title, risk, r.Yes, act)
}

func (b *Body) choose(r RowSpec) {
	d := &dialog{title: r.Text}
	for _, o := range r.Options {
		d.options = append(d.options, option{text: o, chosen: b.st.Settings[r.Choose] == o, act: func() {
			if b.st.Settings[r.Choose] == o {
				return
			}
			b.risky(r, b.cfg.Spec.word("risk"), r.Risk[o], func() { b.set(r, r.Choose, o) })
		}})
	}
	b.screen.dialog = d
}

func (b *Body) flip(r RowSpec) {
	if b.st.Settings[r.Switch] == "yes" {
		b.set(r, r.Switch, "no")
		return
	}
	b.risky(r, r.Text+"?", r.Risk[""], func() {
		b.set(r, r.Switch, "yes")
		if r.Says != "" {
			b.say(r.Says)
		}
	})
}

func (b *Body) set(r RowSpec, setting, value string) {
	b.st.Settings[setting] = value
	maps.Copy(b.st.Settings, r.Sets[value])
	b.st.Code = ""
	for _, p := range b.cfg.Spec.Pages {
		if p.Code != nil && b.holds(p.Code.When) {
			b.st.Code = freshCode()
		}
	}
	b.touchState()
}

package body

import (
	"fmt"
	"strings"
	"time"
)

// pad asks for the device's own secret.
type pad struct {
	title string
	typed string
	dial  [2]int // where the hands of a dial stand
	right func() // with the lock held
	left  func() // when it is given up; may be nil
	wrong func() // after three wrong ones; may be nil
	tries int
	until time.Time // nothing is taken before
}

const maxTyped = 40

// wantSecret shows the pad of the device's lock and continues once the right secret
// was entered; on a device without a secret it continues at once. The lock is held.
func (b *Body) wantSecret(title string, right func()) *pad {
	if k := b.cfg.Spec.Lock.Kind; k == "" || k == "none" {
		right()
		return nil
	}
	b.screen.pad = &pad{title: title, right: right}
	return b.screen.pad
}

func (b *Body) composePad(s *scene, p *pad) {
	kind := b.cfg.Spec.Lock.Kind
	s.kind, s.title, s.above, s.hide, s.typed = "pad", p.title, b.model.Name, true, p.typed
	s.back = &Element{Text: b.cfg.Spec.word("back"), Kind: "back", act: func() {
		b.screen.pad = nil
		if p.left != nil {
			p.left()
		}
	}}
	done := Element{Text: b.cfg.Spec.word("done"), Kind: "key", act: b.padDone}
	switch kind {
	case "dial":
		s.dial = &p.dial
		s.keys = [][]Element{b.handKeys("short hand", 0), b.handKeys("long hand", 1), {done}}
	case "password":
		s.keys = b.letters(false, done.Text, b.padDone)
	default:
		s.keys = b.digitKeys(done.Text, b.padDone)
	}
}

func (b *Body) digits(line string) (out []Element) {
	for _, r := range line {
		out = append(out, Element{Text: string(r), Kind: "key", act: func() { b.typeRune(r) }})
	}
	return out
}

// dialMarks are on the face of a dial.
const dialMarks = 12

// handKeys move one hand of a dial a mark back or on.
func (b *Body) handKeys(hand string, i int) []Element {
	at := fmt.Sprintf("%s at %d", hand, b.screen.pad.dial[i])
	return []Element{
		{Text: hand + " back", Value: "‹ " + hand, Note: at, Kind: "key", act: func() { b.turn(i, -1) }},
		{Text: hand + " on", Value: hand + " ›", Note: at, Kind: "key", act: func() { b.turn(i, 1) }},
	}
}

// turn moves a hand of the dial, if a dial is shown.
func (b *Body) turn(hand, by int) {
	if p := b.screen.pad; p != nil && b.cfg.Spec.Lock.Kind == "dial" {
		p.dial[hand] = (p.dial[hand] + by + dialMarks) % dialMarks
	}
}

// padDone checks what was entered. The lock is held.
func (b *Body) padDone() {
	p := b.screen.pad
	if p == nil {
		return
	}
	wait := durationOr(b.cfg.Spec.Lock.Wait, 30*time.Second)
	now := b.cfg.Clock.Now()
	given := p.typed
	if b.cfg.Spec.Lock.Kind == "dial" {
		given = fmt.Sprintf("%d %d", p.dial[0], p.dial[1])
	}
	p.typed = ""
	switch {
	case now.Before(p.until):
		b.say(b.waitText(p.until.Sub(now)))
	case given == b.cfg.Spec.Lock.Secret:
		b.screen.pad = nil
		b.screen.toast = ""
		p.right()
	default:
		p.tries++
		b.say(b.cfg.Spec.word("wrong"))
		if p.tries%3 == 0 {
			p.until = now.Add(wait)
			b.say(b.waitText(wait))
			if p.wrong != nil {
				b.screen.pad = nil
				p.wrong()
			}
		}
	}
}

func (b *Body) waitText(d time.Duration) string {
	return strings.ReplaceAll(b.cfg.Spec.word("wait"), "{wait}", d.Round(time.Second).String())
}

// typeRune types a character into the current entry. The lock is held.
func (b *Body) typeRune(r rune) {
	if p := b.screen.pad; p != nil {
		if len(p.typed) < maxTyped {
			p.typed += string(r)
		}
		return
	}
	most := maxTyped
	if b.screen.page() == "accept" {
		if most = figures; r < '0' || r > '9' {
			return
		}
	}
	if e := b.entry(); e != nil {
		if most = len(b.wanted(e)); e.Of == "crew" && (r < '0' || r > '9') {
			return
		}
	}
	if len(b.screen.typed) < most {
		b.screen.typed += string(r)
	}
}

func (b *Body) deleteRune() {
	typed := &b.screen.typed
	if b.screen.pad != nil {
		typed = &b.screen.pad.typed
	}
	if n := len(*typed); n > 0 {
		*typed = (*typed)[:n-1]
	}
}

// typing reports whether there is anything to type into. The lock is held.
func (b *Body) typing() bool {
	s := b.compose()
	return len(s.keys) > 0
}

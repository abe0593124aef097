package body

import (
	"strings"
	"time"
)

// pad asks for the device's own secret.
type pad struct {
	title string
	typed string
	path  []int  // of a pattern
	right func() // with the lock held
	left  func() // when it is given up; may be nil
	wrong func() // after three wrong ones; may be nil
	tries int
	until time.Time // nothing is taken before
}

const maxTyped = 40

// wantSecret shows the pad of the device's lock, and goes on when the secret was
// given; on a device that has none it goes on at once. The lock is held.
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
	s.kind, s.title, s.above, s.hide, s.typed, s.path = "pad", p.title, b.model.Name, true, p.typed, p.path
	s.back = &Element{Text: b.cfg.Spec.word("back"), Kind: "back", act: func() {
		b.screen.pad = nil
		if p.left != nil {
			p.left()
		}
	}}
	done := Element{Text: b.cfg.Spec.word("done"), Kind: "key", act: b.padDone}
	switch kind {
	case "pattern":
		for i := range 9 {
			s.dots = append(s.dots, Element{Text: "Dot " + string(rune('1'+i)), Kind: "dot", act: func() { b.padDot(i + 1) }})
		}
		s.keys = [][]Element{{done}}
	case "password":
		s.keys = b.letters(false, done.Text, b.padDone)
	default:
		for _, line := range []string{"123", "456", "789"} {
			s.keys = append(s.keys, b.digits(line))
		}
		last := append([]Element{{Text: b.cfg.Spec.word("delete"), Value: "‹", Kind: "key", act: b.deleteRune}}, b.digits("0")...)
		s.keys = append(s.keys, append(last, done))
	}
}

func (b *Body) digits(line string) (out []Element) {
	for _, r := range line {
		out = append(out, Element{Text: string(r), Kind: "key", act: func() { b.typeRune(r) }})
	}
	return out
}

// padDot adds a dot to a pattern, once.
func (b *Body) padDot(n int) {
	p := b.screen.pad
	for _, have := range p.path {
		if have == n {
			return
		}
	}
	p.path = append(p.path, n)
	p.typed += string(rune('0' + n))
}

// padDone tries what was given. The lock is held.
func (b *Body) padDone() {
	p := b.screen.pad
	if p == nil {
		return
	}
	wait := durationOr(b.cfg.Spec.Lock.Wait, 30*time.Second)
	now := b.cfg.Clock.Now()
	given := p.typed
	p.typed, p.path = "", nil
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

// typeRune puts a sign where one types now. The lock is held.
func (b *Body) typeRune(r rune) {
	if p := b.screen.pad; p != nil {
		if b.cfg.Spec.Lock.Kind == "pattern" {
			if r >= '1' && r <= '9' {
				b.padDot(int(r - '0'))
			}
			return
		}
		if len(p.typed) < maxTyped {
			p.typed += string(r)
		}
		return
	}
	if len(b.screen.typed) < maxTyped && (b.st.Sign == "" || len(b.screen.typed) < len(b.st.Sign) || b.screen.page() == "find") {
		b.screen.typed += string(r)
	}
}

func (b *Body) deleteRune() {
	typed := &b.screen.typed
	if b.screen.pad != nil {
		typed = &b.screen.pad.typed
		if n := len(b.screen.pad.path); n > 0 {
			b.screen.pad.path = b.screen.pad.path[:n-1]
		}
	}
	if n := len(*typed); n > 0 {
		*typed = (*typed)[:n-1]
	}
}

// typing tells whether there is anything to type into. The lock is held.
func (b *Body) typing() bool {
	s := b.compose()
	return len(s.keys) > 0 || len(s.dots) > 0
}

// typeSign tries the sign that was typed back.
func (b *Body) typeSign(sign *SignSpec) {
	typed := b.screen.typed
	b.screen.typed = ""
	if typed != b.st.Sign {
		b.say(sign.Wrong)
		return
	}
	b.st.Sign = ""
	for k, v := range sign.Set {
		b.st.Settings[k] = v
	}
	b.say(sign.Right)
	b.touchState()
}

package body

import (
	"context"
	"errors"
	"strings"
	"time"
)

// entry returns what must be typed on the current page before its rows show; nil for
// nothing.
func (b *Body) entry() *EntrySpec {
	p := b.cfg.Spec.Pages[b.screen.page()]
	if p == nil || p.Entry == nil || !b.holds(p.Entry.When) {
		return nil
	}
	return p.Entry
}

// wanted is the text to type. On a body with number keys, each letter is typed by its
// key.
func (b *Body) wanted(e *EntrySpec) string {
	if e.Of == "crew" {
		return strings.ReplaceAll(b.cfg.Crew, " ", "") // of the length of any crew's
	}
	if b.form() == "keys" {
		return onKeys(b.st.Code)
	}
	return b.st.Code
}

func (b *Body) composeEntry(s *scene, e *EntrySpec) {
	s.text, s.typed = e.Text, b.screen.typed
	s.entry = strings.Repeat("_", len(b.wanted(e)))
	enter := func() { b.enter(e) }
	switch {
	case b.form() == "keys":
		s.keys = b.letteredDigits(e.Button, enter)
	case e.Of == "crew":
		s.keys = b.digitKeys(e.Button, enter)
	default:
		s.keys = b.letters(true, e.Button, enter)
	}
}

// enter checks what was typed.
func (b *Body) enter(e *EntrySpec) {
	typed := b.screen.typed
	b.screen.typed = ""
	if e.Of == "crew" && b.cfg.Enter != nil && len(typed) == len(b.wanted(e)) {
		b.say(e.Asking)
		b.work.Go(func() { b.askForCrew(e, typed) })
		return
	}
	if want := b.wanted(e); want == "" || typed != want {
		b.say(e.Wrong)
		return
	}
	b.entered(e)
}

// entered does what the right text brings. mu is held.
func (b *Body) entered(e *EntrySpec) {
	b.st.Code = ""
	for k, v := range e.Set {
		b.st.Settings[k] = v
	}
	b.say(e.Right)
	b.touchState()
}

// ErrCrew is the error for a number that no crew has.
var ErrCrew = errors.New("no crew has this number")

// crewWithin is how long a device waits for the authority.
const crewWithin = 10 * time.Second

// askForCrew asks the authority to enter the device in the register of a crew.
func (b *Body) askForCrew(e *EntrySpec, typed string) {
	ctx, cancel := context.WithTimeout(b.ctx, crewWithin)
	defer cancel()
	err := b.cfg.Enter(ctx, typed[:4]+" "+typed[4:])
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.closed:
	case err == nil:
		b.entered(e)
	case errors.Is(err, ErrCrew):
		b.say(e.Wrong)
	default:
		b.cfg.Log.Warn("enter the register", "device", b.cfg.Name, "error", err)
		b.say(e.Nobody)
	}
}

// digitKeys are the number keys of a pad; enter is the last one's name.
func (b *Body) digitKeys(enter string, act func()) [][]Element {
	var out [][]Element
	for _, line := range []string{"123", "456", "789"} {
		out = append(out, b.digits(line))
	}
	last := append([]Element{{Text: b.cfg.Spec.word("delete"), Value: "‹", Kind: "key", act: b.deleteRune}}, b.digits("0")...)
	return append(out, append(last, Element{Text: enter, Kind: "key", act: act}))
}

// letteredDigits are number keys with the letters that each stands for.
func (b *Body) letteredDigits(enter string, act func()) [][]Element {
	out := b.digitKeys(enter, act)
	for _, line := range out {
		for i := range line {
			if group, ok := lettersOn[line[i].Text]; ok {
				line[i].Value, line[i].Note = line[i].Text+" "+group, group
			}
		}
	}
	return out
}

// lettersOn are the letters on number keys (ITU-T E.161).
var lettersOn = map[string]string{"2": "abc", "3": "def", "4": "ghi", "5": "jkl", "6": "mno", "7": "pqrs", "8": "tuv", "9": "wxyz"}

// onKeys is a code of letters as the number keys that they stand on.
func onKeys(code string) string {
	var out strings.Builder
	for _, r := range strings.ToLower(code) {
		for key, group := range lettersOn {
			if strings.ContainsRune(group, r) {
				out.WriteString(key)
			}
		}
	}
	return out.String()
}

package body

import (
	"crypto/rand"
	"encoding/base64"
	"maps"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/rpc"
)

// developerState is what a body knows of a developer.
type developerState struct {
	App      string    `json:"app"`      // name of the one that was stopped
	Accepted time.Time `json:"accepted"` // zero: its owner has not
}

// figures is the number of digits to type to accept a developer.
const figures = 4

// maxStopped bounds how many developers a body remembers whose apps it has stopped.
const maxStopped = 16

// stopUnaccepted stops the start of an app whose developer its owner has not
// accepted. The lock is held.
func (b *Body) stopUnaccepted(a *app) error {
	spec := b.cfg.Spec.Accept
	if spec == nil || b.st.Developers[a.By] != nil && !b.st.Developers[a.By].Accepted.IsZero() {
		return nil
	}
	if b.st.Developers[a.By] == nil {
		if len(b.stopped()) >= maxStopped {
			delete(b.st.Developers, b.stopped()[0])
		}
		b.st.Developers[a.By] = &developerState{App: a.Name}
		b.challengeAnew() // now that the key is known for which figures will be made
	}
	b.line(a.ID, "error", "stopped at its start: "+spec.Mark)
	b.screen.home()
	b.rouse()
	b.say(strings.ReplaceAll(spec.Stopped, "{app}", a.Name))
	b.touchState()
	return rpc.Errorf(rpc.CodeUnaccepted, "the owner of this device has not accepted the developer of %s", a.ID)
}

// challengeAnew invalidates the figures that were shown before. The lock is held.
func (b *Body) challengeAnew() {
	raw := make([]byte, 12)
	rand.Read(raw) //nolint:errcheck // it never fails
	b.st.Challenge = base64.RawURLEncoding.EncodeToString(raw)
	b.screen.wrong = 0
}

// isStopped reports whether an app of a developer was stopped at its start and the
// developer is still not accepted. The lock is held.
func (b *Body) isStopped(by string) bool {
	d := b.st.Developers[by]
	return b.cfg.Spec.Accept != nil && d != nil && d.Accepted.IsZero()
}

// forgetStopped forgets a developer who was not accepted and has no app here any more.
// The lock is held.
func (b *Body) forgetStopped(by string) {
	for _, a := range b.st.Apps {
		if a.By == by {
			return
		}
	}
	if b.isStopped(by) {
		delete(b.st.Developers, by)
	}
}

// accepted returns the accepted developers. The lock is held.
func (b *Body) accepted() []string {
	return b.developers(func(d *developerState) bool { return !d.Accepted.IsZero() })
}

// stopped returns the developers whose apps were stopped and who are not accepted. The
// lock is held.
func (b *Body) stopped() []string {
	return b.developers(func(d *developerState) bool { return d.Accepted.IsZero() })
}

func (b *Body) developers(which func(*developerState) bool) []string {
	out := []string{}
	for _, by := range slices.Sorted(maps.Keys(b.st.Developers)) {
		if which(b.st.Developers[by]) {
			out = append(out, by)
		}
	}
	return out
}

// developerFacts returns the facts that the body reports of developers. The lock is held.
func (b *Body) developerFacts() []telling {
	if b.cfg.Spec.Accept == nil {
		return nil
	}
	return []telling{{fact.AcceptDevelopers, b.accepted()}, {fact.AcceptStopped, b.stopped()}, {fact.AcceptChallenge, b.st.Challenge}}
}

// composeAccept builds the page of a stopped app. The lock is held.
func (b *Body) composeAccept(s *scene) {
	spec, a := b.cfg.Spec.Accept, b.st.Apps[b.screen.about]
	if a == nil || !b.isStopped(a.By) {
		s.title, s.text = b.cfg.Spec.word("none"), ""
		return
	}
	s.above, s.title, s.text = spec.Mark, a.Name, strings.ReplaceAll(spec.Text, "{app}", a.Name)
	s.typed, s.entry = b.screen.typed, strings.Repeat("_", figures)
	s.keys = b.digitKeys(spec.Button, func() { b.accept(a) })
}

// accept checks the figures that were typed. The lock is held.
func (b *Body) accept(a *app) {
	spec := b.cfg.Spec.Accept
	typed := b.screen.typed
	b.screen.typed = ""
	if typed == developer.Figures(b.st.Challenge, b.fingerprint(), a.By) {
		b.st.Developers[a.By].Accepted = b.cfg.Clock.Now()
		b.challengeAnew()
		b.screen.home()
		b.say(spec.Right)
		b.touchState()
		return
	}
	b.say(spec.Wrong)
	if b.screen.wrong++; b.screen.wrong%3 == 0 {
		b.challengeAnew()
		b.say(spec.Anew)
		b.touchState()
	}
}

// developerRows returns a row for each accepted developer, by which the owner can
// revoke it. The lock is held.
func (b *Body) developerRows() []Element {
	var out []Element
	for _, by := range b.accepted() {
		d := b.st.Developers[by]
		out = append(out, Element{Text: d.App, Value: d.Accepted.Format("2 Jan 2006"), Kind: "row", act: func() {
			b.ask(b.cfg.Spec.word("forget"), d.App+"\n"+by, b.cfg.Spec.word("yes"), func() {
				delete(b.st.Developers, by)
				b.touchState()
			})
		}})
	}
	return out
}

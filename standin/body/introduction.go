package body

import (
	"context"
	"net"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/rpc"
)

// AirSpec is how a body is reached without a cable; nil for not at all.
type AirSpec struct {
	When conditions `yaml:"when"`
	// Set is what a computer that was let in sets to switch it on.
	Set map[string]string `yaml:"set"`
	// What stands on the screen with the words, and with the question afterwards; {bench}.
	Title string `yaml:"title"`
	Text  string `yaml:"text"`
	Stop  string `yaml:"stop"` // the word that ends it
	Offer string `yaml:"offer"`
}

// meeting is an introduction, from its beginning until the owner is asked.
type meeting struct {
	body    *Body
	visitor device.Visitor
	words   introduction.Words
	shown   bool
	end     func(now time.Time, failed bool)
	over    chan struct{} // closed when the owner has ended it
}

// Introduce begins an introduction.
func (b *Body) Introduce(v device.Visitor) (link.Introduced, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.cfg.Spec.Air == nil || !b.holds(b.cfg.Spec.Air.When) {
		return nil, link.ErrNotIntroduced
	}
	if b.question != nil {
		return nil, introduction.ErrBusy
	}
	end, err := b.turns.Begin(b.cfg.Clock.Now())
	if err != nil {
		return nil, err
	}
	m := &meeting{body: b, visitor: v, end: end, over: make(chan struct{})}
	b.meeting = m
	return m, nil
}

// Device is what the body says of itself.
func (m *meeting) Device() introduction.Description {
	b := m.body
	return introduction.Description{Name: b.cfg.Name, Family: b.cfg.Spec.Family, Model: b.cfg.Model, Serial: b.serial(), Release: b.currentRelease()}
}

// Waits is as long as for a question.
func (m *meeting) Waits() time.Duration { return m.body.answerWithin() }

// Show shows the words.
func (m *meeting) Show(words introduction.Words) {
	b := m.body
	b.mu.Lock()
	defer b.mu.Unlock()
	m.words, m.shown = words, true
	b.rouse()
	b.redraw()
}

// Offer asks the owner whether to let the bench in, in place of the words.
func (m *meeting) Offer(ctx context.Context, report func(device.Admittance)) {
	b := m.body
	b.mu.Lock()
	if b.meeting == m {
		b.meeting = nil
	}
	b.mu.Unlock()
	b.inquire(ctx, m.visitor, true, report)
}

// End ends it.
func (m *meeting) End(failed bool) {
	b := m.body
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.meeting == m {
		b.meeting = nil
	}
	m.end(b.cfg.Clock.Now(), failed)
	b.st.Failures = b.turns.Failures()
	b.touchState()
}

// dialog is what stands on the screen while the words are typed; nil before they are known. The
// lock of the body is held.
func (m *meeting) dialog() *dialog {
	if !m.shown {
		return nil
	}
	spec := m.body.cfg.Spec.Air
	name := plain.Cut(plain.Line(m.visitor.Name), 40)
	fill := strings.NewReplacer("{bench}", name, "{words}", m.words.String())
	return &dialog{title: fill.Replace(spec.Title), text: fill.Replace(spec.Text), options: []option{{text: spec.Stop, act: func() {
		if m.body.meeting == m {
			m.body.meeting = nil
			close(m.over)
		}
	}}}}
}

// Over is closed when the owner has ended it on the screen.
func (m *meeting) Over() <-chan struct{} { return m.over }

// ServeDirectly serves the device link over a connection that was made without a cable.
func (b *Body) ServeDirectly(ctx context.Context, c net.Conn) {
	if err := link.Serve(ctx, c, b.key(), b.served()); err != nil {
		b.cfg.Log.Info("link", "body", b.cfg.Name, "error", err)
	}
}

// Listens tells the body where it is reached without a cable, "" for nowhere, and on which networks it is. What was let in for
// one visit is forgotten, if it has no cable that ends the visit.
func (b *Body) Listens(address string, networks []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.networks = networks
	if b.address = address; address == "" && b.cfg.Spec.Port == "power" {
		b.forgetVisits()
	}
	b.touchState()
}

// setWireless switches being reached without a cable on or off, as an admitted bench asks for.
func (b *Body) setWireless(on bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.cfg.Spec.Air == nil || len(b.cfg.Spec.Air.Set) == 0 {
		return rpc.Errorf(rpc.CodeRefused, "that is switched on this device itself")
	}
	for k, v := range b.cfg.Spec.Air.Set {
		if !on {
			v = b.cfg.Spec.Settings[k]
		}
		b.st.Settings[k] = v
	}
	b.touchState()
	return nil
}

// ReachableWithoutCable reports whether the body listens and announces itself on the network.
func (b *Body) ReachableWithoutCable() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.cfg.Spec.Air != nil && !b.booting && (!b.asleep || b.resting) && b.holds(b.cfg.Spec.Air.When)
}

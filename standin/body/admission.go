package body

import (
	"context"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
)

// question is the admission question on the screen.
type question struct {
	visitor device.Visitor
	secret  bool                   // answered with yes: now the device's secret is wanted
	report  chan device.AdmitState // of what comes before the answer
	answer  chan string            // visit, 30 days, until withdrawn, no; buffered
}

// Admission tells how it stands with a key.
func (b *Body) Admission(key string) device.Admittance {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.admission(key)
}

func (b *Body) admission(key string) device.Admittance {
	a, ok := b.st.Admissions[key]
	if !ok || !a.Until.IsZero() && b.cfg.Clock.Now().After(a.Until) {
		return device.Admittance{State: device.AdmitNone, Locked: b.seemsLocked()}
	}
	return device.Admittance{State: device.Admitted, For: a.For, Until: a.Until}
}

// seemsLocked is what the device tells a computer of its lock: while its link is
// stale, that it is locked, whatever the screen shows.
func (b *Body) seemsLocked() bool { return b.locked || b.stale }

// Ask puts the question on the screen.
func (b *Body) Ask(ctx context.Context, v device.Visitor, report func(device.Admittance)) {
	b.mu.Lock()
	if _, ok := b.st.Admissions[v.Key]; ok {
		b.mu.Unlock()
		report(b.Admission(v.Key))
		return
	}
	if b.question != nil {
		b.mu.Unlock()
		report(device.Admittance{State: device.AdmitBusy})
		return
	}
	q := &question{visitor: v, report: make(chan device.AdmitState, 1), answer: make(chan string, 1)}
	if !b.stale { // a stale link never brings the question to the screen
		b.question = q
	}
	if b.st.Faults["question-refused"] {
		b.give(q, "no")
	}
	b.asleep = false
	locked := b.seemsLocked()
	b.redraw()
	b.mu.Unlock()
	report(device.Admittance{State: device.AdmitAsking, Locked: locked})
	report(b.await(ctx, q, report))
}

func (b *Body) await(ctx context.Context, q *question, report func(device.Admittance)) device.Admittance {
	within := b.cfg.Answer
	if within == 0 {
		within, _ = time.ParseDuration(b.cfg.Spec.Answer)
	}
	ctx, cancel := context.WithCancel(ctx)
	late := make(chan struct{})
	var alarm sync.WaitGroup
	alarm.Go(func() {
		if b.cfg.Clock.Until(ctx, b.cfg.Clock.Now().Add(within)) == nil {
			close(late)
		}
	})
	defer alarm.Wait()
	defer cancel()
	var answer string
	state := device.Admittance{State: device.AdmitExpired} // unless somebody answers
	for waiting := true; waiting; {
		select {
		case <-ctx.Done():
			waiting = false
		case <-late:
			waiting = false
		case s := <-q.report:
			report(device.Admittance{State: s, Wants: b.cfg.Spec.Admit.Secret})
		case answer = <-q.answer:
			waiting = false
			select { // what was reported before the answer comes before it
			case s := <-q.report:
				report(device.Admittance{State: s, Wants: b.cfg.Spec.Admit.Secret})
			default:
			}
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	state.Locked = b.seemsLocked()
	if b.question == q {
		b.question = nil
	}
	if q.secret {
		b.screen.pad = nil
	}
	switch answer {
	case "":
	case "no":
		state.State = device.AdmitRefused
	default:
		state = device.Admittance{State: device.Admitted, For: answer}
		if answer == "30 days" {
			state.Until = b.cfg.Clock.Now().AddDate(0, 0, 30).UTC().Truncate(time.Second)
		}
		b.st.Admissions[q.visitor.Key] = admission{Name: plain.Cut(plain.Line(q.visitor.Name), 40), For: answer, Since: b.cfg.Clock.Now(), Until: state.Until}
	}
	b.touchState()
	return state
}

// answer answers the admission question; a yes may want the device's own secret
// yet. The lock is held.
func (b *Body) answer(a string) {
	q := b.question
	if q == nil {
		return
	}
	if a == "no" || b.cfg.Spec.Admit.Secret == "" {
		b.give(q, a)
		return
	}
	q.secret = true
	select {
	case q.report <- device.AdmitPassword:
	default:
	}
	p := b.wantSecret(b.cfg.Spec.Admit.Asks, func() { b.give(q, a) })
	if p != nil {
		p.left = func() { b.give(q, "no") }
		p.wrong = p.left
	}
}

func (b *Body) give(q *question, a string) {
	select {
	case q.answer <- a:
	default:
	}
	if b.question == q {
		b.question = nil
	}
}

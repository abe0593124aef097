package body

import (
	"context"
	"time"

	"earlybench.invalid/earlybench/core/link"
)

// question is the admission question on the screen.
type question struct {
	visitor link.Visitor
	answer  chan string // "visit", "until withdrawn", "no"; buffered
}

// Admission tells how it stands with a key.
func (b *Body) Admission(key string) link.Admission {
	b.mu.Lock()
	defer b.mu.Unlock()
	a, ok := b.st.Admissions[key]
	if !ok {
		return link.Admission{State: link.AdmitNone}
	}
	return link.Admission{State: link.Admitted, For: a.For}
}

// Ask puts the question on the screen.
func (b *Body) Ask(ctx context.Context, v link.Visitor, report func(link.Admission)) {
	b.mu.Lock()
	if _, ok := b.st.Admissions[v.Key]; ok {
		b.mu.Unlock()
		report(b.Admission(v.Key))
		return
	}
	if b.question != nil {
		b.mu.Unlock()
		report(link.Admission{State: link.AdmitBusy})
		return
	}
	q := &question{visitor: v, answer: make(chan string, 1)}
	b.question = q
	b.redraw()
	b.mu.Unlock()
	report(link.Admission{State: link.AdmitAsking})
	report(b.await(ctx, q))
}

func (b *Body) await(ctx context.Context, q *question) link.Admission {
	within := b.cfg.Answer
	if within == 0 {
		within, _ = time.ParseDuration(b.cfg.Spec.Answer)
	}
	var answer string
	state := link.Admission{State: link.AdmitExpired}
	select {
	case <-ctx.Done():
	case <-b.cfg.Clock.After(within):
	case answer = <-q.answer:
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.question == q {
		b.question = nil
	}
	switch answer {
	case "no":
		state.State = link.AdmitRefused
	case "visit", "until withdrawn":
		state = link.Admission{State: link.Admitted, For: answer}
		b.st.Admissions[q.visitor.Key] = admission{Name: clean(q.visitor.Name, 40), For: answer, Since: b.cfg.Clock.Now()}
	}
	b.touchState()
	return state
}

// clean takes what a stranger sent down to a short line of printable signs.
func clean(s string, most int) string {
	out := make([]rune, 0, most)
	for _, r := range s {
		if r >= ' ' && r != 0x7f && len(out) < most {
			out = append(out, r)
		}
	}
	return string(out)
}

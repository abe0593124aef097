package body

import (
	"context"
	"math/rand/v2"
	"slices"
	"strconv"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
)

// question is the admission question on the screen.
type question struct {
	visitor device.Visitor
	answer  chan string // visit, 30 days, until withdrawn, no; buffered
	numbers []string    // of which the owner picks one
	keys    [2]int      // which the owner holds together
	met     bool        // it ends an introduction
	held    int         // the one that is held
	heldAt  time.Time
}

// wants is what the bench has to show or say for the question.
func (a *AdmitSpec) wants() string {
	if a.Pick != nil {
		return device.WantsNumber
	}
	return ""
}

// holdFor is how long a key counts as held after a click: a mouse cannot hold two keys.
const holdFor = 4 * time.Second

// prepare chooses the numbers to pick from, or the keys to hold.
func (q *question) prepare() {
	q.numbers = []string{q.visitor.Number}
	for len(q.numbers) < 4 {
		if n := strconv.Itoa(10 + rand.IntN(90)); !slices.Contains(q.numbers, n) {
			q.numbers = append(q.numbers, n)
		}
	}
	slices.Sort(q.numbers)
	one := rand.IntN(9)
	q.keys = [2]int{one + 1, (one+1+rand.IntN(8))%9 + 1}
	slices.Sort(q.keys[:])
}

// onPick returns the answer for a picked number.
func (q *question) onPick(number, long string) string {
	if number != q.visitor.Number {
		return "no"
	}
	return q.within(long)
}

// within limits how long a bench is admitted: a shared bench only for this visit.
func (q *question) within(long string) string {
	if q.visitor.Shared {
		return "visit"
	}
	return long
}

// holdKey presses a hardware key while a question is shown. The lock is held.
func (b *Body) holdKey(key int) {
	q := b.question
	now := b.cfg.Clock.Now()
	other := q.held != 0 && q.held != key && now.Sub(q.heldAt) <= holdFor
	if other && slices.Contains(q.keys[:], key) && slices.Contains(q.keys[:], q.held) {
		b.answer(q.within(b.cfg.Spec.Admit.Hold.For))
		return
	}
	q.held, q.heldAt = key, now
}

// Admission returns whether the holder of a key is admitted, and until when.
func (b *Body) Admission(key string) device.Admittance {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.admission(key)
}

// admission is by the owner, or else for a loan.
func (b *Body) admission(key string) device.Admittance {
	a, ok := b.st.Admissions[key]
	if !ok || !a.Until.IsZero() && b.cfg.Clock.Now().After(a.Until) {
		return b.lentTo(key)
	}
	return device.Admittance{State: device.Admitted, For: a.For, Until: a.Until}
}

// seemsLocked is the lock state that the device reports to a computer: with a stale
// link it reports locked, whatever the screen shows.
func (b *Body) seemsLocked() bool { return b.locked || b.stale }

// Ask shows the admission question on the screen and waits for the answer.
func (b *Body) Ask(ctx context.Context, v device.Visitor, report func(device.Admittance)) {
	b.inquire(ctx, v, false, report)
}

// inquire is Ask; met says that an introduction ends with the question.
func (b *Body) inquire(ctx context.Context, v device.Visitor, met bool, report func(device.Admittance)) {
	b.mu.Lock()
	if a := b.admission(v.Key); a.State == device.Admitted {
		b.mu.Unlock()
		report(a)
		return
	}
	if b.question != nil || b.meeting != nil {
		b.mu.Unlock()
		report(device.Admittance{State: device.AdmitBusy})
		return
	}
	q := &question{visitor: v, answer: make(chan string, 1), met: met}
	q.prepare()
	if !b.stale { // a stale link never brings the question to the screen
		b.question = q
	}
	if b.st.Faults["question-refused"] {
		b.give(q, "no")
	}
	b.rouse()
	locked := b.seemsLocked()
	b.redraw()
	b.mu.Unlock()
	report(device.Admittance{State: device.AdmitAsking, Wants: b.cfg.Spec.Admit.wants(), Locked: locked, Waits: int(b.answerWithin().Seconds())})
	report(b.await(ctx, q))
}

// answerWithin is how long a question waits.
func (b *Body) answerWithin() time.Duration {
	if b.cfg.Answer != 0 {
		return b.cfg.Answer
	}
	return durationOr(b.cfg.Spec.Answer, 0)
}

func (b *Body) await(ctx context.Context, q *question) device.Admittance {
	within := b.answerWithin()
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
	select {
	case <-ctx.Done():
	case <-late:
	case answer = <-q.answer:
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	state.Locked = b.seemsLocked()
	if b.question == q {
		b.question = nil
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

// answer answers the admission question. The lock is held.
func (b *Body) answer(a string) {
	if b.question != nil {
		b.give(b.question, a)
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

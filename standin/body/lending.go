package body

import (
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
)

// loan is what an admission has that a bench has given, and not the owner.
type loan struct {
	By     string        `json:"by"` // key of the bench
	Rights device.Rights `json:"rights"`
	Epoch  uint64        `json:"epoch"`
}

// lentKey is the name under which the admission of a key for a loan is kept, beside the one by the owner.
func lentKey(key string) string { return lentPrefix + key }

const lentPrefix = "loan "

// mostUses is how many uses by others are kept.
const mostUses = 500

// Add lets a key in for a time, on behalf of a bench.
func (b *Body) Add(by string, a device.Added) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := b.cfg.Clock.Now()
	b.st.Admissions[lentKey(a.Key)] = admission{Name: plain.Cut(plain.Line(a.Name), 40), For: "loan", Since: now, Until: now.Add(time.Duration(a.Seconds) * time.Second), Loan: &loan{By: by, Rights: a.Rights, Epoch: a.Epoch}}
	b.touchState()
	return nil
}

// Drop ends what a bench has let in.
func (b *Body) Drop(by, key string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if l := b.st.Admissions[lentKey(key)].Loan; l != nil && l.By == by {
		delete(b.st.Admissions, lentKey(key))
		b.touchState()
	}
}

// Added returns what a bench has let in in an epoch; what it has in another one ends.
func (b *Body) Added(by string, epoch uint64) []device.Added {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []device.Added
	dropped := false
	for name, a := range b.st.Admissions {
		if a.Loan == nil || a.Loan.By != by {
			continue
		}
		left := a.Until.Sub(b.cfg.Clock.Now())
		if a.Loan.Epoch != epoch || left <= 0 {
			delete(b.st.Admissions, name)
			dropped = true
			continue
		}
		out = append(out, device.Added{Key: strings.TrimPrefix(name, lentPrefix), Name: a.Name, Rights: a.Loan.Rights, Seconds: int((left + time.Second - 1) / time.Second), Epoch: epoch})
	}
	if dropped {
		b.touchState()
	}
	return out
}

// Lent returns the state of a key as what was let in for a loan.
func (b *Body) Lent(key string) device.Admittance {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.lentTo(key)
}

func (b *Body) lentTo(key string) device.Admittance {
	a := b.st.Admissions[lentKey(key)]
	if a.Loan == nil || b.cfg.Clock.Now().After(a.Until) {
		return device.Admittance{State: device.AdmitNone, Locked: b.seemsLocked()}
	}
	if by := b.admission(a.Loan.By); by.State != device.Admitted || by.Rights != device.RightsAll {
		return device.Admittance{State: device.AdmitNone, Locked: b.seemsLocked()}
	}
	return device.Admittance{State: device.Admitted, For: a.For, Until: a.Until, Rights: a.Loan.Rights}
}

// Used notes what a key that was let in has done.
func (b *Body) Used(key, what, about string, done bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l := b.st.Admissions[lentKey(key)].Loan
	if l == nil {
		return
	}
	b.st.Used++
	b.done = append(b.done, used{device.Use{Seq: b.st.Used, At: b.now(), Key: key, What: what, About: plain.Cut(plain.Line(about), 80), Done: done}, l.By})
	if len(b.done) > mostUses {
		b.done = slices.Delete(b.done, 0, len(b.done)-mostUses)
	}
	b.touchState()
}

// used is a use with the key of the bench that has let its doer in.
type used struct {
	device.Use
	by string
}

// Uses returns what those have done that a bench has let in.
func (b *Body) Uses(by string, after uint64) (all []device.Use, more <-chan struct{}) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, u := range b.done {
		if u.by == by && u.Seq > after {
			all = append(all, u.Use)
		}
	}
	return all, b.changed
}

package body

import (
	"context"
	"errors"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
)

// CompanionSpec is how a body is reached through another one; nil for not at all.
type CompanionSpec struct {
	When conditions `yaml:"when"`
	// Wakes is how often a sleeping body listens for its handset.
	Wakes string `yaml:"wakes"`
}

// Hearing is what a body hears of its companions.
type Hearing interface {
	Companions() (all []device.Companion, changed <-chan struct{})
	Carry(ctx context.Context, name string) (io.ReadWriteCloser, error)
}

// carrying is a body through which others are reached.
type carrying struct {
	*Body
	Hearing
}

// served is the body as its device link serves it.
func (b *Body) served() link.Device {
	if b.cfg.Hearing == nil {
		return b
	}
	return carrying{b, b.cfg.Hearing}
}

// Heard reports whether its handset hears the body, and whether and since when it is asleep.
func (b *Body) Heard() (heard, asleep bool, since time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	spec := b.cfg.Spec.Companion
	return spec != nil && !b.booting && !b.st.Faults["out-of-reach"] && b.holds(spec.When), b.asleep, b.slept
}

// Wake wakes a body that sleeps, when it listens next.
func (b *Body) Wake(ctx context.Context) error {
	if heard, asleep, _ := b.Heard(); !heard {
		return errors.New("it is not heard any more")
	} else if !asleep {
		return nil
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(durationOr(b.cfg.Spec.Companion.Wakes, time.Second)):
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.st.Faults["wakes-not"] {
		return errors.New("it sleeps and does not wake")
	}
	b.rouse()
	b.redraw()
	return nil
}

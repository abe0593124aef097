// Package clock is the time that everything else is handed: the system's, or
// one that a development socket moves. Nothing in core reads the time itself.
package clock

import (
	"context"
	"sync"
	"time"
)

// A Clock tells the time and waits. All methods may be called from any
// goroutine. After fires once, never early on this clock's own time, and at
// once when d is zero or less.
type Clock interface {
	Now() time.Time
	After(d time.Duration) <-chan time.Time
}

// System is the computer's clock.
type System struct{}

// Now returns the current time.
func (System) Now() time.Time { return time.Now() }

// After is [time.After].
func (System) After(d time.Duration) <-chan time.Time { return time.After(d) }

// Moved is the system's clock shifted by an amount that can be changed while
// it runs. The zero value is not shifted.
type Moved struct {
	mu     sync.Mutex
	offset time.Duration
	moved  chan struct{} // closed and replaced at every move
}

// Now returns the shifted time.
func (m *Moved) Now() time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return time.Now().Add(m.offset)
}

// Move shifts the clock by d, forwards or backwards, and wakes those who wait.
func (m *Moved) Move(d time.Duration) time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.offset += d
	if m.moved != nil {
		close(m.moved)
		m.moved = nil
	}
	return time.Now().Add(m.offset)
}

// Offset tells by how much the clock is shifted.
func (m *Moved) Offset() time.Duration {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.offset
}

func (m *Moved) signal() <-chan struct{} {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.moved == nil {
		m.moved = make(chan struct{})
	}
	return m.moved
}

// After fires when the shifted time has reached now plus d, sooner in real time
// if the clock is moved forwards meanwhile.
func (m *Moved) After(d time.Duration) <-chan time.Time {
	fired := make(chan time.Time, 1)
	due := m.Now().Add(d)
	go func() {
		for {
			moved := m.signal()
			left := due.Sub(m.Now())
			if left <= 0 {
				fired <- m.Now()
				return
			}
			t := time.NewTimer(left)
			select {
			case <-t.C:
			case <-moved:
			}
			t.Stop()
		}
	}()
	return fired
}

// Sleep waits for d on c, or until ctx ends; then it returns ctx's error.
func Sleep(ctx context.Context, c Clock, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-c.After(d):
		return nil
	}
}

// Package clock provides the time to everything else: the time of the system, or one that a
// development socket moves. Nothing in core reads the time directly.
package clock

import (
	"context"
	"sync"
	"time"
)

// A Clock returns the time and waits. All methods may be called from any goroutine. Until
// returns nil when this clock has reached a time, or ctx's error if ctx ends first; it leaves
// nothing running.
type Clock interface {
	Now() time.Time
	Until(ctx context.Context, at time.Time) error
}

// System is the computer's clock.
type System struct{}

// Now returns the current time.
func (System) Now() time.Time { return time.Now() }

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

// Offset returns by how much the clock is shifted.
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

// Until waits until the shifted time has reached a time, even if the clock is moved during the wait.
func (m *Moved) Until(ctx context.Context, at time.Time) error {
	for {
		moved := m.signal()
		left := at.Sub(m.Now())
		if left <= 0 {
			return nil
		}
		t := time.NewTimer(left)
		select {
		case <-ctx.Done():
			t.Stop()
			return ctx.Err()
		case <-t.C:
		case <-moved:
		}
		t.Stop()
	}
}

// Until waits until a time.
func (System) Until(ctx context.Context, at time.Time) error {
	t := time.NewTimer(time.Until(at))
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// Sleep waits for d on c, or until ctx ends; then it returns ctx's error.
func Sleep(ctx context.Context, c Clock, d time.Duration) error {
	return c.Until(ctx, c.Now().Add(d))
}

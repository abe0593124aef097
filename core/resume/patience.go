package resume

import (
	"sync"
	"time"
)

// Idle is for how long in all no connection has carried the stream since it was made.
func (s *Stream) Idle() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.carrier == nil && s.ended == nil {
		return s.idle + time.Since(s.dropped)
	}
	return s.idle
}

// Patience waits for an answer of the other side, until that has taken too long. Time in which nothing
// could arrive, because no connection carried the stream, does not count.
type Patience struct {
	within time.Duration
	idle   func() time.Duration

	mu    sync.Mutex
	from  time.Duration // how long the stream had been idle when the waiting began
	timer *time.Timer
	ended bool
}

// Within calls lost, in its own goroutine, when the waiting has taken this long. idle is [Stream.Idle], or that of
// whatever forwards it; nil if no such stream is needed.
func Within(within time.Duration, idle func() time.Duration, lost func()) *Patience {
	if idle == nil {
		idle = func() time.Duration { return 0 }
	}
	p := &Patience{within: within, idle: idle, from: idle()}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer = time.AfterFunc(within, func() {
		p.mu.Lock()
		now := p.idle()
		more := now - p.from
		p.from = now
		if ended := p.ended; ended || more > 0 {
			if !ended {
				p.timer.Reset(more)
			}
			p.mu.Unlock()
			return
		}
		p.mu.Unlock()
		lost()
	})
	return p
}

// Reset restarts the waiting, since something has arrived.
func (p *Patience) Reset() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.ended {
		p.from = p.idle()
		p.timer.Reset(p.within)
	}
}

// Stop ends the waiting.
func (p *Patience) Stop() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = true
	p.timer.Stop()
}

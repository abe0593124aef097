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

// Patience waits for an answer of the other side, and loses itself once that has taken too long. Time in which nothing
// could have come does not count: while no connection carried the stream.
type Patience struct {
	within time.Duration
	idle   func() time.Duration

	mu    sync.Mutex
	from  time.Duration // how long the stream had been idle when the waiting began
	timer *time.Timer
	ended bool
}

// Within calls lost, in a goroutine of its own, once the waiting has taken so long. idle is [Stream.Idle], or that of
// whatever passes it on; nil where what is waited for needs no such stream.
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

// Reset begins the waiting anew: something has come.
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

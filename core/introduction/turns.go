package introduction

import (
	"errors"
	"fmt"
	"sync"
	"time"
)

// What a device allows before it pauses: whoever is between can try once in each introduction.
const (
	mostFailures = 3
	// PauseFor is how long a device refuses introductions after three that failed in a row.
	PauseFor = 10 * time.Minute
)

// ErrBusy is the error while another introduction is in progress.
var ErrBusy = errors.New("another introduction is in progress")

// PausedError is the error after too many introductions that failed.
type PausedError struct{ For time.Duration }

func (e *PausedError) Error() string {
	return fmt.Sprintf("%d introductions failed in a row; the next one is possible in %s", mostFailures, e.For.Round(time.Second))
}

// Failures is what has to be kept of turns beyond a restart. The zero value is a device on
// which none has failed.
type Failures struct {
	InARow int       `json:"in_a_row,omitempty"`
	Paused time.Time `json:"paused,omitzero"` // since when it refuses; zero: it does not
}

// Turns lets one introduction happen at a time, and pauses after three in a row that did not
// end with the owner's consent. The zero value is ready.
type Turns struct {
	mu   sync.Mutex
	busy bool
	was  Failures
}

// Restore sets what was kept.
func (t *Turns) Restore(f Failures) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.was = f
}

// Failures returns what has to be kept.
func (t *Turns) Failures() Failures {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.was
}

// Begin begins an introduction, or returns [ErrBusy] or a [PausedError]. end must be called
// once. An introduction that ends in any other way than with consent has failed: one that was
// given up may have been an attempt to guess. A refusal by the owner, who saw the question
// after the words were typed, is no failure.
func (t *Turns) Begin(now time.Time) (end func(now time.Time, failed bool), err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.busy {
		return nil, ErrBusy
	}
	if left := t.left(now); left > 0 {
		return nil, &PausedError{For: left}
	}
	t.busy = true
	return func(now time.Time, failed bool) {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.busy = false
		if !failed {
			t.was = Failures{}
			return
		}
		if t.was.InARow++; t.was.InARow >= mostFailures {
			t.was = Failures{Paused: now}
		}
	}, nil
}

// Paused is for how long introductions are still refused; 0 if they are not.
func (t *Turns) Paused(now time.Time) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.left(now)
}

// left is Paused with the lock held. A clock that was set back does not make the pause longer.
func (t *Turns) left(now time.Time) time.Duration {
	if t.was.Paused.IsZero() {
		return 0
	}
	if now.Before(t.was.Paused) {
		t.was.Paused = now
	}
	left := t.was.Paused.Add(PauseFor).Sub(now)
	if left <= 0 {
		t.was = Failures{}
		return 0
	}
	return left
}

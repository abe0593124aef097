// Package defect contains mistakes in the program itself: where one of many parallel pieces of work
// panics, that piece ends with an error, the others go on, and what happened is counted and kept to be
// shown.
package defect

import (
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"time"
)

// Defect is a mistake in the program that was contained.
type Defect struct {
	At   time.Time // of the last time
	In   string    // what was at work
	Text string
	// Stack is where it happened, as Go prints it.
	Stack string
	Count int // how often since the program was started
}

// Error is what a piece of work ends with that has panicked.
type Error struct {
	In, Text, Stack string
}

func (e *Error) Error() string {
	return fmt.Sprintf("an error in the program ended %s: %s", e.In, e.Text)
}

// mostKept is how many different defects are kept; more are counted only.
const mostKept = 50

var (
	mu     sync.Mutex
	tell   func(*Error)
	kept   []Defect
	others int
)

// Contain runs f, and returns an [*Error] if it panics. in names what is at work.
func Contain(in string, f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			e := &Error{In: in, Text: fmt.Sprint(p), Stack: string(debug.Stack())}
			note(e)
			err = e
		}
	}()
	return f()
}

// Tell has f called with each defect, so that it comes into a log. The last f counts.
func Tell(f func(*Error)) {
	mu.Lock()
	defer mu.Unlock()
	tell = f
}

func note(e *Error) {
	mu.Lock()
	defer mu.Unlock()
	if tell != nil {
		tell(e)
	}
	now := Defect{At: time.Now(), In: e.In, Text: e.Text, Stack: e.Stack, Count: 1}
	i := slices.IndexFunc(kept, func(d Defect) bool { return d.In == e.In && d.Text == e.Text })
	switch {
	case i >= 0:
		now.Count += kept[i].Count
		kept[i] = now
	case len(kept) < mostKept:
		kept = append(kept, now)
	default:
		others++
	}
}

// All returns the defects since the program was started, the latest last, and how many more there were
// that are not kept.
func All() (out []Defect, more int) {
	mu.Lock()
	defer mu.Unlock()
	out = slices.Clone(kept)
	slices.SortFunc(out, func(x, y Defect) int { return x.At.Compare(y.At) })
	return out, others
}

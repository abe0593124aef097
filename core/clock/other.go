package clock

import "time"

// Other is another's clock, as it was read at one moment. It goes on by the time that has passed since,
// not by this computer's clock, so that it is right also after that was set. The zero value was not read.
type Other struct {
	at     time.Time
	passed time.Duration // of steady, when it was read
}

// Read is another's clock that shows a time now.
func Read(at time.Time) Other { return Other{at, steady()} }

// Known reports whether it was read.
func (o Other) Known() bool { return !o.at.IsZero() }

// Ahead is by how much it is ahead of a time now, which is this computer's.
func (o Other) Ahead(now time.Time) time.Duration {
	return o.at.Add(steady() - o.passed).Sub(now)
}

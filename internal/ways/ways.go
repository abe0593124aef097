// Package ways defines what a way to a device is. The ways themselves are packages below
// this one (cable, air, companion and so on) that do not depend on each other. To add one,
// implement [Way], identify the device with the rack, and give the way to its keeper.
package ways

import (
	"context"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
)

// Kind is the kind of a way, in the words of the console and of docs.
type Kind string

// The kinds, in order of preference: if several are up, the first is used.
const (
	Cable     Kind = "cable"
	SSH       Kind = "ssh"
	Wireless  Kind = "wireless"
	Companion Kind = "companion"
	Adapter   Kind = "adapter"
	Remote    Kind = "remote"
)

var order = map[Kind]int{Cable: 1, SSH: 2, Wireless: 3, Companion: 4, Adapter: 5, Remote: 6}

// Before reports whether a way of kind k is used rather than one of the other kind.
// A kind that is not among those above comes last.
func (k Kind) Before(other Kind) bool {
	rank := func(k Kind) int {
		if r := order[k]; r > 0 {
			return r
		}
		return len(order) + 1
	}
	return rank(k) < rank(other)
}

// Place is where a device is reached, for people: "hub port 2" of "loft".
type Place struct {
	Host string // "" where no host is on the way
	Port string
}

// Way is one way to one device. A keeper calls Run in a goroutine of its own, once;
// after [ErrMoved] the device's own keeper calls it again. The other methods return
// the same at every call, from any goroutine.
type Way interface {
	Kind() Kind
	Place() Place
	// Scope is unique to this connection: facts that were observed by this way are good
	// for as long as Run lasts.
	Scope() string
	// Pins reports whether the key of a device that is met for the first time this way
	// may be pinned without an introduction.
	Pins() bool
	// Run reaches the device, again and again, until the device is gone or ctx ends;
	// it owns its retries. It returns nil then, or an error of to.Proven as it is.
	Run(ctx context.Context, to Sink) error
}

// Restarter is implemented by a way whose link can be made to start over.
type Restarter interface {
	// RestartLink ends the session and has the device start its side over. It returns once
	// that has been done; the way then reaches the device again by itself.
	RestartLink(ctx context.Context) error
}

// Waker is implemented by a way to a device that may sleep, and that can be woken from here.
type Waker interface {
	// Asleep is since when the device is asleep; zero while it is awake.
	Asleep() time.Time
	// Wake has it woken, again and again, until a session is up or ctx ends; then the error of
	// the last attempt.
	Wake(ctx context.Context) error
}

// Sink is what a way reports to. Methods may be called from any goroutine
// while Run lasts.
type Sink interface {
	// Observe records facts that were observed by this way. A fact whose key ends with the
	// way gets the way's scope. It returns when they are on disk, or Run's context has
	// ended.
	Observe(facts ...fact.Fact)
	// Proven is called with the device key as soon as the device has proven it. After an
	// error the way must not talk to the device any more: another key is pinned
	// ([device.KeyChanged]), or the key belongs to another device on record
	// ([ErrMoved]).
	Proven(ctx context.Context, key string) error
	// Up is called with a session, which the keeper uses until it ends. The way closes it.
	Up(s device.Session)
	// Down is called with the reason why there is no session, or no longer one.
	Down(reason error)
	// Retry receives a value when a way that waits for a person should try again, for
	// example because another key was pinned.
	Retry() <-chan struct{}
}

// ErrMoved is the error of a way whose device turned out to be another one on record. Run
// returns it, and the keeper passes the way on.
var ErrMoved = problem.New(problem.Changed, "the device is another one on the rack")

// Package network defines what a bench knows of devices that are heard without a cable, and
// the introduction of those that it does not know. The ways without a cable (below internal/ways)
// and internal/introduce do the work.
package network

import (
	"context"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/problem"
)

// Network is what is heard on the network, and the addresses that were given.
type Network interface {
	// List returns what is heard and what was given, by name.
	List() []Entry
	// Add saves an address that a person gives, and finds out who is there.
	Add(ctx context.Context, address string) (Entry, error)
	// Drop forgets an address that a person has given, by its name or itself.
	Drop(ctx context.Context, name string) error
}

// Companions is what is heard through other devices.
type Companions interface {
	// List returns it, by name.
	List() []Entry
}

// Introductions are made one at a time.
type Introductions interface {
	// Meeting returns the current introduction, or the last one.
	Meeting() (Meeting, error)
	// Meet begins the introduction of a device that is heard, by the name by which it is listed. as
	// is the handle of the record that it is, or "".
	Meet(ctx context.Context, name, as string) (Meeting, error)
	// Type takes the words that a person has typed. If they are right it returns at once, and the
	// device's owner is asked; Meeting tells the outcome. A mistake in typing may be mended; words
	// that are wrong end the introduction.
	Type(ctx context.Context, words string) (Meeting, error)
	// MayBe returns the handles of the devices on record that something which is heard may be.
	MayBe(e Entry) []string
	// StopMeeting cancels the current introduction.
	StopMeeting() error
}

// Servers are the SSH servers of devices without the device link. The way openssh does the work.
type Servers interface {
	// List returns those that were given, by name.
	List() []Entry
	// Add saves the address of one, ssh://USER@HOST or ssh://USER@HOST:PORT, and finds out which key it shows.
	Add(ctx context.Context, address string) (Entry, error)
	// Drop forgets one, by its name, its address or the handle of its device.
	Drop(ctx context.Context, name string) error
	// Login puts the device of one on record, and returns its handle.
	Login(ctx context.Context, l Login) (handle string, err error)
}

// Login is what a person gives so that a bench can log in to a device.
type Login struct {
	Name string // by which the server is listed, its address, or the handle of its device
	// Accept is the fingerprint of the device key that the person has compared.
	Accept string
	// Password is that of the device's user, needed if the device does not know the bench's key yet. It is not stored.
	Password string
	As       string // handle of the record that it is; "" for the one with that key, or a new one
}

// EntryState is what something that is heard, or at an address, is thought to be.
type EntryState string

// The states of an entry.
const (
	Known        EntryState = "known"         // a device on record
	NotMet       EntryState = "not met"       // a device that was not introduced to this bench
	OtherVersion EntryState = "other version" // of the device link
	Silent       EntryState = "silent"        // nobody answers at the address
)

// NotHeard is the error for an unknown name.
func NotHeard(name string) error {
	return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("Nothing called %.60q is heard on the network.", name),
		Remedy: "List what is heard: earlybench network. Where announcements do not pass: earlybench network add ADDRESS."}
}

// Entry is something that is heard on the network, or an address that was given.
type Entry struct {
	Name      string // by which people speak of it
	State     EntryState
	Device    string // handle of the one on record that it is taken for; "" for none
	Family    string // that it announces; "" where nothing is announced
	Addresses []string
	Through   string    // handle of the device that hears it, and through which it is reached; "" for none
	Asleep    time.Time // since when it is asleep, as that device tells; zero while it is awake
	Given     bool      // a person has given the address
	Since     time.Time // when it was heard first; zero for a given address
	Trouble   string    // why nobody answers at a given address
	Login     string    // the user of an SSH server; "" for anything else
	Key       string    // the device key that an SSH server shows; "" before it was seen
}

// MeetingState is how far an introduction is.
type MeetingState string

// The states of an introduction.
const (
	Connecting MeetingState = "connecting"
	Words      MeetingState = "words"  // the device shows three words, which are typed here
	Asking     MeetingState = "asking" // its owner is asked
	Done       MeetingState = "done"
	Failed     MeetingState = "failed"
)

// Meeting is an introduction.
type Meeting struct {
	State   MeetingState
	Name    string // by which the device is listed
	Address string
	Claims  introduction.Description // what the device says of itself
	As      string                   // handle of the device that it is introduced as; "" while it is not on record
	Until   time.Time                // when the device ends it, unless somebody types
	Trouble *problem.Problem         // why it has failed
}

// ErrNoMeeting is the error while there is no introduction.
var ErrNoMeeting = problem.New(problem.NotFound, "no introduction is in progress")

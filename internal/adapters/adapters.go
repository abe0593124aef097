// Package adapters defines what a bench knows of its adapters: external programs that speak for devices which
// the device link does not reach. The way adapter (internal/ways/adapter) runs them.
package adapters

import "context"

// Adapters is the adapters of a bench.
type Adapters interface {
	// List returns them by name.
	List() []Adapter
	// Look reads an adapter in a directory, without running it.
	Look(dir string) (Adapter, error)
	// Add copies an adapter that a person has seen, with its sheet, and runs it. accept is its digest: nothing else
	// is accepted. One of the same name is replaced.
	Add(ctx context.Context, dir, accept string) (Adapter, error)
	// Drop ends an adapter and deletes it.
	Drop(ctx context.Context, name string) error
}

// State is how an adapter is.
type State string

// The states of an adapter.
const (
	Running State = "running"
	Waiting State = "waiting" // no device for it is here
	Failing State = "failing" // it has ended, and is started again after a while
)

// Adapter is an adapter.
type Adapter struct {
	Name      string
	About     string
	Command   []string
	Files     []string // patterns of the device files that it may use
	Announced []string // types of the services on the network that it may use
	USB       []string // vendor:product of the devices on the computer's USB that it may use
	Connect   []int    // TCP ports that it may connect to
	Sheet     string   // the sheet of its devices
	Digest    string   // of all its files
	Version   string   // that it states itself
	State     State
	Fenced    bool // the system holds it to its rights
	Trouble   string
	Devices   []string // handles of those that it speaks for now
	Log       []string // the last lines that it has said
}

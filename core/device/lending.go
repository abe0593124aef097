package device

import (
	"context"
	"io"
	"time"
)

// Rights says what a key that was let in for a loan may do on the device.
type Rights string

// The rights of a loan. The empty one is that of a bench which the device's owner has admitted.
const (
	RightsAll  Rights = ""
	RightsLook Rights = "look" // see what the device tells, its log and its screen
	RightsUse  Rights = "use"  // and install, start and stop apps, put grants and tokens on it, touch its screen
)

// Added is a key that a bench has let in on a device for a time.
type Added struct {
	Key    string `json:"key"`  // SHA-256 fingerprint, as OpenSSH prints it
	Name   string `json:"name"` // of the bench with that key, for the device's owner
	Rights Rights `json:"rights"`
	// Seconds is how long from now. It is a duration, so that a wrong clock of the device
	// does not matter.
	Seconds int `json:"seconds"`
	// Epoch is that of the records of the bench that lets it in: what it has let in in another
	// epoch ends when it asks for the list.
	Epoch uint64 `json:"epoch"`
}

// LongestLoan is the longest time that a key may be admitted.
const LongestLoan = 30 * 24 * time.Hour

// Use is something that was done on a device by a key that was let in for a loan.
type Use struct {
	Seq   uint64    `json:"seq"` // greater for each
	At    time.Time `json:"at"`  // by the device's clock
	Key   string    `json:"key"`
	What  string    `json:"what"`            // a method or a channel of the link
	About string    `json:"about,omitempty"` // the app
	Done  bool      `json:"done"`            // false: it was refused
}

// Lending is letting others in on the device for a time. Only a bench has it that the device's owner has
// admitted, and what it lets in ends with its own admission.
type Lending interface {
	// Add lets a key in, or changes for how long and with which rights.
	Add(ctx context.Context, a Added) error
	// Drop ends what Add has done: sessions with that key end at once.
	Drop(ctx context.Context, key string) error
	// List returns what this bench has let in. What it has let in in another epoch is dropped first.
	List(ctx context.Context, epoch uint64) ([]Added, error)
	// Uses calls take with what is done by the keys that this bench has let in, from the one after a
	// number on, as it happens, until ctx or the session ends. A device keeps the last 500.
	Uses(ctx context.Context, after uint64, take func(Use)) error
	// Open starts another stream to the same device, on which somebody else can set up a link. The
	// device knows them only by their key.
	Open(ctx context.Context) (io.ReadWriteCloser, error)
}

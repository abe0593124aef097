// Package device is what a bench can do with a device that it has reached, by
// whatever way. A [Session] is a set of small capabilities; a way that lacks one
// says so with an error that is an [errors.ErrUnsupported] and a sentence for
// people. Work on devices is written against this package alone.
//
// The package devicetest holds what every implementation must keep to.
package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// Session is a device that is reached. Its methods may be called from any
// goroutine. Every method that takes a context returns soon after that ends,
// even if the device is silent; after the session's end all of them fail.
type Session interface {
	// Key is the fingerprint of the key that the device has proven; "" where the
	// way knows no keys.
	Key() string
	// Done is closed when the session has ended.
	Done() <-chan struct{}
	// Close ends the session and waits until nothing of it runs.
	Close() error

	Admission() (Admission, error)
	Facts() (Facts, error)
	Apps() (Apps, error)
	Files() (Files, error)
	Log() (Log, error)
	Screen() (Screen, error)
	Ports() (Ports, error)
	// Find has the device show what it is called on this bench.
	Find(ctx context.Context, handle string) error
	// Restart has the device restart.
	Restart(ctx context.Context) error
}

// ErrEnded is what happens to whoever uses a session that has ended.
var ErrEnded = errors.New("the session has ended")

// Admission is the device's consent to this bench.
type Admission interface {
	// State asks how it stands.
	State(ctx context.Context) (Admittance, error)
	// Ask has the device ask its owner. It reports every state of the question
	// and returns the last; when ctx ends the question is taken away.
	Ask(ctx context.Context, v Visitor, report func(Admittance)) (Admittance, error)
	// Withdraw takes this bench's admission back.
	Withdraw(ctx context.Context) error
}

// AdmitState is what a device says of a bench's key.
type AdmitState string

// The states of admission.
const (
	AdmitNone     AdmitState = "none" // not asked in this session
	AdmitAsking   AdmitState = "asking"
	AdmitPassword AdmitState = "password"
	AdmitRefused  AdmitState = "refused"
	AdmitExpired  AdmitState = "expired"
	AdmitBusy     AdmitState = "busy" // another bench's question is on its screen
	Admitted      AdmitState = "admitted"
)

// Admittance is a state of admission with how long it holds.
type Admittance struct {
	State AdmitState `json:"state"`
	// For is "visit", "30 days" or "until withdrawn", when admitted.
	For   string    `json:"for,omitempty"`
	Until time.Time `json:"until,omitzero"`
	// Wants is what the device wants typed on it, with the state password, which is
	// the device's own and never sent; or, with the state asking, [WantsNumber].
	Wants string `json:"wants,omitempty"`
	// Number is what the bench shows where the device wants it: two digits that both
	// sides know of their session, and that nobody between them can choose.
	Number string `json:"-"`
	// Locked says that the device is locked, so that a question shows only once it
	// is unlocked.
	Locked bool `json:"locked,omitempty"`
}

// WantsNumber says that the owner picks, among others on the device, the number that
// the bench shows.
const WantsNumber = "number"

// Visitor is who asks to be let in.
type Visitor struct {
	Key    string `json:"-"`    // SHA-256 fingerprint, as OpenSSH prints it; proven
	Number string `json:"-"`    // that its bench shows where the device wants it
	Name   string `json:"name"` // the bench's name, its own claim
	// Shared says that several people use the asking computer: it never asks for
	// more than this visit.
	Shared bool `json:"shared,omitempty"`
}

// Facts is what the device tells of itself.
type Facts interface {
	// Follow calls take with what the device tells, first all, then each change,
	// until ctx or the session ends. Of a key that was told several times before
	// take was called only the last is handed over; nothing else is left out.
	// take may block.
	Follow(ctx context.Context, take func([]Fact)) error
}

// Fact is one thing that a device tells of itself.
type Fact struct {
	Key   string          `json:"key"`
	Value json.RawMessage `json:"value"`
}

// Keys that have a meaning for every device. The others are those of the prep
// sheets.
const (
	// FactClock is what time the device has (RFC 3339), at the moment of telling.
	FactClock = "clock"
	// FactApps is the list of installed apps, an array of [App].
	FactApps = "apps"
)

// Apps is the apps on the device.
type Apps interface {
	List(ctx context.Context) ([]App, error)
	// Offer offers an app by its manifest and its developer's signature, "" for
	// none; the answer says which files the device needs to be sent. A refusal is a
	// [Refusal].
	Offer(ctx context.Context, manifest []byte, signature string) (Lacks, error)
	// Install switches to an offered app whose files are all there.
	Install(ctx context.Context, digest string) error
	// Start starts an app and tells behind which line its log begins. A [Refusal] of
	// the kind [Unaccepted] is a device whose owner has not accepted its developer.
	Start(ctx context.Context, id string) (Started, error)
	Stop(ctx context.Context, id string) error
	Remove(ctx context.Context, id string) error
}

// App is an installed app.
type App struct {
	ID      string `json:"id"`
	Version string `json:"version"`
	Digest  string `json:"digest"` // of its manifest
	Name    string `json:"name"`
	Running bool   `json:"running"`
}

// Lacks is a device's answer to an offer: the files that it needs to be sent,
// into Dir, under their digests.
type Lacks struct {
	Digest string `json:"digest"`
	Dir    string `json:"dir"`
	Files  []Lack `json:"files"`
}

// Lack is one file that is lacking, whole or from a byte on.
type Lack struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
	Have   int64  `json:"have"`
}

// Started is the answer to the start of an app: the log of this start comes
// behind the line After.
type Started struct {
	After uint64 `json:"after"`
}

// RefusalKind tells why a device does not do what it was asked.
type RefusalKind string

// The kinds of refusals.
const (
	NotAllowed RefusalKind = "not allowed"
	NoRoom     RefusalKind = "no room"
	Unfit      RefusalKind = "unfit"      // such as for another family or release
	Sleeps     RefusalKind = "asleep"     // it has to be woken first
	Unsigned   RefusalKind = "unsigned"   // the developer's signature is missing or wrong
	Unaccepted RefusalKind = "unaccepted" // its owner has not accepted the developer
)

// Refusal is a device's no, in its words.
type Refusal struct {
	Kind RefusalKind
	Text string
}

func (r *Refusal) Error() string { return r.Text }

// Files is where the files of apps are put.
type Files interface {
	// Put writes what r gives into the file name of dir, from byte at to size.
	// Pieces may arrive in any order; arrived is told the size of each. What has
	// arrived without a hole is kept if Put fails.
	Put(ctx context.Context, dir, name string, r io.Reader, at, size int64, arrived func(n int64)) error
}

// Log is the log of the device and its apps.
type Log interface {
	// Follow calls take with the lines behind from.After, in order, until it
	// returns false, or ctx or the session ends. No line is left out while the
	// device still has it; take may block, which holds the device back.
	Follow(ctx context.Context, from LogFrom, take func(Line) bool) error
}

// LogFrom asks for the lines after a number, of an app or of all.
type LogFrom struct {
	App   string `json:"app,omitempty"`
	After uint64 `json:"after"`
}

// Line is one line of a device's log.
type Line struct {
	Seq   uint64    `json:"seq"`
	At    time.Time `json:"at"`
	App   string    `json:"app,omitempty"` // "" for the device's own
	Level string    `json:"level"`         // "info" or "error"
	Text  string    `json:"text"`
	// Ended says that the app has ended with this line.
	Ended *Ended `json:"ended,omitempty"`
}

// Ended tells how an app ended.
type Ended struct {
	// Code is the app's own exit code, and -1 where it was ended.
	Code int `json:"code"`
	// Reason is "exited", "crashed" or "stopped".
	Reason string `json:"reason"`
}

// Reasons for which an app ended.
const (
	Exited  = "exited"
	Crashed = "crashed"
	Stopped = "stopped"
)

// Screen is the device's screen.
type Screen interface {
	// Open opens a byte stream on which RFB (RFC 6143) is spoken, the device being
	// the server.
	Open(ctx context.Context) (io.ReadWriteCloser, error)
}

// Ports is the ports that the device's apps announce.
type Ports interface {
	// Dial connects to an announced port.
	Dial(ctx context.Context, name string) (io.ReadWriteCloser, error)
}

// Bare is a session that can do nothing. Sessions embed it, so that what they
// lack answers in a sentence. Way names the way, such as "cable".
type Bare struct{ Way string }

func (b Bare) lacks(what string) error {
	return &problem.Problem{Kind: problem.Unsupported, Text: fmt.Sprintf("%s is not to be had by the way %s.", what, b.Way),
		Remedy: "Connect the device by another way that has it."}
}

// Admission says that nobody is asked: who gets here is admitted.
func (b Bare) Admission() (Admission, error) { return nil, b.lacks("Admission") }

// Facts says that the device tells nothing.
func (b Bare) Facts() (Facts, error) { return nil, b.lacks("What the device tells of itself") }

// Apps says that there are no apps.
func (b Bare) Apps() (Apps, error) { return nil, b.lacks("The list of apps") }

// Files says that no files can be put there.
func (b Bare) Files() (Files, error) { return nil, b.lacks("Copying files") }

// Log says that there is no log.
func (b Bare) Log() (Log, error) { return nil, b.lacks("The log") }

// Screen says that there is no screen.
func (b Bare) Screen() (Screen, error) { return nil, b.lacks("The screen") }

// Ports says that there are no ports.
func (b Bare) Ports() (Ports, error) { return nil, b.lacks("A port of an app") }

// Find says that the device cannot show its handle.
func (b Bare) Find(context.Context, string) error {
	return b.lacks("Showing the device's handle on it")
}

// Restart says that the device cannot be restarted.
func (b Bare) Restart(context.Context) error { return b.lacks("Restarting the device") }

// KeyChanged is the error of a device that proved another key than the one that
// is pinned. Nobody goes on over it silently.
type KeyChanged struct{ Pinned, Shown string }

func (e *KeyChanged) Error() string {
	return fmt.Sprintf("the pinned device key is %s, the device showed %s", e.Pinned, e.Shown)
}

// Pinned makes the function that accepts just one device key, or any where that
// is "".
func Pinned(key string) func(shown string) error {
	return func(shown string) error {
		if key != "" && shown != key {
			return &KeyChanged{Pinned: key, Shown: shown}
		}
		return nil
	}
}

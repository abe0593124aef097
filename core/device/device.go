// Package device defines what a bench can do with a device that it has reached by any way. A
// [Session] is a set of small capabilities. A way that lacks one returns an error that is
// [errors.ErrUnsupported] and has a sentence for people. Work on devices uses this package
// only.
//
// Package devicetest tests the contract that every implementation must fulfil.
package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/problem"
)

// Session is a connection to a device. Its methods may be called from any goroutine. Every
// method that takes a context returns soon after the context ends, even if the device does
// not answer. After the end of the session all methods fail.
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
	Statements() (Statements, error)
	Wireless() (Wireless, error)
	Actions() (Actions, error)
	Companions() (Companions, error)
	Lending() (Lending, error)
	// Find makes the device show its handle on this bench.
	Find(ctx context.Context, handle string) error
	// Restart restarts the device.
	Restart(ctx context.Context) error
}

// Why is why a session has ended, in the words of whoever ended it; "" if nothing was said.
func Why(s Session) string {
	if told, ok := s.(interface{ Why() string }); ok {
		return told.Why()
	}
	return ""
}

// ErrEnded is the error of a session that has ended.
var ErrEnded = errors.New("the session has ended")

// ErrNotAdmitted is the error of a device that no longer admits this bench. The session
// ends with it.
var ErrNotAdmitted = errors.New("this bench is no longer admitted on the device")

// Admission is the device's consent to this bench.
type Admission interface {
	// State returns the state of the admission.
	State(ctx context.Context) (Admittance, error)
	// Ask makes the device ask its owner. It reports every state of the question and
	// returns the last one; when ctx ends, the question is removed.
	Ask(ctx context.Context, v Visitor, report func(Admittance)) (Admittance, error)
	// Withdraw withdraws this bench's admission.
	Withdraw(ctx context.Context) error
}

// AdmitState is the state of a bench's key on a device.
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

// Admittance is a state of admission and how long it lasts.
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
	// Rights is what the key may do, when admitted: all, unless it was let in for a loan.
	Rights Rights `json:"rights,omitempty"`
	// Waits is for how many seconds from now the question waits, with the state asking; 0
	// where the device does not tell.
	Waits int `json:"waits,omitempty"`
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

// Facts is what the device reports about itself.
type Facts interface {
	// Follow calls take with what the device reports, first everything, then each change,
	// until ctx or the session ends. If a key is reported several times before take is
	// called, only the last value is passed on; nothing else is left out. take may block.
	Follow(ctx context.Context, take func([]Fact)) error
}

// Fact is one fact that a device reports about itself.
type Fact struct {
	Key   string          `json:"key"`
	Value json.RawMessage `json:"value"`
}

// Keys that mean the same for every device. The others are defined by the prep sheets.
const (
	// FactClock is the time of the device's clock (RFC 3339) when it is reported.
	FactClock = "clock"
	// FactApps is the list of installed apps, an array of [App].
	FactApps = "apps"
)

// Apps is the apps on the device.
type Apps interface {
	List(ctx context.Context) ([]App, error)
	// Offer offers an app by its manifest and its developer's signature; the answer says which files the device needs to be sent. A refusal is a
	// [Refusal].
	Offer(ctx context.Context, manifest []byte, signature developer.Signature) (Lacks, error)
	// Install switches to an offered app whose files are all there.
	Install(ctx context.Context, digest string) error
	// Start starts an app and returns the line after which its log begins. A [Refusal] of
	// the kind [Unaccepted] is a device whose owner has not accepted its developer, one
	// of the kind [Uncovered] a device that has no grant or debug token for it.
	Start(ctx context.Context, id string) (Started, error)
	Stop(ctx context.Context, id string) error
	Remove(ctx context.Context, id string) error
}

// Lasts reports whether a session has not ended.
func Lasts(s Session) bool {
	select {
	case <-s.Done():
		return false
	default:
		return true
	}
}

// App is an installed app.
type App struct {
	ID      string `json:"id"`
	Version string `json:"version"`
	Digest  string `json:"digest"` // of its manifest
	Name    string `json:"name"`
	Running bool   `json:"running"`
}

// Lacks is a device's answer to an offer: the files that are to be sent to Dir, under their
// digests.
type Lacks struct {
	Digest string `json:"digest"`
	Dir    string `json:"dir"`
	Files  []Lack `json:"files"`
}

// Lack is one file that is missing, completely or from a byte on.
type Lack struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
	Have   int64  `json:"have"`
}

// Started is the answer to the start of an app: the log of this start follows the line
// After.
type Started struct {
	After uint64 `json:"after"`
}

// RefusalKind is why a device refuses a request.
type RefusalKind string

// The kinds of refusals.
const (
	NotAllowed RefusalKind = "not allowed"
	NoRoom     RefusalKind = "no room"
	Unfit      RefusalKind = "unfit"      // such as for another family or release
	Sleeps     RefusalKind = "asleep"     // it has to be woken first
	Unsigned   RefusalKind = "unsigned"   // the developer's signature is missing or wrong
	Unaccepted RefusalKind = "unaccepted" // its owner has not accepted the developer
	Uncovered  RefusalKind = "uncovered"  // no grant or debug token covers it
)

// Refusal is a device's refusal, in its words.
type Refusal struct {
	Kind RefusalKind
	Text string
}

func (r *Refusal) Error() string { return r.Text }

// Files is where the files of apps are put.
type Files interface {
	// Put writes the content of r to the file name in dir, from byte at to size. Pieces may
	// arrive in any order; arrived is called with the size of each. If Put fails, what has
	// arrived without a gap is kept.
	Put(ctx context.Context, dir, name string, r io.Reader, at, size int64, arrived func(n int64)) error
}

// Log is the log of the device and its apps.
type Log interface {
	// Follow calls take with the lines after from.After, in order, until take returns
	// false, or ctx or the session ends. No line is left out while the device still has
	// it. take may block, which holds the device back.
	Follow(ctx context.Context, from LogFrom, take func(Line) bool) error
}

// LogFrom selects the lines after a number, of one app or of all.
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

// Statements is the grants and debug tokens on the device (docs/formats/statement.md).
type Statements interface {
	// List returns them as they were signed.
	List(ctx context.Context) ([]string, error)
	// Put puts one on the device, in place of those for which it has no room beside it. A
	// device that does not take it answers a [Refusal].
	Put(ctx context.Context, text string) error
	// Drop removes one, by its id. It is not an error if it is not there.
	Drop(ctx context.Context, id string) error
	// Withdrawn hands a signed status list over. An older one than the device has changes nothing.
	Withdrawn(ctx context.Context, list string) error
}

// Wireless switches on the device whether it is reached without a cable.
type Wireless interface {
	// Set switches it on or off. A device on which only its owner can do that answers a [Refusal].
	Set(ctx context.Context, on bool) error
}

// Actions is what else can be done with a device, as whoever speaks for it says.
type Actions interface {
	List() []Action
	// Do has an action done, with arguments as its schema says, a JSON object.
	Do(ctx context.Context, name string, args json.RawMessage) (result json.RawMessage, err error)
}

// Action is one of them.
type Action struct {
	Name  string
	About string
	Args  json.RawMessage // JSON Schema (2020-12); nil for no arguments
}

// Companions is the devices that are reached through this one, such as a watch through its handset.
type Companions interface {
	// Follow calls take with all that the device hears, at once and after each change, until ctx or
	// the session ends. take may block; what was not taken then is replaced by what is newer.
	Follow(ctx context.Context, take func([]Companion)) error
	// Open connects to one of them by its name, and has it woken if it sleeps. The bytes pass
	// through the device as they are. A device that cannot reach it answers a [NotCarried].
	Open(ctx context.Context, name string) (io.ReadWriteCloser, error)
}

// Companion is a device that another one hears.
type Companion struct {
	// Name changes from time to time. Whoever knows the device's key recognises it; to
	// everybody else it means nothing.
	Name   string `json:"name"`
	Family string `json:"family"`
	Asleep bool   `json:"asleep,omitempty"`
	// Slept is for how many seconds it has been asleep, 0 to a year.
	Slept int64 `json:"slept,omitempty"`
}

// NotCarried is the error of a device that cannot reach its companion. Text is the device's.
type NotCarried struct{ Text string }

func (e *NotCarried) Error() string { return e.Text }

type askingKey struct{}

// WithAsking returns a context in which a device can ask a person in the middle of something: asks is
// called with what to do, and with "" once it is done.
func WithAsking(ctx context.Context, asks func(text string)) context.Context {
	return context.WithValue(ctx, askingKey{}, asks)
}

// Asking returns the function that asks a person; nil if nobody is there.
func Asking(ctx context.Context) func(text string) {
	asks, _ := ctx.Value(askingKey{}).(func(string))
	return asks
}

// Bare is a session without any capability. Sessions embed it, so that a missing capability
// returns an error with a sentence. Way is the name of the way, such as "cable".
type Bare struct{ Way string }

func (b Bare) lacks(what string) error {
	return &problem.Problem{Kind: problem.Unsupported, Text: fmt.Sprintf("%s is not available over the way %s.", what, b.Way),
		Remedy: "Connect the device in a way that has it."}
}

// Admission returns an error: nobody is asked, and whoever connects is admitted.
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

// Statements says that it takes no grants and debug tokens.
func (b Bare) Statements() (Statements, error) { return nil, b.lacks("Grants and debug tokens") }

// Wireless says that this way cannot switch it.
func (b Bare) Wireless() (Wireless, error) {
	return nil, b.lacks("Switching on that a device is reached without a cable")
}

// Actions says that there are no others.
func (b Bare) Actions() (Actions, error) {
	return nil, b.lacks("An action beyond those of every device")
}

// Companions says that nobody is reached through it.
func (b Bare) Companions() (Companions, error) {
	return nil, b.lacks("Reaching another device through this one")
}

// Lending says that nobody else is let in this way.
func (b Bare) Lending() (Lending, error) { return nil, b.lacks("Lending a device to others") }

// Find says that the device cannot show its handle.
func (b Bare) Find(context.Context, string) error {
	return b.lacks("Showing the device's handle on it")
}

// Restart says that the device cannot be restarted.
func (b Bare) Restart(context.Context) error { return b.lacks("Restarting the device") }

// KeyChanged is the error of a device that proved another key than the pinned one. It must
// never be ignored silently.
type KeyChanged struct{ Pinned, Shown string }

func (e *KeyChanged) Error() string {
	return fmt.Sprintf("the pinned device key is %s, but the device showed %s", e.Pinned, e.Shown)
}

// Pinned returns a function that accepts only the given device key, or any key if that is
// "".
func Pinned(key string) func(shown string) error {
	return func(shown string) error {
		if key != "" && shown != key {
			return &KeyChanged{Pinned: key, Shown: shown}
		}
		return nil
	}
}

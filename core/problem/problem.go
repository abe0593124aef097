// Package problem defines the errors that people see: what is wrong, why as far as that is
// known, and what to do now. The kind is for programs: the command line derives exit codes
// from it, the HTTP interface status codes.
package problem

import (
	"errors"
	"fmt"
)

// Kind is the kind of a problem.
type Kind string

// The kinds.
const (
	Blocked     Kind = "blocked"     // a gate is not open
	Person      Kind = "person"      // a person is needed
	Gone        Kind = "gone"        // the device was lost on the way
	Refused     Kind = "refused"     // not allowed
	Invalid     Kind = "invalid"     // what was given cannot be used
	NotFound    Kind = "not found"   // there is no such thing
	Taken       Kind = "taken"       // something else has it already
	Changed     Kind = "changed"     // it was decided on a state that is over
	Unsupported Kind = "unsupported" // this way to the device cannot do it
	Unavailable Kind = "unavailable" // not now; trying again may help
	Failed      Kind = "failed"      // anything else
)

// Problem is an error with its kind and remedy. Text and Remedy are sentences.
type Problem struct {
	Kind   Kind   `json:"kind"`
	Text   string `json:"text"`
	Gate   string `json:"gate,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

// New makes an error of a kind, for variables that callers compare with
// [errors.Is]. Its text is lower case without a full stop, so that it can stand
// within a sentence.
func New(kind Kind, text string) error { return &Problem{Kind: kind, Text: text} }

// Errorf makes an error of a kind; %w works as in [fmt.Errorf].
func Errorf(kind Kind, format string, args ...any) error {
	return &wrapped{kind, fmt.Errorf(format, args...)}
}

// Error returns the text with its remedy.
func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Text
	}
	return p.Text + " " + p.Remedy
}

// Is makes a problem of kind [Unsupported] an [errors.ErrUnsupported].
func (p *Problem) Is(target error) bool {
	return p.Kind == Unsupported && target == errors.ErrUnsupported
}

// wrapped gives another error a kind.
type wrapped struct {
	kind Kind
	err  error
}

func (w *wrapped) Error() string { return w.err.Error() }
func (w *wrapped) Unwrap() error { return w.err }

// KindOf returns the kind of an error: that of the outermost error in its tree
// that has one, and [Failed] where none has.
func KindOf(err error) Kind {
	var kind Kind
	if w, ok := errors.AsType[*wrapped](err); ok {
		kind = w.kind
	}
	if p, ok := errors.AsType[*Problem](err); ok && kind == "" {
		kind = p.Kind
	}
	if kind == "" {
		kind = Failed
	}
	return kind
}

// Of returns err as a problem that can be shown: as it is where it is one, and
// otherwise with its whole text.
func Of(err error) *Problem {
	p, ok := errors.AsType[*Problem](err)
	if ok && (p.Gate != "" || p.Remedy != "" || error(p) == err) {
		shown := *p
		return &shown
	}
	return &Problem{Kind: KindOf(err), Text: err.Error()}
}

package statement

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Start is what somebody wants to start, and where.
type Start struct {
	App       string    // CREW/APP
	Developer string    // thumbprint of the key that signed it
	Signed    bool      // by an identity; else by a bare key
	Features  []string  // that the app uses
	Serial    string    // of the device
	Debug     bool      // it is to be debugged
	At        time.Time // by the clock of who checks
	Withdrawn []string  // what the status list names
}

// Line is a line of a statement: the member that refuses.
type Line string

// The lines, in the order in which they are looked at (docs/formats/statement.md).
const (
	LineType     Line = "typ"
	LineKey      Line = "cnf"
	LineSubject  Line = "sub"
	LineApp      Line = "app"
	LineDevices  Line = "devices"
	LineBegins   Line = "nbf"
	LineEnds     Line = "exp"
	LineID       Line = "jti"
	LineFeatures Line = "features"
	LineDebug    Line = "debug"
)

// Lines are all lines, in that order.
var Lines = []Line{LineType, LineKey, LineSubject, LineApp, LineDevices, LineBegins, LineEnds, LineID, LineFeatures, LineDebug}

// An Objection is the line of a statement that refuses a start.
type Objection struct {
	Line Line
	Text string
}

func (o *Objection) Error() string { return o.Text }

// Noun is what people call it.
func (k Kind) Noun() string {
	switch k {
	case Grant:
		return "grant"
	case DebugToken:
		return "debug token"
	}
	return "statement"
}

// Cover reports whether the statement covers a start: nil, or an [Objection].
func (s *Statement) Cover(w Start) error {
	object := func(l Line, format string, args ...any) error {
		return &Objection{l, fmt.Sprintf("the "+s.Kind.Noun()+" "+format, args...)}
	}
	crew, _, _ := strings.Cut(w.App, "/")
	missing := slices.IndexFunc(w.Features, func(f string) bool { return !slices.Contains(s.Features, f) })
	const day = "2 January 2006 15:04 MST"
	switch {
	case s.Kind == Grant && !w.Signed:
		return object(LineType, "is for apps that an identity has signed, and %s was signed by a bare key", w.App)
	case s.Kind == DebugToken && w.Signed:
		return object(LineType, "is for apps that a bare key has signed, and %s was signed by an identity", w.App)
	case s.Confirmation.Thumbprint != w.Developer:
		return object(LineKey, "is %s's, and %s was signed by another key", s.Subject, w.App)
	case s.Crew() != crew:
		return object(LineSubject, "is for the crew %s, and %s is not one of its apps", s.Crew(), w.App)
	case s.App != Any && s.App != w.App:
		return object(LineApp, "is for %s, not for %s", s.App, w.App)
	case !s.Names(w.Serial):
		return object(LineDevices, "does not name the device %s", w.Serial)
	case w.At.Before(s.Begin()):
		return object(LineBegins, "begins on %s, and the clock says %s", s.Begin().Format(day), w.At.UTC().Format(day))
	case !w.At.Before(s.End()):
		return object(LineEnds, "ended on %s, and the clock says %s", s.End().Format(day), w.At.UTC().Format(day))
	case slices.Contains(w.Withdrawn, s.ID):
		return object(LineID, "was withdrawn by %s", s.Issuer)
	case missing >= 0:
		return object(LineFeatures, "does not give %q, which %s uses", w.Features[missing], w.App)
	case w.Debug && !s.Debug:
		return object(LineDebug, "does not let %s be debugged", w.App)
	}
	return nil
}

// Best looks for a statement that covers a start. If there is none, it returns the objection of
// the one that comes nearest; nil, nil without any statement.
func Best(all []*Statement, w Start) (*Statement, *Objection) {
	var nearest *Objection
	var of *Statement
	for _, s := range all {
		err := s.Cover(w)
		if err == nil {
			return s, nil
		}
		o := err.(*Objection) //nolint:errorlint // Cover returns no other
		if nearest == nil || slices.Index(Lines, o.Line) > slices.Index(Lines, nearest.Line) || o.Line == nearest.Line && s.Ends > of.Ends {
			nearest, of = o, s
		}
	}
	return of, nearest
}

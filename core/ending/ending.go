// Package ending is what is good for a term and ends by itself: certificates, grants, debug tokens,
// admissions, standings of crews, support packs, access keys, loans. It tells what will not work on a day,
// and what to do before.
package ending

import (
	"cmp"
	"slices"
	"time"
)

// Kind is what ends.
type Kind string

// The kinds, in the order in which they are shown.
const (
	Identity  Kind = "identity"
	Token     Kind = "debug token"
	Grant     Kind = "grant"
	Admission Kind = "admission"
	Standing  Kind = "standing"
	Support   Kind = "support pack"
	Access    Kind = "access key"
	Loan      Kind = "loan"
)

// Kinds are all kinds.
var Kinds = []Kind{Identity, Token, Grant, Admission, Standing, Support, Access, Loan}

// Term is something that is good until an end.
type Term struct {
	ID      string // stays the same while it is the same thing; a renewal is another
	Kind    Kind
	Name    string    // such as an identity's
	Holder  string    // whose it is, or where
	Devices []string  // handles of those that it is about, in order; none for no device
	Begins  time.Time // zero where that is not known
	Ends    time.Time // zero for no end
	Notice  time.Duration
	Mine    bool   // this bench's; else somebody else's, such as another developer's token
	Alone   bool   // the bench renews it by itself
	Stops   string // what does not work once it has ended
	Step    string // what to do before
	Command string // by which that is done; "" for none
}

// State is how a term stands.
type State string

// The states.
const (
	Good  State = "good"
	Soon  State = "soon"  // within its notice
	Ended State = "ended" // its end has passed
	Open  State = "open"  // it has no end
)

// At is how it stands at a time.
func (t Term) At(now time.Time) State {
	switch {
	case t.Ends.IsZero():
		return Open
	case !now.Before(t.Ends):
		return Ended
	case !now.Before(t.Ends.Add(-t.Notice)):
		return Soon
	}
	return Good
}

// By is until when it should be renewed.
func (t Term) By() time.Time { return t.Ends.Add(-t.Notice) }

// Sort orders terms: those that end first come first, those without an end last.
func Sort(all []Term) {
	slices.SortStableFunc(all, func(x, y Term) int {
		switch {
		case x.Ends.IsZero() != y.Ends.IsZero():
			if x.Ends.IsZero() {
				return 1
			}
			return -1
		case !x.Ends.Equal(y.Ends):
			return x.Ends.Compare(y.Ends)
		}
		return cmp.Or(cmp.Compare(slices.Index(Kinds, x.Kind), slices.Index(Kinds, y.Kind)), cmp.Compare(x.Holder, y.Holder), cmp.Compare(x.ID, y.ID))
	})
}

// Forecast is what will not work at a time, and what will go on since the bench renews it.
type Forecast struct {
	Stops  []Term
	Alone  []Term
	Others []Term // somebody else's, which end
}

// On tells what will not work at a time, as it looks now. What has ended already, although the bench
// renews it by itself, was not renewed: it does not work.
func On(all []Term, now, at time.Time) (f Forecast) {
	for _, t := range all {
		switch {
		case t.At(at) != Ended:
		case !t.Mine:
			f.Others = append(f.Others, t)
		case t.Alone && t.At(now) != Ended:
			f.Alone = append(f.Alone, t)
		default:
			f.Stops = append(f.Stops, t)
		}
	}
	return f
}

// Due are the terms of which somebody must be told at a time: this bench's that have ended, or end
// within their notice. One that the bench renews by itself comes there only if it could not.
func Due(all []Term, now time.Time) (out []Term) {
	for _, t := range all {
		if s := t.At(now); t.Mine && (s == Soon || s == Ended) {
			out = append(out, t)
		}
	}
	return out
}

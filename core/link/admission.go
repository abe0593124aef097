package link

import (
	"time"
)

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

// Admission is a state with how long it holds.
type Admission struct {
	State AdmitState `json:"state"`
	// For is "visit", "30 days" or "until withdrawn", when admitted.
	For   string    `json:"for,omitempty"`
	Until time.Time `json:"until,omitzero"`
	// Wants is what the device wants typed on it, with the state password: "pin",
	// "pattern" or "password". It is the device's own and never sent.
	Wants string `json:"wants,omitempty"`
	// Locked says that the device is locked, so that a question shows only once it
	// is unlocked.
	Locked bool `json:"locked,omitempty"`
}

// Visitor is who asks to be let in.
type Visitor struct {
	Key  string `json:"-"`    // SHA-256 fingerprint, as OpenSSH prints it; proven
	Name string `json:"name"` // the bench's name, its own claim
	// Shared says that several people use the asking computer: it never asks for
	// more than this visit.
	Shared bool `json:"shared,omitempty"`
}

// Channel types and control methods; RFC 4250, section 4.6.1, asks names of our
// own to carry a domain.
const (
	channelAdmit   = "admit@earlybench.invalid"
	channelControl = "control@earlybench.invalid"
	channelScreen  = "screen@earlybench.invalid"

	MethodAdmitState  = "admit.state"
	MethodAdmitAsk    = "admit.ask"
	MethodAdmitChange = "admit.changed" // notification, to the bench
	MethodAdmitCancel = "admit.cancel"

	// MethodAdmitWithdraw has an admitted bench's admission withdrawn, by itself.
	MethodAdmitWithdraw = "admit.withdraw"
	// MethodFind has the device show what it is called on this bench.
	MethodFind = "find"

	MethodDescribe    = "describe"
	MethodFactsFollow = "facts.follow"
	MethodFact        = "fact" // notification, to the bench
	MethodApps        = "apps"
	MethodAppOffer    = "app.offer"
	MethodAppSwitch   = "app.switch"
	MethodAppStart    = "app.start"
	MethodAppStop     = "app.stop"
	MethodAppRemove   = "app.remove"
	MethodLogFollow   = "log.follow"
	MethodLog         = "log" // notification, to the bench
)

package peer

import (
	"time"

	"earlybench.invalid/earlybench/core/developer"
)

// Methods. Those of a visitor are hello, invitation.use and introduction.*; all others are for peers.
const (
	MethodHello      = "hello"
	MethodInvitation = "invitation.use"

	MethodDevices = "devices.follow"
	MethodAll     = "devices" // notification: Devices
)

// Hello is what either bench says of itself.
type Hello struct {
	Version int       `json:"version"`
	Name    string    `json:"name"`
	At      time.Time `json:"at"`              // by its clock
	Known   bool      `json:"known,omitempty"` // whom it tells is a peer of its
}

// UseInvitation holds the parameters of invitation.use.
type UseInvitation struct {
	Secret []byte `json:"secret"`
	Name   string `json:"name"` // of the bench that uses it
}

// Devices are the devices on a bench's rack that another bench may see.
type Devices struct {
	Devices []Device `json:"devices"`
}

// Device is a device on another bench's rack.
type Device struct {
	Handle  string `json:"handle"`
	Family  string `json:"family"`
	Maker   string `json:"maker"`
	Model   string `json:"model"` // market name
	Code    string `json:"code"`  // of the model
	Serial  string `json:"serial,omitempty"`
	Release string `json:"release,omitempty"`
	Key     string `json:"key"`             // its device key
	Rights  string `json:"rights"`          // look or use: what it may be borrowed for
	Hands   bool   `json:"hands,omitempty"` // whoever is near may be asked for hands
	Summary string `json:"summary"`         // readiness in a word, as that bench sees it
	State   State  `json:"state"`
	// Seconds is how long the loan that goes on lasts; 0 for none.
	Seconds int `json:"seconds,omitempty"`
	Waiting int `json:"waiting,omitempty"` // how many wait for it
}

// State is whether a device can be borrowed.
type State string

// The states.
const (
	Free   State = "free"
	Lent   State = "lent"   // to somebody else
	Yours  State = "yours"  // lent to whoever asks
	InUse  State = "in use" // by its own bench
	Absent State = "absent" // its bench does not reach it
)

// The introduction of a bench to another one, which is that of docs/formats/introduction.md with the bench that is
// connected to in the role of the device.
const (
	MethodBegin  = "introduction.begin"
	MethodReveal = "introduction.reveal"
	MethodTyped  = "introduction.typed"
)

// Begin holds the parameters of introduction.begin.
type Begin struct {
	Version    int    `json:"version"`
	Name       string `json:"name"`
	Commitment []byte `json:"commitment"`
}

// Begun is the answer to introduction.begin.
type Begun struct {
	Nonce []byte `json:"nonce"`
	Name  string `json:"name"`
}

// Reveal holds the parameters of introduction.reveal.
type Reveal struct {
	Nonce []byte `json:"nonce"`
}

// Typed is the answer to introduction.typed: whether the other bench's owner has accepted.
type Typed struct {
	Accepted bool `json:"accepted"`
}

// Loans. What a bench has of another one's devices is told with devices.follow as the notification loans.
const (
	MethodLoanStart  = "loan.start"
	MethodLoanEnd    = "loan.end"
	MethodLoanExtend = "loan.extend"
	MethodLoans      = "loans" // notification: Loans

	MethodHandsAsk      = "hands.ask"
	MethodHandsWithdraw = "hands.withdraw"
)

// StartLoan holds the parameters of loan.start.
type StartLoan struct {
	Device  string `json:"device"` // handle
	Rights  string `json:"rights"`
	Seconds int    `json:"seconds"`
	// Lapse is for how many seconds the borrower's bench may not be connected before the loan ends; 0 for as long as it lasts.
	Lapse int `json:"lapse_seconds,omitempty"`
	// Exclusive is for the USB of the device itself: its streams carry USB/IP, and the device link is the borrower's.
	Exclusive bool `json:"exclusive,omitempty"`
}

// LoanRef names a loan; Seconds is for how long from now, for loan.extend.
type LoanRef struct {
	Loan    string `json:"loan"`
	Seconds int    `json:"seconds,omitempty"`
}

// Loan is a loan as its lender tells the borrower of it.
type Loan struct {
	ID      string `json:"id"`
	Device  string `json:"device"`           // handle
	State   string `json:"state"`            // waiting, active, ended
	Rights  string `json:"rights"`           //
	Seconds int    `json:"seconds"`          // that are left of it, or that it will last
	Place   int    `json:"place,omitempty"`  // in the queue, from 1
	Wait    int    `json:"wait,omitempty"`   // how many seconds it will likely wait
	Reason  string `json:"reason,omitempty"` // why it has ended, or what it waits for
	Key     string `json:"key,omitempty"`    // the device's
	Family  string `json:"family,omitempty"` //
	Code    string `json:"code,omitempty"`   // of its model
	Serial  string `json:"serial,omitempty"` //
	// Hands is what its borrower has asked those for who are near the device.
	Hands []Hands `json:"hands,omitempty"`
	// Away is why the lender cannot reach the device now, "" while it does; Step is what hands over there have to do, if it
	// needs some.
	Away string `json:"away,omitempty"`
	Step string `json:"step,omitempty"`
}

// AskHands holds the parameters of hands.ask: what somebody near a lent device should do.
type AskHands struct {
	Loan  string `json:"loan"`
	Title string `json:"title"`
	Text  string `json:"text,omitempty"`
}

// HandsRef names a request for hands.
type HandsRef struct {
	Loan  string `json:"loan"`
	Hands string `json:"hands"`
}

// Hands is a request for hands, as the lender tells the borrower of it.
type Hands struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Text  string `json:"text,omitempty"`
	State string `json:"state"` // asked, seen, done, cannot, withdrawn
	By    string `json:"by,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Loans is everything that a bench has borrowed or is waiting for, and what ended in the last hour.
type Loans struct {
	Loans []Loan `json:"loans"`
}

// ToStream says which stream is opened: of which loan, and which of its streams, by a number that the borrower
// chooses. An existing stream is continued.
type ToStream struct {
	Loan   string `json:"loan"`
	Stream string `json:"stream"`
}

// Signing by another bench. The manifest is sent there, and a person or a rule there consents.
const (
	MethodSignerLook  = "signer.look"
	MethodSignerSign  = "signer.sign"
	MethodSignerLeave = "signer.leave"
)

// SignerRef names what signs at another bench: one of its identities, or its development key where it is "".
type SignerRef struct {
	Identity string `json:"identity,omitempty"`
}

// SignerLooked is the answer to signer.look.
type SignerLooked struct {
	Developer   developer.Public `json:"developer"`
	Certificate []byte           `json:"certificate,omitempty"` // X.509 in DER, of an identity
	// Locked says that its safe is locked, so that nothing is signed before somebody opens it.
	Locked bool `json:"locked,omitempty"`
}

// Sign holds the parameters of signer.sign, and of signer.leave to cancel it.
type Sign struct {
	Identity string `json:"identity,omitempty"`
	Manifest []byte `json:"manifest"` // of an app file, whole
	// Unattended says that nobody may be asked: it fails if no rule allows it.
	Unattended bool `json:"unattended,omitempty"`
}

// The states of a request to sign.
const (
	SignWaits   = "waiting" // for a person's consent
	SignDone    = "signed"
	SignRefused = "refused"
)

// Signed is the answer to signer.sign. The same request again tells how it is now.
type Signed struct {
	State     string              `json:"state"`
	Reason    string              `json:"reason,omitempty"` // why it was refused
	Signature developer.Signature `json:"signature,omitzero"`
}

// Delivery by another bench: it signs an app, gets the files that it lacks, and puts it onto a device of its own.
const (
	MethodDeliver      = "delivery.do"
	MethodDeliverLeave = "delivery.leave"
)

// OfDelivery is what the files of a delivery belong to.
const OfDelivery = "delivery"

// Deliver holds the parameters of delivery.do, and of delivery.leave to cancel it.
type Deliver struct {
	Sign
	ID     string `json:"id"`     // tells one delivery from the next
	Device string `json:"device"` // handle
	Try    bool   `json:"try,omitempty"`
	// Log and Within are what a tryout looks for: a regular expression (RE2), and for how long.
	Log    string `json:"log,omitempty"`
	Within string `json:"within,omitempty"`
}

// The states of a delivery.
const (
	DeliveryWaits   = "waiting" // for a person's consent
	DeliveryGets    = "getting" // the files that it lacks
	DeliveryPuts    = "putting" // the app onto the device
	DeliveryDone    = "done"
	DeliveryFailed  = "failed"
	DeliveryRefused = "refused" // it was not signed
)

// Delivered is the answer to delivery.do. The same request again tells how it is now.
type Delivered struct {
	State  string `json:"state"`
	Reason string `json:"reason,omitempty"` // why it was refused or has failed
	// Done and Total are bytes: of the files that it lacks, or of the copy to the device.
	Done  int64 `json:"done,omitempty"`
	Total int64 `json:"total,omitempty"`
	// Points are what was done on the device, and how each came out.
	Points []DeliveryPoint `json:"points,omitempty"`
	Passed bool            `json:"passed,omitempty"`
	Log    []string        `json:"log,omitempty"`    // the last lines of the app's, of a tryout
	Tryout string          `json:"tryout,omitempty"` // id of what is kept over there
}

// DeliveryPoint is one thing that was done on the device.
type DeliveryPoint struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Text string `json:"text,omitempty"`
	Took int64  `json:"took_ms"`
}

// Kits of another bench, which are fetched file by file.
const (
	MethodKit = "kit.look"
	// OfKit begins what the files of a kit belong to; the kit's name follows.
	OfKit = "kit "
)

// LookAtKit holds the parameters of kit.look.
type LookAtKit struct {
	Kit   string `json:"kit"`
	From  string `json:"from,omitempty"`  // the least version that serves
	Below string `json:"below,omitempty"` // first version that is not accepted
}

// LookedAtKit is the answer to kit.look.
type LookedAtKit struct {
	Reading     bool   `json:"reading,omitempty"` // its files are being read: ask again
	Version     string `json:"version,omitempty"`
	Description []byte `json:"description,omitempty"` // YAML, of the kit (docs/formats/kit.md)
	Listing     string `json:"listing,omitempty"`     // SHA-256 of the listing of its files
	Size        int64  `json:"size,omitempty"`        // of the listing
	Bytes       int64  `json:"bytes,omitempty"`       // of all files
	Files       int    `json:"files,omitempty"`
}

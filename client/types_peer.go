package client

import "time"

// Peer is another bench that this one knows.
type Peer struct {
	Name      string            `json:"name"`
	Key       string            `json:"key" doc:"fingerprint of its key"`
	Connected bool              `json:"connected"`
	Addresses []string          `json:"addresses" nullable:"false" doc:"at which it is reached; none where only it connects"`
	Via       string            `json:"via" doc:"SSH server through which it is reached; empty for directly"`
	May       string            `json:"may" enum:",look,use,hands" doc:"what it may do with every device here; empty for nothing"`
	Devices   map[string]string `json:"devices" nullable:"false" doc:"what it may do with single devices, by handle: look, use, hands or nothing"`
	Signs     bool              `json:"signs" doc:"this bench signs its apps, each time with the consent of a person or a rule here"`
	Kits      []string          `json:"kits" nullable:"false" doc:"kits of this bench that it may have"`
	Skew      int64             `json:"clock_ahead_ms" doc:"by how much its clock is ahead of this bench's, in milliseconds"`
	Trouble   string            `json:"trouble" doc:"why it is not connected"`
	Added     time.Time         `json:"added"`
}

// PeerChange is what is changed of a peer; what is left out stays.
type PeerChange struct {
	May       *string           `json:"may,omitempty" enum:"nothing,look,use,hands" doc:"with every device; hands: use, and ask for the hands of whoever is near"`
	Devices   map[string]string `json:"devices,omitempty" doc:"with single devices, by handle: look, use, hands, nothing, or as the others"`
	Signs     *bool             `json:"signs,omitempty" doc:"whether this bench signs its apps, each time with a consent"`
	Kits      *[]string         `json:"kits,omitempty" maxItems:"50" doc:"all kits of this bench that it may have"`
	Addresses []string          `json:"addresses,omitempty" maxItems:"8"`
}

// PeerPoint is one layer between this bench and a peer, as it was found.
type PeerPoint struct {
	Name   string `json:"name" enum:"name,jump,route,key,version,known,connection,clock,signer,kit"`
	Wrong  string `json:"wrong" doc:"what is wrong; empty if it holds"`
	Note   string `json:"note" doc:"what was seen, where it holds"`
	Remedy string `json:"remedy" doc:"what to do, where it does not"`
}

// PeerCheck is all layers between this bench and a peer, from below, up to the first that fails.
type PeerCheck struct {
	Points []PeerPoint `json:"points" nullable:"false"`
}

// NewInvitation is for how long an invitation is good, and what whoever uses it may do.
type NewInvitation struct {
	For       int64    `json:"for_seconds" minimum:"60" maximum:"2592000"`
	May       string   `json:"may,omitempty" enum:",look,use,hands" doc:"with every device; empty for nothing yet"`
	Addresses []string `json:"addresses,omitempty" maxItems:"8" doc:"HOST:PORT at which this bench is reached; none for those of its computer"`
}

// Invitation is a file with which another bench becomes a peer, once (docs/formats/peer.md).
type Invitation struct {
	Version   int       `json:"earlybench_invitation"`
	Bench     string    `json:"bench"`
	Key       string    `json:"key"`
	Addresses []string  `json:"addresses" nullable:"false"`
	Secret    []byte    `json:"secret"`
	Ends      time.Time `json:"ends"`
}

// NewPeer is how another bench becomes a peer: by an invitation.
type NewPeer struct {
	Invitation Invitation `json:"invitation"`
	As         string     `json:"as,omitempty" maxLength:"36" doc:"what it is called here; empty for what it calls itself"`
}

// Peering is the introductions of this bench to another one, and of another one to it.
type Peering struct {
	Meeting *PeerMeeting `json:"meeting" doc:"to another one: that goes on, or the last one"`
	Asking  *AskingBench `json:"asking" doc:"of another one"`
	Listens string       `json:"listens" doc:"where other benches connect; empty for nowhere"`
}

// PeerMeeting is an introduction of this bench to another one.
type PeerMeeting struct {
	Name  string    `json:"name" doc:"the other bench's claim; the peer's name once it is one"`
	Key   string    `json:"key" doc:"its fingerprint"`
	State string    `json:"state" enum:"words,asked,peer,failed" doc:"words: it shows three words, which are to be typed here; asked: its owner is asked; peer: it is one"`
	Until time.Time `json:"until" doc:"when it is given up"`
	Why   string    `json:"why" doc:"why it has failed"`
}

// AskingBench is a bench that wants to become a peer of this one.
type AskingBench struct {
	Name  string    `json:"name" doc:"its own claim"`
	Key   string    `json:"key" doc:"its fingerprint"`
	Words string    `json:"words" doc:"three words to be typed over there; empty before they are known"`
	Typed bool      `json:"typed" doc:"they were typed: this bench's owner is asked"`
	Until time.Time `json:"until"`
}

// NewMeeting is to whom an introduction begins.
type NewMeeting struct {
	Address string `json:"address" maxLength:"300" doc:"HOST:PORT"`
	Via     string `json:"via,omitempty" maxLength:"300" doc:"SSH server that it is reached through: ssh://USER@HOST:PORT"`
	ViaKey  string `json:"via_key,omitempty" maxLength:"100" doc:"fingerprint of that server's key, which a person has compared; without it, the error tells which one is shown"`
	As      string `json:"as,omitempty" maxLength:"36"`
}

// PeerAnswer is the owner's answer to a bench that asks.
type PeerAnswer struct {
	Key    string `json:"key" maxLength:"100" doc:"fingerprint of the bench that asks"`
	Accept bool   `json:"accept"`
}

// FarDevice is a device on a peer's rack.
type FarDevice struct {
	Peer      string `json:"peer"`
	Connected bool   `json:"connected" doc:"the peer is; if not, this is what it has told last"`
	Handle    string `json:"handle" doc:"on its rack"`
	Family    string `json:"family"`
	Maker     string `json:"maker"`
	Model     string `json:"model"`
	Release   string `json:"release"`
	May       string `json:"may" enum:"look,use" doc:"what it may be borrowed for"`
	Hands     bool   `json:"hands" doc:"whoever is near it may be asked for hands"`
	Summary   string `json:"summary" doc:"its readiness in a word, as the peer sees it"`
	State     string `json:"state" enum:"free,lent,yours,in use,absent"`
	Left      int64  `json:"left_seconds" doc:"for how long it is lent still; 0 if it is not"`
	Waiting   int    `json:"waiting" doc:"how many wait for it"`
}

// Loan is a device that is lent to a peer, or borrowed from one.
type Loan struct {
	ID        string     `json:"id"`
	Lent      bool       `json:"lent" doc:"to a peer; else it is borrowed from one"`
	State     string     `json:"state" enum:"waiting,active,returning,ended" doc:"returning: it is over, and the device is cleaned once it is reached"`
	Peer      string     `json:"peer"`
	Device    string     `json:"device" doc:"handle of the device here; empty for a borrowed one that was not reached yet"`
	Far       string     `json:"far_device" doc:"its handle at the lender"`
	May       string     `json:"may" enum:"look,use"`
	For       int64      `json:"for_seconds" doc:"for how long it was asked"`
	Asked     time.Time  `json:"asked"`
	Began     *time.Time `json:"began,omitempty"`
	Ends      *time.Time `json:"ends,omitempty"`
	Ended     *time.Time `json:"ended,omitempty"`
	Place     int        `json:"place" doc:"in the queue, from 1; 0 for none"`
	Wait      int64      `json:"wait_seconds" doc:"how long it will likely wait"`
	Why       string     `json:"why" doc:"why it has ended, or what it waits for"`
	Away      string     `json:"away" doc:"of a borrowed device: why its lender cannot reach it now; empty while it does"`
	In        int64      `json:"bytes_in" doc:"that the borrower has sent, of a device that is lent"`
	Out       int64      `json:"bytes_out"`
	Exclusive bool       `json:"exclusive" doc:"of the device's USB itself, for the borrower's computer"`
	USB       string     `json:"usb" doc:"where that USB is offered by USB/IP on the borrower's computer; empty while it is not"`
	BusID     string     `json:"usb_bus_id" doc:"of the device, there"`
	Hands     []Hands    `json:"hands" nullable:"false" doc:"what the borrower has asked those for who are near the device, the newest last"`
	NotBack   string     `json:"not_brought_back" doc:"what could not be brought back to how it was before"`
}

// NewLoan is what is borrowed.
type NewLoan struct {
	Peer      string `json:"peer" maxLength:"40"`
	Device    string `json:"device" maxLength:"60" doc:"its handle over there"`
	May       string `json:"may,omitempty" enum:",look,use" doc:"empty for use"`
	For       int64  `json:"for_seconds" minimum:"60" maximum:"2592000"`
	Exclusive bool   `json:"exclusive,omitempty" doc:"the device's USB itself, for this computer's own kernel and tools"`
}

// Hands is a request to whoever is near a device that is lent: a step that somebody's hands must do.
type Hands struct {
	ID       string     `json:"id"`
	Device   string     `json:"device" doc:"handle of the device here"`
	Peer     string     `json:"peer" doc:"the other bench"`
	Lent     bool       `json:"lent" doc:"it is asked of somebody here; else of somebody over there"`
	Title    string     `json:"title"`
	Text     string     `json:"text"`
	State    string     `json:"state" enum:"asked,seen,done,cannot,withdrawn" doc:"done is what a person says; what the device tells counts"`
	By       string     `json:"by" doc:"who has answered"`
	Note     string     `json:"note" doc:"what that person adds"`
	Asked    time.Time  `json:"asked"`
	Answered *time.Time `json:"answered,omitempty"`
}

// NewHands is what somebody near a borrowed device is to do.
type NewHands struct {
	Title string `json:"title,omitempty" maxLength:"200" doc:"empty for the step that the device needs next"`
	Text  string `json:"text,omitempty" maxLength:"2000"`
}

// HandsAnswer is what somebody near says.
type HandsAnswer struct {
	Done bool   `json:"done" doc:"else it cannot be done"`
	Note string `json:"note,omitempty" maxLength:"300"`
}

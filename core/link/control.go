package link

import "time"

// Description is a device's answer to describe.
type Description struct {
	Family  string `json:"family"`
	Maker   string `json:"maker"`
	Model   string `json:"model"`
	Code    string `json:"code"`
	Serial  string `json:"serial"`
	Release string `json:"release"`
	Name    string `json:"name"`
}

// Offer is a bench's offer of an app, by its manifest as it stands in the app file,
// and the developer's signature over it, if there is one: by a bare key, or by an identity.
type Offer struct {
	Manifest  []byte `json:"manifest"`
	Signature string `json:"signature,omitempty"`
	CMS       []byte `json:"cms,omitempty"`
}

// AppRef names an app on a device, and for app.switch the offer.
type AppRef struct {
	ID     string `json:"id,omitempty"`
	Digest string `json:"digest,omitempty"`
}

// StatementRef is a grant, a debug token or a status list as it was signed, or the id of one.
type StatementRef struct {
	Text string `json:"text,omitempty"`
	ID   string `json:"id,omitempty"`
}

// Wireless switches being reached without a cable on or off.
type Wireless struct {
	On bool `json:"on"`
}

// Find asks a device to show its handle.
type Find struct {
	Handle string `json:"handle"`
}

// AppEnded says that an app has ended, after its last line in the log.
type AppEnded struct {
	Seq    uint64    `json:"seq"`
	At     time.Time `json:"at"`
	App    string    `json:"app"`
	Code   int       `json:"code"`
	Reason string    `json:"reason"` // exited, crashed or stopped
}

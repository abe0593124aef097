package link

import (
	"encoding/json"
	"time"
)

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

// Fact is one fact that a device tells of itself.
type Fact struct {
	Key   string          `json:"key"`
	Value json.RawMessage `json:"value"`
}

// FactClock is the fact by which a device tells what time it has (RFC 3339), at
// the moment of telling.
const FactClock = "clock"

// App is an installed app.
type App struct {
	ID      string `json:"id"`
	Version string `json:"version"`
	Digest  string `json:"digest"` // of its manifest
	Name    string `json:"name"`
	Running bool   `json:"running"`
}

// Offer is a bench's offer of an app, by its manifest as it stands in the app
// file.
type Offer struct {
	Manifest []byte `json:"manifest"`
}

// Lacks is the device's answer: the files that it needs to be sent, into Dir,
// under their digests. What it has of a file already is told by Have.
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

// AppRef names an app on a device, and for app.switch the offer.
type AppRef struct {
	ID     string `json:"id,omitempty"`
	Digest string `json:"digest,omitempty"`
}

// Line is one line of a device's log.
type Line struct {
	Seq   uint64    `json:"seq"`
	At    time.Time `json:"at"`
	App   string    `json:"app,omitempty"` // "" for the device's own
	Level string    `json:"level"`         // "info" or "error"
	Text  string    `json:"text"`
}

// Find asks a device to show its handle.
type Find struct {
	Handle string `json:"handle"`
}

// LogFrom asks for the lines after a seq, of an app or of all.
type LogFrom struct {
	App   string `json:"app,omitempty"`
	After uint64 `json:"after"`
}

// Started is the answer to app.start: the log of this start comes behind the
// line After.
type Started struct {
	After uint64 `json:"after"`
}

package client

import "time"

// Access is a key for a program.
type Access struct {
	Name    string     `json:"name"`
	Rights  []string   `json:"rights" nullable:"false"`
	Created time.Time  `json:"created"`
	Ends    time.Time  `json:"ends"`
	Used    *time.Time `json:"used" doc:"the last time"`
	Over    bool       `json:"over" doc:"it has ended"`
	Devices []string   `json:"devices" nullable:"false" doc:"the only devices that it is for; empty for a key that is for all"`
	Page    string     `json:"page" doc:"where the browser of a person who has no bench is served; empty for a program's key"`
	Entered bool       `json:"entered" doc:"a browser has the page"`
	Trouble string     `json:"trouble" doc:"why the page is not served just now; empty if it is"`
}

// PersonPageAsk asks for a page for a person who has no bench.
type PersonPageAsk struct {
	Person  string   `json:"person" maxLength:"60"`
	Devices []string `json:"devices" maxItems:"100"`
	May     string   `json:"may" enum:"look,use"`
	For     int64    `json:"for_seconds" doc:"after how long it ends" minimum:"60" maximum:"2592000"`
	Address string   `json:"address" maxLength:"100" doc:"an address of this computer, with or without a port"`
}

// PersonPage is a page for a person who has no bench, and the access key that it is seen by.
type PersonPage struct {
	Access
	URL         string `json:"url" doc:"works once; told only when it is opened"`
	Fingerprint string `json:"fingerprint" doc:"of its certificate, SHA-256"`
}

// Session is a browser that is signed in.
type Session struct {
	ID      string    `json:"id"`
	Agent   string    `json:"agent" doc:"what the browser calls itself"`
	Created time.Time `json:"created"`
	Ends    time.Time `json:"ends"`
	Used    time.Time `json:"used" doc:"the last time, to a minute"`
	This    bool      `json:"this" doc:"it is the one that asks"`
	// Confirmed is until when the owner lets it do what only the owner may.
	Confirmed *time.Time `json:"confirmed" doc:"until when the owner lets it do what only the owner may; null: not now"`
}

// Confirmation is a browser's request to do what only the owner may, for a while. The owner
// confirms it with the code that the browser shows.
type Confirmation struct {
	Code    string `json:"code" doc:"what the owner types: earlybench console --confirm CODE"`
	Seconds int    `json:"seconds" doc:"for how long it can be confirmed"`
}

// SheetDraft is the commented start of a prep sheet.
type SheetDraft struct {
	Text string `json:"text"`
}

// NewAccess is a key that is to be made.
type NewAccess struct {
	Name   string   `json:"name" maxLength:"60"`
	Rights []string `json:"rights" maxItems:"5" doc:"look, use, maintain; never consent or own"`
	For    string   `json:"for" doc:"after how long it ends, such as 720h; a year at most" maxLength:"20"`
}

// SignedOut is how many browsers were signed out.
type SignedOut struct {
	Browsers int64 `json:"browsers"`
}

// MadeAccess is a key with its secret, which is told once.
type MadeAccess struct {
	Access
	Secret string `json:"secret"`
}

// AuditLine is who did what.
type AuditLine struct {
	ID        int64     `json:"id"`
	At        time.Time `json:"at"`
	Actor     string    `json:"actor" doc:"kind and name: owner/ada, browser/ada, access/nightly"`
	Operation string    `json:"operation"`
	Subject   string    `json:"subject" doc:"the address, without /api/v1"`
	Outcome   int       `json:"outcome" doc:"HTTP status; 0: the service ended before it was known"`
}

package client

import "time"

// Safe is the bench's safe as it is now, without its secrets.
type Safe struct {
	State        string        `json:"state" enum:"missing,locked,open"`
	ByPassphrase bool          `json:"by_passphrase" doc:"it opens with a passphrase; otherwise with an unlock key"`
	Idle         int64         `json:"idle_seconds" doc:"it locks by itself after so long without use"`
	Locks        time.Time     `json:"locks,omitzero" doc:"when it does, if nobody uses it; absent while it is locked, or if it stays open until somebody locks it"`
	Public       []byte        `json:"public" doc:"key to which passphrases are sealed (docs/formats/safe.md), which changes when the safe is locked"`
	Contents     []SafeItem    `json:"contents" nullable:"false"`
	Requests     []SafeRequest `json:"requests" nullable:"false" doc:"what waits for a person's consent"`
	Rules        []SafeRule    `json:"rules" nullable:"false" doc:"what is allowed for a time without asking"`
}

// SafeItem is one thing in the safe.
type SafeItem struct {
	ID         string    `json:"id"`
	Kind       string    `json:"kind" enum:"key,secret"`
	Name       string    `json:"name"`
	Made       time.Time `json:"made"`
	Thumbprint string    `json:"thumbprint" doc:"of a key; of one on P-256 as RFC 7638 has it, otherwise the SHA-256 of its SubjectPublicKeyInfo in base64url"`
	For        string    `json:"for" enum:",development" doc:"development: the bench signs the apps that it packs by it"`
}

// SafeRequest is a use of the safe about which a person is asked.
type SafeRequest struct {
	ID       string    `json:"id"`
	Item     string    `json:"item" doc:"id of what is to be used"`
	Name     string    `json:"name" doc:"its name"`
	Actor    string    `json:"actor" doc:"who asks"`
	App      string    `json:"app"`
	Purpose  string    `json:"purpose"`
	Document string    `json:"document" doc:"on what it is used"`
	Digest   string    `json:"digest" doc:"SHA-256 of the document; empty if it is not made yet"`
	Since    time.Time `json:"since"`
	Ends     time.Time `json:"ends"`
	Count    int       `json:"count" doc:"how many wait for the answer"`
}

// SafeRule says for how long somebody may use an item without being asked about.
type SafeRule struct {
	Item    string    `json:"item"`
	Name    string    `json:"name"`
	Actor   string    `json:"actor"`
	App     string    `json:"app"`
	Purpose string    `json:"purpose"`
	Ends    time.Time `json:"ends"`
	By      string    `json:"by" doc:"who consented"`
}

// SafeUse is one use of an item.
type SafeUse struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Item     string    `json:"item"`
	Name     string    `json:"name" doc:"empty if it is not in the safe any more"`
	Actor    string    `json:"actor"`
	App      string    `json:"app"`
	Purpose  string    `json:"purpose"`
	Document string    `json:"document"`
	Digest   string    `json:"digest"`
	Consent  string    `json:"consent" doc:"who consented, or by which rule"`
}

// SafeOpening is how the safe is opened: by a passphrase, sealed to the safe's public key, or
// by the file of an unlock key on the bench's computer.
type SafeOpening struct {
	Envelope []byte `json:"envelope,omitempty" doc:"the sealed passphrase (docs/formats/safe.md)"`
	KeyFile  string `json:"key_file,omitempty" maxLength:"4000" doc:"whoever names a file is the owner"`
}

// SafeChange changes how the safe is opened, or after how long it locks by itself.
type SafeChange struct {
	Proof SafeOpening  `json:"proof,omitzero" doc:"how it is opened now, sealed for the purpose change"`
	New   *SafeOpening `json:"new,omitempty"`
	Idle  int64        `json:"idle_seconds,omitempty"`
}

// SafeAnswer answers a request.
type SafeAnswer struct {
	Yes   bool        `json:"yes"`
	For   int64       `json:"for_seconds,omitempty" doc:"allow the same for so long without asking; 0: this once"`
	Proof SafeOpening `json:"proof,omitzero" doc:"from a terminal: how the safe is opened, sealed for the request's id. A signed-in browser needs none"`
}

// SafeExport is all that is in the safe, encrypted to a passphrase.
type SafeExport struct {
	Data []byte `json:"data" doc:"an age file"`
}

// Developer is the public half of the development key.
type Developer struct {
	Thumbprint string `json:"thumbprint"`
	X          string `json:"x"`
	Y          string `json:"y"`
}

// AppSignature is a developer's signature of an app file's manifest.
type AppSignature struct {
	Signature string `json:"signature" doc:"by the development key; empty where an identity has signed"`
	CMS       []byte `json:"cms" doc:"by an identity: a detached CMS (RFC 5652) in DER"`
}

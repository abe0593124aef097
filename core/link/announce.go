package link

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"sync"
)

// A device that is reached without a cable announces itself by DNS-SD, and speaks SSH on a TCP
// port (docs/formats/link.md, "Without a cable").
const (
	// ServiceType is the type of the announcement.
	ServiceType = "_earlybench._tcp"
	// The keys of its text record.
	TextVersion = "v"
	TextFamily  = "family"
	// AnnouncementVersion is the version that is announced.
	AnnouncementVersion = "1"
)

// The name of an announcement is idBytes random bytes and as many of their MAC, in hexadecimal.
const (
	idBytes   = 8
	labelName = "earlybench announcement 1"
)

// AnnouncementName makes the name under which a device with a key announces itself for a while. Who
// knows the key recognises it; to everybody else it says nothing.
func AnnouncementName(fingerprint string) string {
	r := make([]byte, idBytes)
	_, _ = rand.Read(r) // it never fails
	return hex.EncodeToString(append(r, NewRecogniser(fingerprint).mac(r)...))
}

// Recogniser recognises the announcements of the device with one key. Its methods may be called
// from any goroutine.
type Recogniser struct {
	mu sync.Mutex
	h  hash.Hash
}

// NewRecogniser makes a recogniser for the device whose key has a fingerprint.
func NewRecogniser(fingerprint string) *Recogniser {
	return &Recogniser{h: hmac.New(sha256.New, []byte(fingerprint))}
}

func (r *Recogniser) mac(random []byte) []byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.h.Reset()
	r.h.Write([]byte(labelName))
	r.h.Write(random)
	return r.h.Sum(nil)[:idBytes]
}

// Recognises reports whether a name is one under which the device announces itself. It is a hint:
// anybody may repeat a name that he has heard.
func (r *Recogniser) Recognises(name string) bool {
	raw, err := hex.DecodeString(name)
	return err == nil && len(raw) == 2*idBytes && hmac.Equal(r.mac(raw[:idBytes]), raw[idBytes:])
}

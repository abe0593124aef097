// Package introduction holds what a bench and a device compute when they meet for the first
// time without a cable: a commitment, and three words that both show or check. It follows
// docs/formats/introduction.md. It opens no connection and keeps nothing.
//
// The words depend on everything that either side has sent and on both keys. Somebody between
// the two has one session with each, whose keys and ids differ, and must send a commitment to
// his nonce before he learns the other one: he gets one attempt in 2^24 that both sides have
// the same words.
package introduction

import (
	"crypto/sha256"
	"crypto/subtle"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"strings"
	"sync"
)

// Version is the version of the introduction that is described in docs/formats/introduction.md.
const Version = 1

// NonceSize is the length of a nonce, in bytes.
const NonceSize = 32

// Labels keep hashes for one purpose from being taken for those of another.
const (
	labelCommit = "earlybench introduction 1 commitment"
	labelWords  = "earlybench introduction 1 words"
	roleBench   = "bench"
)

// Commitment returns the commitment of a bench to its nonce.
func Commitment(nonce []byte) []byte {
	h := sha256.New()
	write(h, []byte(labelCommit), []byte(roleBench), nonce)
	return h.Sum(nil)
}

// ErrCommitment is the error of a nonce that is not the one that was committed to.
var ErrCommitment = errors.New("the nonce does not match the commitment")

// Reveal checks that a nonce is the one of a commitment.
func Reveal(commitment, nonce []byte) error {
	if len(nonce) != NonceSize || subtle.ConstantTimeCompare(Commitment(nonce), commitment) != 1 {
		return ErrCommitment
	}
	return nil
}

// Description is what a device says of itself in an introduction. All of it is a claim.
type Description struct {
	Name    string `json:"name"` // as its screen shows it
	Family  string `json:"family"`
	Model   string `json:"model"` // code
	Serial  string `json:"serial"`
	Release string `json:"release"`
}

// MostText is how long each text of a description and the name of a bench may be, in bytes.
const MostText = 100

// Check reports what is wrong with the form of a description.
func (d Description) Check() error {
	for _, f := range []struct{ name, value string }{{"name", d.Name}, {"family", d.Family}, {"model", d.Model}, {"serial", d.Serial}, {"release", d.Release}} {
		if len(f.value) > MostText {
			return fmt.Errorf("the %s has %d bytes; at most %d are allowed", f.name, len(f.value), MostText)
		}
	}
	if d.Family == "" || d.Model == "" {
		return errors.New("family and model are missing")
	}
	return nil
}

// Exchange is everything on which the words depend. Both sides have the same one unless
// somebody is between them.
type Exchange struct {
	BenchNonce, DeviceNonce []byte
	SessionID               []byte // of the SSH session (RFC 4253, section 7.2)
	DeviceKey, BenchKey     string // fingerprints, as OpenSSH prints them
	Bench                   string // its name
	Device                  Description
}

// Words computes the three words of an exchange.
func (e Exchange) Words() Words {
	h := sha256.New()
	write(h, []byte(labelWords), e.BenchNonce, e.DeviceNonce, []byte{0, Version}, e.SessionID, []byte(e.DeviceKey), []byte(e.BenchKey), []byte(e.Bench),
		[]byte(e.Device.Name), []byte(e.Device.Family), []byte(e.Device.Model), []byte(e.Device.Serial), []byte(e.Device.Release))
	sum := h.Sum(nil)
	return Words{list()[sum[0]], list()[sum[1]], list()[sum[2]]}
}

// write hashes each field with its length before it, so that no two lists of fields are hashed
// alike.
func write(h hash.Hash, fields ...[]byte) {
	for _, f := range fields {
		var n [4]byte
		binary.BigEndian.PutUint32(n[:], uint32(len(f)))
		h.Write(n[:])
		h.Write(f)
	}
}

// Words are three words of the list.
type Words [3]string

func (w Words) String() string { return strings.Join(w[:], " ") }

// Equal compares words in constant time.
func (w Words) Equal(other Words) bool {
	return subtle.ConstantTimeCompare([]byte(w.String()), []byte(other.String())) == 1
}

// Parse reads three words as a person types them: capital letters, commas, hyphens and more
// than one space do not matter. A word that is not in the list is an error that says so; it is
// a mistake in typing, and tells nothing about the right words.
func Parse(typed string) (Words, error) {
	var w Words
	fields := strings.FieldsFunc(strings.ToLower(typed), func(r rune) bool { return r < 'a' || r > 'z' })
	if len(fields) != len(w) {
		return w, fmt.Errorf("three words are needed, not %d", len(fields))
	}
	for i, f := range fields {
		if !known(f) {
			if near := nearest(f); near != "" {
				return w, fmt.Errorf("%.20q is not one of the words; did you mean %q?", f, near)
			}
			return w, fmt.Errorf("%.20q is not one of the words; read it again from the screen", f)
		}
		w[i] = f
	}
	return w, nil
}

//go:embed words.txt
var wordsFile string

// list is the 256 words, in order. The first four letters of each are its own.
var list = sync.OnceValue(func() []string { return strings.Fields(wordsFile) })

func known(word string) bool {
	for _, w := range list() {
		if w == word {
			return true
		}
	}
	return false
}

// nearest is the word that begins with the same four letters; "" for none.
func nearest(typed string) string {
	if len(typed) < 4 {
		return ""
	}
	for _, w := range list() {
		if w[:4] == typed[:4] {
			return w
		}
	}
	return ""
}

package safe

import (
	"crypto/ecdh"
	"crypto/hpke"
	"errors"
	"fmt"
)

// A passphrase or password is typed in one program and used in another, the one that holds the
// opened safe. On its way it is in an envelope, which only the latter can open: HPKE (RFC 9180)
// in base mode with DHKEM(P-256, HKDF-SHA256), HKDF-SHA256 and AES-256-GCM. What an envelope is
// for is part of it, so that nobody can use it for something else.

// envelopeInfo is HPKE's info, before what the envelope is for.
const envelopeInfo = "earlybench-safe-1\n"

// EnvelopeKey opens envelopes. It is made by [NewEnvelopeKey].
type EnvelopeKey struct{ key hpke.PrivateKey }

// NewEnvelopeKey makes a key.
func NewEnvelopeKey() (*EnvelopeKey, error) {
	key, err := hpke.DHKEM(ecdh.P256()).GenerateKey()
	if err != nil {
		return nil, fmt.Errorf("make a key for envelopes: %w", err)
	}
	return &EnvelopeKey{key}, nil
}

// Public is the key to which envelopes are sealed: an uncompressed point.
func (k *EnvelopeKey) Public() []byte { return k.key.PublicKey().Bytes() }

// ErrEnvelope is the error for an envelope that is for another key or purpose, or is broken.
var ErrEnvelope = errors.New("the envelope cannot be opened: it was made for another purpose, or before the safe was locked")

// Open opens an envelope that was sealed for a purpose.
func (k *EnvelopeKey) Open(purpose string, envelope []byte) ([]byte, error) {
	out, err := hpke.Open(k.key, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(envelopeInfo+purpose), envelope)
	if err != nil {
		return nil, ErrEnvelope
	}
	return out, nil
}

// Envelope seals a secret for a purpose to the holder of a key.
func Envelope(public []byte, purpose string, secret []byte) ([]byte, error) {
	key, err := hpke.DHKEM(ecdh.P256()).NewPublicKey(public)
	if err != nil {
		return nil, fmt.Errorf("the safe's key for envelopes is invalid: %w", err)
	}
	return hpke.Seal(key, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(envelopeInfo+purpose), secret)
}

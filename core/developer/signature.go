package developer

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"encoding/asn1"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"
	"strings"
)

// header is the protected header of every signature: {"alg":"ES256"}. There is no other,
// so that nothing in a signature can choose how it is checked.
var header = base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"ES256"}`))

// Signature is how a manifest is signed: by a bare key, or by an identity, which is a key with its
// certificate. The zero value is none.
type Signature struct {
	Bare string `json:"bare,omitempty"` // as [Key.Sign] makes it
	CMS  []byte `json:"cms,omitempty"`  // detached (RFC 5652), in DER
}

// None reports whether it is none.
func (s Signature) None() bool { return s.Bare == "" && len(s.CMS) == 0 }

// SignManifest signs a manifest by the bare key.
func (k *Key) SignManifest(manifest []byte) (Signature, error) {
	text, err := k.Sign(manifest)
	return Signature{Bare: text}, err
}

// MaxSignature is the longest signature, in bytes.
const MaxSignature = 200

// Sign signs a document: a JSON Web Signature in the compact form, with the payload left
// out (RFC 7515, section 7.1 and appendix F; RFC 7518, section 3.4).
func (k *Key) Sign(document []byte) (string, error) {
	raw, err := k.SignBytes(signed(document))
	if err != nil {
		return "", fmt.Errorf("sign with the developer's key: %w", err)
	}
	return header + ".." + encoding.EncodeToString(raw), nil
}

// SignBytes signs the input of a JSON Web Signature by ES256 and returns the signature, 64 bytes
// (RFC 7515, section 5.1; RFC 7518, section 3.4).
func (k *Key) SignBytes(input []byte) ([]byte, error) {
	sum := sha256.Sum256(input)
	der, err := k.private.Sign(rand.Reader, sum[:], crypto.SHA256)
	if err != nil {
		return nil, err
	}
	return PlainSignature(der)
}

// VerifyBytes reports whether the key's holder has signed the input of a JSON Web Signature.
func (p Public) VerifyBytes(input, signature []byte) error {
	key, err := p.key()
	if err != nil {
		return err
	}
	if len(signature) != 2*coordinate {
		return fmt.Errorf("%w: it does not have 64 bytes", ErrSignature)
	}
	sum := sha256.Sum256(input)
	r, s := new(big.Int).SetBytes(signature[:coordinate]), new(big.Int).SetBytes(signature[coordinate:])
	if !ecdsa.Verify(key, sum[:], r, s) {
		return fmt.Errorf("%w: it was made with another key, or for something else", ErrSignature)
	}
	return nil
}

// PlainSignature makes of an ECDSA signature in DER (RFC 3279, section 2.2.3) its two numbers
// side by side, as ES256 wants them.
func PlainSignature(der []byte) ([]byte, error) {
	var v struct{ R, S *big.Int }
	if rest, err := asn1.Unmarshal(der, &v); err != nil || len(rest) > 0 {
		return nil, errors.New("the signature is not one by ECDSA")
	}
	if v.R.Sign() < 0 || v.S.Sign() < 0 || v.R.BitLen() > 8*coordinate || v.S.BitLen() > 8*coordinate {
		return nil, errors.New("the signature is not an ECDSA signature on P-256")
	}
	raw := make([]byte, 2*coordinate)
	v.R.FillBytes(raw[:coordinate])
	v.S.FillBytes(raw[coordinate:])
	return raw, nil
}

// ErrSignature is a signature that does not fit its document and key.
var ErrSignature = errors.New("the developer's signature does not match")

// Verify reports whether the key's holder has signed a document.
func (p Public) Verify(document []byte, signature string) error {
	if err := p.Check(); err != nil {
		return err
	}
	value, ok := strings.CutPrefix(signature, header+"..")
	raw, err := decode(value)
	if !ok || err != nil || len(raw) != 2*coordinate {
		return fmt.Errorf("%w: it is not a detached JSON Web Signature with ES256", ErrSignature)
	}
	if p.VerifyBytes(signed(document), raw) != nil {
		return fmt.Errorf("%w: it was made with another key, or for another manifest", ErrSignature)
	}
	return nil
}

// signed is what is signed (RFC 7515, section 5.1).
func signed(document []byte) []byte {
	input := make([]byte, 0, len(header)+1+base64.RawURLEncoding.EncodedLen(len(document)))
	input = append(append(input, header...), '.')
	return base64.RawURLEncoding.AppendEncode(input, document)
}

// decode reads base64url; Go's decoder would pass over line breaks.
func decode(s string) ([]byte, error) {
	if strings.ContainsAny(s, "\r\n") {
		return nil, errors.New("it contains a line break")
	}
	return encoding.DecodeString(s)
}

// Figures are the four figures by which a device's owner accepts a developer: the bench
// shows them, the owner types them on the device. The challenge is the device's, made
// after it has seen the developer's key, so that nobody can make a key for which the
// figures are others' (docs/formats/link.md, "Acceptance").
func Figures(challenge, deviceKey, thumbprint string) string {
	sum := sha256.Sum256([]byte("earlybench figures 1\n" + challenge + "\n" + deviceKey + "\n" + thumbprint))
	return fmt.Sprintf("%04d", binary.BigEndian.Uint64(sum[:])%10_000)
}

// Package developer is the keys of developers: who made an app. An app file names its
// developer's public key as a JSON Web Key (RFC 7517), the holder of the private key
// signs the app file's manifest, and devices and their owners accept developers by the
// key's thumbprint (RFC 7638). All keys are for ES256: ECDSA on P-256 with SHA-256.
package developer

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
)

// Key is a developer's key, which signs. It is made by [New] or [KeyOf].
type Key struct {
	private crypto.Signer
	public  Public
}

// New makes a key.
func New() (*Key, error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, fmt.Errorf("make a developer's key: %w", err)
	}
	return KeyOf(private)
}

const pemType = "PRIVATE KEY"

// ParsePrivate reads a developer's private key in PEM, as PKCS #8 (RFC 5958).
func ParsePrivate(text []byte) (*ecdsa.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != pemType {
		return nil, errors.New("it is not a private key in PEM (PKCS #8)")
	}
	any, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	private, ok := any.(*ecdsa.PrivateKey)
	if !ok || private.Curve != elliptic.P256() {
		return nil, errors.New("a developer's key must be an ECDSA key on P-256")
	}
	return private, nil
}

// KeyOf makes a developer's key of a private key, wherever that is kept. It is one on P-256.
func KeyOf(private crypto.Signer) (*Key, error) {
	public, err := PublicOf(private.Public())
	return &Key{private, public}, err
}

// PublicOf is a public key on P-256 as a JSON Web Key.
func PublicOf(key crypto.PublicKey) (Public, error) {
	k, ok := key.(*ecdsa.PublicKey)
	if !ok || k.Curve != elliptic.P256() {
		return Public{}, errors.New("a developer's key must be an ECDSA key on P-256")
	}
	point, err := k.Bytes()
	if err != nil {
		return Public{}, err
	}
	x, y := point[1:1+coordinate], point[1+coordinate:]
	return Public{Type: "EC", Curve: "P-256", X: encoding.EncodeToString(x), Y: encoding.EncodeToString(y)}, nil
}

// Public is the key that goes with it.
func (k *Key) Public() Public { return k.public }

// Public is a developer's public key, a JSON Web Key (RFC 7517; RFC 7518, section 6.2)
// with no other members.
type Public struct {
	Type  string `json:"kty"` // EC
	Curve string `json:"crv"` // P-256
	X     string `json:"x"`   // base64url
	Y     string `json:"y"`   // base64url
}

// coordinate is the size of a coordinate and of half a signature, in bytes.
const coordinate = 32

// encoding is base64url without padding (RFC 7515, section 2). Stray bits are refused,
// so that a key or signature has one spelling.
var encoding = base64.RawURLEncoding.Strict()

// Check reports whether it is a key: a point on the curve, in the one spelling.
func (p Public) Check() error {
	_, err := p.key()
	return err
}

func (p Public) key() (*ecdsa.PublicKey, error) {
	if p.Type != "EC" || p.Curve != "P-256" {
		return nil, fmt.Errorf("the developer's key is of type %.20q on %.20q; only EC on P-256 is supported", p.Type, p.Curve)
	}
	point := []byte{4} // uncompressed (SEC 1, section 2.3.3)
	for _, s := range []string{p.X, p.Y} {
		raw, err := decode(s)
		if err != nil || len(raw) != coordinate {
			return nil, errors.New("a coordinate of the developer's key is not 32 bytes in base64url")
		}
		point = append(point, raw...)
	}
	key, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), point)
	if err != nil {
		return nil, fmt.Errorf("the developer's key is not a point on the curve: %w", err)
	}
	return key, nil
}

// Thumbprint is the key's name: the SHA-256 of its required members, in base64url (RFC
// 7638, section 3).
func (p Public) Thumbprint() string {
	sum := sha256.Sum256(fmt.Appendf(nil, `{"crv":%q,"kty":%q,"x":%q,"y":%q}`, p.Curve, p.Type, p.X, p.Y))
	return encoding.EncodeToString(sum[:])
}

// Package safe keeps private keys and other secrets encrypted (docs/formats/safe.md).
//
// A safe is two age files. The larger one, the contents, is encrypted to a key of the safe's
// own; that key is in the other, the lock, encrypted to a passphrase or to an unlock key that
// is kept in a file. So the contents can be written again without the passphrase, and another
// passphrase changes the lock only. Both are opened by any implementation of age.
//
// The package holds what is opened in memory and never writes files. Whoever opens a safe
// should do so in a process that ends when the safe is locked: Go does not clear memory.
package safe

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/strict"
)

// MaxBytes is the largest size of the contents, in bytes.
const MaxBytes = 4 << 20

// Named refusals.
var (
	ErrPassphrase = errors.New("the passphrase does not open it")
	ErrUnlockKey  = errors.New("the unlock key does not open it")
	ErrFormat     = errors.New("it is not a safe of this version")
	ErrNotFound   = errors.New("it is not in the safe")
)

// Kinds of items.
const (
	KeyKind    = "key"    // a private key
	SecretKind = "secret" // a text, such as a service credential of an app
)

// Item is one thing in a safe. Its secret stays inside.
type Item struct {
	ID   string    `json:"id"`
	Kind string    `json:"kind"`
	Name string    `json:"name"` // for people; need not be unique
	Made time.Time `json:"made"`
	// Public is the public half of a key as SubjectPublicKeyInfo in DER (RFC 5280, section
	// 4.1.2.7); empty for a secret.
	Public []byte `json:"public,omitempty"`
}

// record is an item as the contents hold it.
type record struct {
	Item
	Secret []byte `json:"secret"` // PKCS #8 in DER (RFC 5958), or the text
}

// contents is what the larger file holds.
type contents struct {
	Format int      `json:"format"`
	Items  []record `json:"items"`
}

// Box is an opened safe. It is made by [New] or [Open]. It is not for use by several
// goroutines at once.
type Box struct {
	key   *age.X25519Identity
	items []record
}

// New makes an empty safe.
func New() (*Box, error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, fmt.Errorf("make the safe's key: %w", err)
	}
	return &Box{key: key}, nil
}

// Open opens a safe whose lock was opened: text is the content of the lock.
func Open(lock, sealed []byte) (*Box, error) {
	key, err := age.ParseX25519Identity(strings.TrimSpace(string(lock)))
	if err != nil {
		return nil, fmt.Errorf("%w: its lock contains no key", ErrFormat)
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), key)
	if err != nil {
		return nil, fmt.Errorf("open the contents: %w", err)
	}
	raw, err := io.ReadAll(io.LimitReader(r, MaxBytes+1))
	if err != nil || len(raw) > MaxBytes {
		return nil, fmt.Errorf("read the contents: %w", errors.Join(ErrFormat, err))
	}
	b := &Box{key: key}
	b.items, err = parse(raw)
	return b, err
}

func parse(raw []byte) ([]record, error) {
	var c contents
	if err := strict.JSON(raw, &c); err != nil || c.Format != 1 {
		return nil, ErrFormat // the error could quote a secret
	}
	seen := map[string]bool{}
	for _, r := range c.Items {
		if seen[r.ID] || r.ID == "" {
			return nil, fmt.Errorf("%w: an id occurs twice", ErrFormat)
		}
		seen[r.ID] = true
		if r.Kind == KeyKind {
			if _, err := signer(r); err != nil {
				return nil, err
			}
		}
	}
	return c.Items, nil
}

// Seal is the contents, encrypted to the safe's own key.
func (b *Box) Seal() ([]byte, error) {
	raw, err := b.plain()
	if err != nil {
		return nil, err
	}
	return encrypt(raw, b.key.Recipient())
}

func (b *Box) plain() ([]byte, error) {
	raw, err := json.Marshal(contents{1, b.items})
	if err == nil && len(raw) > MaxBytes {
		err = fmt.Errorf("the safe is full: it can hold %d bytes at most", MaxBytes)
	}
	return raw, err
}

func encrypt(raw []byte, to age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err == nil {
		if _, err = w.Write(raw); err == nil {
			err = w.Close()
		}
	}
	if err != nil {
		return nil, fmt.Errorf("encrypt: %w", err)
	}
	return out.Bytes(), nil
}

// Items lists what is in the safe, in the order in which it came.
func (b *Box) Items() []Item {
	out := make([]Item, len(b.items))
	for i, r := range b.items {
		out[i] = r.Item
	}
	return out
}

// MakeKey makes an ECDSA key on P-256.
func (b *Box) MakeKey(name string, now time.Time) (Item, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Item{}, fmt.Errorf("make a key: %w", err)
	}
	return b.PutKey(name, key, now)
}

// PutKey puts a private key into the safe. A key that is in it already is kept once.
func (b *Box) PutKey(name string, key crypto.Signer, now time.Time) (Item, error) {
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return Item{}, fmt.Errorf("the safe does not accept keys of this kind: %w", err)
	}
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return Item{}, fmt.Errorf("the safe does not accept keys of this kind: %w", err)
	}
	for _, r := range b.items {
		if r.Kind == KeyKind && bytes.Equal(r.Public, public) {
			return r.Item, nil
		}
	}
	return b.put(record{Item{Kind: KeyKind, Name: name, Made: now.UTC(), Public: public}, secret}), nil
}

// PutSecret puts a text into the safe.
func (b *Box) PutSecret(name string, text []byte, now time.Time) Item {
	return b.put(record{Item{Kind: SecretKind, Name: name, Made: now.UTC()}, bytes.Clone(text)})
}

func (b *Box) put(r record) Item {
	var id [8]byte
	rand.Read(id[:]) //nolint:errcheck // it never fails
	r.ID = hex.EncodeToString(id[:])
	b.items = append(b.items, r)
	return r.Item
}

// Drop removes an item.
func (b *Box) Drop(id string) error {
	i := b.find(id)
	if i < 0 {
		return fmt.Errorf("%.40s: %w", id, ErrNotFound)
	}
	b.items = slices.Delete(b.items, i, i+1)
	return nil
}

// Signer is a key of the safe.
func (b *Box) Signer(id string) (crypto.Signer, error) {
	i := b.find(id)
	if i < 0 || b.items[i].Kind != KeyKind {
		return nil, fmt.Errorf("key %.40s: %w", id, ErrNotFound)
	}
	return signer(b.items[i])
}

// Secret is a text of the safe.
func (b *Box) Secret(id string) ([]byte, error) {
	i := b.find(id)
	if i < 0 || b.items[i].Kind != SecretKind {
		return nil, fmt.Errorf("secret %.40s: %w", id, ErrNotFound)
	}
	return b.items[i].Secret, nil
}

func (b *Box) find(id string) int {
	return slices.IndexFunc(b.items, func(r record) bool { return r.ID == id })
}

func signer(r record) (crypto.Signer, error) {
	key, err := x509.ParsePKCS8PrivateKey(r.Secret)
	s, ok := key.(crypto.Signer)
	if err != nil || !ok {
		return nil, fmt.Errorf("%w: key %.40q is invalid", ErrFormat, r.ID)
	}
	return s, nil
}

// Thumbprint names a key: an ECDSA key on P-256 as a JSON Web Key (RFC 7638), as developers are
// named everywhere; another one by the SHA-256 of its SubjectPublicKeyInfo, in base64url. It is
// empty for a secret.
func (i Item) Thumbprint() string {
	if len(i.Public) == 0 {
		return ""
	}
	if key, err := x509.ParsePKIXPublicKey(i.Public); err == nil {
		if public, err := developer.PublicOf(key); err == nil {
			return public.Thumbprint()
		}
	}
	sum := sha256.Sum256(i.Public)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"time"

	"github.com/go-jose/go-jose/v4"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/strict"
)

// proofType is the type of a proof (RFC 9449, section 4.2).
const proofType = "dpop+jwt"

// claims are those of a proof, and of an assertion for KeyGrant.
type claims struct {
	ID       string `json:"jti"`
	Method   string `json:"htm,omitempty"`
	URL      string `json:"htu,omitempty"`
	Token    string `json:"ath,omitempty"` // hash of the access token
	Issued   int64  `json:"iat"`
	Issuer   string `json:"iss,omitempty"`
	Subject  string `json:"sub,omitempty"`
	Audience string `json:"aud,omitempty"`
	Ends     int64  `json:"exp,omitempty"`
}

// signer makes an ES256 signature with a key that may be kept elsewhere.
type signer struct {
	key    crypto.Signer
	public jose.JSONWebKey
}

func (s signer) Public() *jose.JSONWebKey        { return &s.public }
func (s signer) Algs() []jose.SignatureAlgorithm { return []jose.SignatureAlgorithm{jose.ES256} }
func (s signer) SignPayload(payload []byte, _ jose.SignatureAlgorithm) ([]byte, error) {
	sum := sha256.Sum256(payload)
	der, err := s.key.Sign(rand.Reader, sum[:], crypto.SHA256)
	if err != nil {
		return nil, err
	}
	return developer.PlainSignature(der)
}

func sign(key crypto.Signer, kind string, withKey bool, c claims) (string, error) {
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: signer{key, jose.JSONWebKey{Key: key.Public()}}},
		&jose.SignerOptions{EmbedJWK: withKey, ExtraHeaders: map[jose.HeaderKey]any{jose.HeaderType: kind}})
	if err != nil {
		return "", fmt.Errorf("sign a request: %w", err)
	}
	c.ID = rand.Text()
	raw, err := json.Marshal(c)
	if err != nil {
		return "", err
	}
	signed, err := s.Sign(raw)
	if err != nil {
		return "", fmt.Errorf("sign a request: %w", err)
	}
	return signed.CompactSerialize()
}

// Proof proves to an authority that a request is made by the holder of a key (RFC 9449, section
// 4.2). token is the access token that goes with the request; "" for none.
func Proof(key crypto.Signer, method string, to *url.URL, token string, now time.Time) (string, error) {
	c := claims{Method: method, URL: target(to), Issued: now.Unix()}
	if token != "" {
		c.Token = hashOf(token)
	}
	return sign(key, proofType, true, c)
}

// target is a URL without query and fragment.
func target(u *url.URL) string { return u.Scheme + "://" + u.Host + u.EscapedPath() }

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// Assertion asks for an access token by the key with which somebody has signed in (RFC 7523,
// section 3). audience is the token endpoint.
func Assertion(key crypto.Signer, account, audience string, now time.Time) (string, error) {
	public, err := developer.PublicOf(key.Public())
	if err != nil {
		return "", err
	}
	return sign(key, "JWT", false, claims{Issuer: public.Thumbprint(), Subject: account, Audience: audience, Issued: now.Unix(), Ends: now.Add(assertionGood).Unix()})
}

const (
	assertionGood = time.Minute
	proofSkew     = 5 * time.Minute // that clocks may differ
)

// ErrClock is the error for a proof that was made at another time, as its clock has it.
var ErrClock = errors.New("the clocks differ by more than five minutes")

// Proved is a proof that was checked.
type Proved struct {
	ID         string // seen once
	Thumbprint string // of the key (RFC 7638)
}

// CheckProof checks the proof of a request.
func CheckProof(proof, method, to, token string, now time.Time) (Proved, error) {
	j, key, err := parse(proof, proofType)
	if err != nil {
		return Proved{}, err
	}
	if key == nil {
		return Proved{}, errors.New("the proof does not name a key")
	}
	raw, err := j.Verify(key)
	if err != nil {
		return Proved{}, errors.New("the proof was not made by its key")
	}
	var c claims
	if err := strict.NewerJSON(raw, &c); err != nil {
		return Proved{}, errors.New("the proof is not JSON")
	}
	want := ""
	if token != "" {
		want = hashOf(token)
	}
	switch {
	case c.Method != method || c.URL != to || c.Token != want || c.ID == "" || len(c.ID) > 100:
		return Proved{}, errors.New("the proof is for another request")
	case now.Sub(time.Unix(c.Issued, 0)).Abs() > proofSkew:
		return Proved{}, ErrClock
	}
	public, err := developer.PublicOf(key)
	if err != nil {
		return Proved{}, err
	}
	return Proved{c.ID, public.Thumbprint()}, nil
}

// parse reads a signed token of a kind, and the key that it names.
func parse(text, kind string) (*jose.JSONWebSignature, *ecdsa.PublicKey, error) {
	j, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil || len(j.Signatures) != 1 {
		return nil, nil, errors.New("it is not a JSON Web Signature with ES256")
	}
	h := j.Signatures[0].Protected
	if got, _ := h.ExtraHeaders[jose.HeaderType].(string); got != kind {
		return nil, nil, fmt.Errorf("its type is %.20q, not %s", got, kind)
	}
	if h.JSONWebKey == nil {
		return j, nil, nil
	}
	key, ok := h.JSONWebKey.Key.(*ecdsa.PublicKey)
	if !ok || key.Curve != elliptic.P256() {
		return nil, nil, errors.New("the key is not a P-256 key")
	}
	return j, key, nil
}

// CheckAssertion checks an assertion by a key that the authority knows, and returns the account.
func CheckAssertion(assertion, audience string, key func(thumbprint string) *ecdsa.PublicKey, now time.Time) (account, thumbprint string, err error) {
	j, _, err := parse(assertion, "JWT")
	if err != nil {
		return "", "", err
	}
	var c claims
	if err := strict.NewerJSON(j.UnsafePayloadWithoutVerification(), &c); err != nil {
		return "", "", errors.New("the assertion is not JSON")
	}
	public := key(c.Issuer)
	if public == nil {
		return "", "", errors.New("nobody is signed in with this key")
	}
	if _, err := j.Verify(public); err != nil {
		return "", "", errors.New("the assertion was not made by its key")
	}
	switch {
	case c.Audience != audience:
		return "", "", errors.New("the assertion is for another authority")
	case now.Sub(time.Unix(c.Issued, 0)).Abs() > proofSkew || now.After(time.Unix(c.Ends, 0).Add(proofSkew)):
		return "", "", ErrClock
	}
	return c.Subject, c.Issuer, nil
}

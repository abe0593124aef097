package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/authority"
)

const (
	codeGood   = 10 * time.Minute
	tokenGood  = 10 * time.Minute
	signInGood = 90 * 24 * time.Hour
	pollEvery  = 1 // seconds
	codesMost  = 1000
	proofsMost = 100_000
)

// sessions are sign-ins under way and tokens that are good. The authority's mu guards them.
type sessions struct {
	codes      map[string]*code     // by device code
	tokens     map[string]token     // by access token
	proofs     map[string]struct{}  // ids of proofs that were used
	enrolments map[string]enrolment // by password
}

func newSessions() sessions {
	return sessions{map[string]*code{}, map[string]token{}, map[string]struct{}{}, map[string]enrolment{}}
}

// code is one request to sign in.
type code struct {
	user    string // what a person types
	key     string // thumbprint of the bench's key
	public  signedInBy
	ends    time.Time
	account string // who has consented; "" for nobody yet
	refused bool
}

type token struct {
	account string
	key     string // thumbprint
	ends    time.Time
}

// letters are those of user codes: consonants that are not taken for one another (RFC 8628,
// section 6.1).
const letters = "BCDFGHJKLMNPQRSTVWXZ"

func userCode() string {
	var out strings.Builder
	for i := range 8 {
		if i == 4 {
			out.WriteByte('-')
		}
		n, _ := rand.Int(rand.Reader, big.NewInt(int64(len(letters)))) // it does not fail
		out.WriteByte(letters[n.Int64()])
	}
	return out.String()
}

func answerJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v) //nolint:errcheck // the caller has gone
}

func refuseOAuth(w http.ResponseWriter, code, text string) {
	answerJSON(w, http.StatusBadRequest, authority.OAuthError{Code: code, Description: text})
}

func (a *Authority) metadata(w http.ResponseWriter, r *http.Request) {
	base := a.base(r)
	answerJSON(w, http.StatusOK, authority.Metadata{Issuer: strings.TrimSuffix(base, "/"), DeviceCodes: base + "oauth/device", Tokens: base + "oauth/token", Revocation: base + "oauth/revoke",
		ProofAlgs: []string{"ES256"}, GrantsOffered: []string{authority.DeviceGrant, authority.KeyGrant}})
}

// base is the authority's address as the caller has reached it.
func (a *Authority) base(r *http.Request) string { return "https://" + r.Host + "/" }

// proved checks the proof of a request; mu is held.
func (a *Authority) proved(r *http.Request, token string) (authority.Proved, error) {
	p, err := authority.CheckProof(r.Header.Get("DPoP"), r.Method, strings.TrimSuffix(a.base(r), "/")+r.URL.EscapedPath(), token, a.now())
	if err != nil {
		return p, err
	}
	if _, used := a.proofs[p.ID]; used {
		return p, errors.New("the proof was used already")
	}
	if len(a.proofs) >= proofsMost {
		clear(a.proofs)
	}
	a.proofs[p.ID] = struct{}{}
	return p, nil
}

// deviceCode begins a sign-in (RFC 8628, section 3.1). The proof names the key that is bound to it.
func (a *Authority) deviceCode(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("client_id") != authority.ClientID {
		refuseOAuth(w, "invalid_client", "the client is not known")
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	p, err := a.proved(r, "")
	if err != nil {
		refuseProof(w, err)
		return
	}
	now := a.now()
	for d, c := range a.codes {
		if now.After(c.ends) {
			delete(a.codes, d)
		}
	}
	if len(a.codes) >= codesMost {
		refuseOAuth(w, "slow_down", "too many sign-ins are under way")
		return
	}
	c := &code{user: userCode(), key: p.Thumbprint, ends: now.Add(codeGood), public: publicOf(r)}
	device := rand.Text() + rand.Text()
	a.codes[device] = c
	page := a.base(r) + "code"
	answerJSON(w, http.StatusOK, authority.DeviceCode{DeviceCode: device, UserCode: c.user, Page: page, WholePage: page + "?code=" + c.user, ExpiresIn: int(codeGood.Seconds()), Interval: pollEvery})
}

// publicOf is the key of a proof that was checked.
func publicOf(r *http.Request) signedInBy {
	head, _, _ := strings.Cut(r.Header.Get("DPoP"), ".")
	raw, _ := base64.RawURLEncoding.DecodeString(head) // it was read before
	var h struct {
		JWK struct{ X, Y string } `json:"jwk"`
	}
	json.Unmarshal(raw, &h) //nolint:errcheck // as above
	return signedInBy{X: h.JWK.X, Y: h.JWK.Y}
}

func refuseProof(w http.ResponseWriter, err error) {
	code := "invalid_dpop_proof"
	if errors.Is(err, authority.ErrClock) {
		code = "clock_differs"
	}
	answerJSON(w, http.StatusBadRequest, authority.OAuthError{Code: code, Description: err.Error()})
}

// tokens gives access tokens.
func (a *Authority) tokenFor(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	p, err := a.proved(r, "")
	if err != nil {
		refuseProof(w, err)
		return
	}
	switch r.FormValue("grant_type") {
	case authority.DeviceGrant:
		a.byCode(w, r, p)
	case authority.KeyGrant:
		account, key, err := authority.CheckAssertion(r.FormValue("assertion"), a.base(r)+"oauth/token", a.keyOf, a.now())
		if errors.Is(err, authority.ErrClock) {
			refuseProof(w, err)
			return
		}
		if err != nil || key != p.Thumbprint || a.Accounts[account] == nil {
			refuseOAuth(w, "invalid_grant", "nobody is signed in with this key")
			return
		}
		known := a.Accounts[account].Keys[key] // it ends a while after it was used last
		known.Ends = a.now().Add(signInGood)
		a.Accounts[account].Keys[key] = known
		if err := a.save(); err != nil {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		a.give(w, account, key)
	default:
		refuseOAuth(w, "unsupported_grant_type", "")
	}
}

// keyOf finds the key with which somebody has signed in; mu is held.
func (a *Authority) keyOf(thumbprint string) *ecdsa.PublicKey {
	for _, acc := range a.Accounts {
		if k, ok := acc.Keys[thumbprint]; ok && a.now().Before(k.Ends) {
			x, err1 := base64.RawURLEncoding.DecodeString(k.X)
			y, err2 := base64.RawURLEncoding.DecodeString(k.Y)
			if err1 != nil || err2 != nil {
				return nil
			}
			key, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), append(append([]byte{4}, x...), y...))
			if err != nil {
				return nil
			}
			return key
		}
	}
	return nil
}

// byCode answers a bench that waits for a person (RFC 8628, section 3.5).
func (a *Authority) byCode(w http.ResponseWriter, r *http.Request, p authority.Proved) {
	device := r.FormValue("device_code")
	c := a.codes[device]
	switch {
	case c == nil || c.key != p.Thumbprint:
		refuseOAuth(w, "invalid_grant", "there is no such sign-in")
	case a.now().After(c.ends):
		delete(a.codes, device)
		refuseOAuth(w, "expired_token", "the code has ended")
	case c.refused:
		delete(a.codes, device)
		refuseOAuth(w, "access_denied", "it was refused")
	case c.account == "":
		refuseOAuth(w, "authorization_pending", "")
	default:
		delete(a.codes, device)
		c.public.Ends = a.now().Add(signInGood)
		a.Accounts[c.account].Keys[c.key] = c.public
		if err := a.save(); err != nil {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		a.give(w, c.account, c.key)
	}
}

// give answers with a new access token.
func (a *Authority) give(w http.ResponseWriter, account, key string) {
	now := a.now()
	for t, k := range a.tokens {
		if now.After(k.ends) {
			delete(a.tokens, t)
		}
	}
	t := rand.Text()
	a.tokens[t] = token{account, key, now.Add(tokenGood)}
	answerJSON(w, http.StatusOK, authority.Token{AccessToken: t, Type: "DPoP", ExpiresIn: int(tokenGood.Seconds())})
}

// revoke signs a bench out (RFC 7009): its key and tokens end.
func (a *Authority) revoke(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	p, err := a.proved(r, "")
	if err != nil {
		refuseProof(w, err)
		return
	}
	a.signOut(p.Thumbprint)
	if err := a.save(); err != nil {
		w.WriteHeader(http.StatusInternalServerError)
	}
}

// signOut ends all that a key can do; mu is held.
func (a *Authority) signOut(key string) {
	for _, acc := range a.Accounts {
		delete(acc.Keys, key)
	}
	for t, k := range a.tokens {
		if k.key == key {
			delete(a.tokens, t)
		}
	}
}

// SignOutEverywhere signs an account out at every bench.
func (a *Authority) SignOutEverywhere(id string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	acc := a.Accounts[id]
	if acc == nil {
		return fmt.Errorf("there is no account %.60q", id)
	}
	for key := range acc.Keys {
		a.signOut(key)
	}
	return a.save()
}

// caller is the account by whose token a request is made; mu is held.
func (a *Authority) caller(r *http.Request) (string, error) {
	kind, t, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	known, ok := a.tokens[t]
	if kind != "DPoP" || !ok || a.now().After(known.ends) {
		return "", errors.New("the access token is no longer valid")
	}
	p, err := a.proved(r, t)
	if err != nil {
		return "", err
	}
	if p.Thumbprint != known.key {
		return "", errors.New("the access token belongs to another key")
	}
	return known.account, nil
}

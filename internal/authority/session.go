package authority

import (
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

// ErrSignedOut is the error for an account whose sign-in has ended at the authority.
var ErrSignedOut = problem.New(problem.Person, "the account is signed out at the authority")

// A Refusal is what an authority refuses, with its reason.
type Refusal struct {
	Status int
	authority.Problem
}

func (r *Refusal) Error() string {
	if r.Detail != "" {
		return r.Detail
	}
	return r.Title
}

// AsRefusal finds the refusal in an error.
func AsRefusal(err error) (*Refusal, bool) { return errors.AsType[*Refusal](err) }

// form is the type of the bodies of OAuth requests.
const form = "application/x-www-form-urlencoded"

// endpoints asks where an authority's endpoints are. They are at the authority itself.
func (a *Authorities) endpoints(ctx context.Context, o *one) (*authority.Metadata, error) {
	a.mu.Lock()
	known := o.metadata
	a.mu.Unlock()
	if known != nil {
		return known, nil
	}
	answer, err := o.client.Do(ctx, outside.Request{Method: http.MethodGet, Path: authority.MetadataPath, Limit: authority.MaxAnswer, Within: askWithin})
	if err != nil {
		return nil, err
	}
	var m authority.Metadata
	if answer.Status != http.StatusOK || authority.Read(answer.Body, &m) != nil {
		return nil, errNonsense
	}
	for _, e := range []string{m.DeviceCodes, m.Tokens, m.Revocation} {
		if u, err := url.Parse(e); err != nil || u.Scheme != "https" || u.Host != o.client.Host() {
			return nil, problem.Errorf(problem.Refused, "the authority names an endpoint at another address: %.100q", e)
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	o.metadata = &m
	return &m, nil
}

// oauth makes a request to an OAuth endpoint, with a proof by a key. Refusals are
// [authority.OAuthError] in the second result.
func (a *Authorities) oauth(ctx context.Context, o *one, key crypto.Signer, endpoint string, values url.Values, into any) (*authority.OAuthError, error) {
	answer, err := o.client.Do(ctx, outside.Request{Method: http.MethodPost, Path: endpoint, Type: form, Body: []byte(values.Encode()), Limit: authority.MaxAnswer, Within: askWithin,
		Prepare: func(r *http.Request) error { return a.prove(r, key, "") }})
	if err != nil {
		return nil, err
	}
	if answer.Status == http.StatusOK {
		if into != nil && authority.Read(answer.Body, into) != nil {
			return nil, errNonsense
		}
		return nil, nil
	}
	var refused authority.OAuthError
	if json.Unmarshal(answer.Body, &refused) != nil || refused.Code == "" {
		return nil, errNonsense
	}
	if refused.Code == "clock_differs" {
		return nil, a.clockProblem(o, answer)
	}
	return &refused, nil
}

func (a *Authorities) prove(r *http.Request, key crypto.Signer, token string) error {
	p, err := authority.Proof(key, r.Method, r.URL, token, a.cfg.Clock.Now())
	if err != nil {
		return err
	}
	r.Header.Set("DPoP", p)
	if token != "" {
		r.Header.Set("Authorization", "DPoP "+token)
	}
	return nil
}

// clockProblem says by how much the clocks differ.
func (a *Authorities) clockProblem(o *one, answer *outside.Answer) error {
	p := &problem.Problem{Kind: problem.Failed, Text: "The clocks of this computer and of the authority differ by more than five minutes, so it refuses requests.",
		Remedy: "Set the clock of this computer; the bench then continues by itself."}
	if at, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
		off := a.cfg.Clock.Now().Sub(at).Round(time.Minute)
		way := "ahead of"
		if off < 0 {
			off, way = -off, "behind"
		}
		p.Text = fmt.Sprintf("The clock of this computer is %s %s that of %s, which therefore refuses requests.", off, way, o.record.Name)
	}
	return p
}

// SignIn is a sign-in that waits for a person.
type SignIn struct {
	Authority string               `json:"authority"`
	Key       string               `json:"key"` // id of its key in the safe
	Code      authority.DeviceCode `json:"code"`
	Ends      time.Time            `json:"ends"`
}

// Begin begins a sign-in: the answer names the page to open and the code to type there.
func (a *Authorities) Begin(ctx context.Context, name string) (SignIn, error) {
	o, err := a.find(name)
	if err != nil {
		return SignIn{}, err
	}
	m, err := a.endpoints(ctx, o)
	if err != nil {
		return SignIn{}, err
	}
	item, err := a.cfg.Safe.MakeKey(ctx, "account at "+o.record.Name)
	if err != nil {
		return SignIn{}, err
	}
	s := SignIn{Authority: name, Key: item.ID}
	key, err := a.cfg.Safe.Signer(ctx, item.ID)
	if err == nil {
		var refused *authority.OAuthError
		if refused, err = a.oauth(ctx, o, key, m.DeviceCodes, url.Values{"client_id": {authority.ClientID}}, &s.Code); refused != nil {
			err = problem.Errorf(problem.Refused, "%s refuses to begin a sign-in: %s", name, refused.Description)
		}
	}
	if err != nil {
		return SignIn{}, errors.Join(err, a.cfg.Safe.Drop(context.WithoutCancel(ctx), item.ID))
	}
	if s.Code.Interval <= 0 {
		s.Code.Interval = 5 // RFC 8628, section 3.2
	}
	s.Ends = a.cfg.Clock.Now().Add(time.Duration(s.Code.ExpiresIn) * time.Second)
	return s, nil
}

// ErrPending is the error while nobody has typed the code yet.
var ErrPending = errors.New("nobody has typed the code yet")

// Poll asks whether a person has let the bench in, and returns the account then. It is
// [ErrPending] while nobody has.
func (a *Authorities) Poll(ctx context.Context, s SignIn) (store.Account, error) {
	o, err := a.find(s.Authority)
	if err != nil {
		return store.Account{}, err
	}
	m, err := a.endpoints(ctx, o)
	if err != nil {
		return store.Account{}, err
	}
	key, err := a.cfg.Safe.Signer(ctx, s.Key)
	if err != nil {
		return store.Account{}, err
	}
	var t authority.Token
	refused, err := a.oauth(ctx, o, key, m.Tokens, url.Values{"client_id": {authority.ClientID}, "grant_type": {authority.DeviceGrant}, "device_code": {s.Code.DeviceCode}}, &t)
	switch {
	case err != nil:
		return store.Account{}, err
	case refused == nil:
	case refused.Code == "authorization_pending" || refused.Code == "slow_down":
		return store.Account{}, ErrPending
	case refused.Code == "access_denied":
		return store.Account{}, problem.Errorf(problem.Refused, "somebody has refused the sign-in on the page of %s", s.Authority)
	default:
		return store.Account{}, &problem.Problem{Kind: problem.Person, Text: "The code was not typed in time, and is no longer valid.", Remedy: "Sign in again: earlybench account sign-in."}
	}
	acc := store.Account{Authority: s.Authority, Key: s.Key, Since: a.cfg.Clock.Now()}
	a.keep(o, s.Key, t)
	if err := a.ask(ctx, acc, http.MethodGet, authority.AccountPath, nil, &acc.Account); err != nil {
		return store.Account{}, fmt.Errorf("ask who has signed in: %w", err)
	}
	acc.Crew = acc.Crews[0].Name
	return acc, nil
}

func (a *Authorities) keep(o *one, key string, t authority.Token) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	o.tokens[key] = token{t.AccessToken, time.Now().Add(time.Duration(t.ExpiresIn)*time.Second - askWithin)}
	return t.AccessToken
}

// access returns an access token of an account, a new one if need be.
func (a *Authorities) access(ctx context.Context, o *one, acc store.Account, key crypto.Signer) (string, error) {
	a.mu.Lock()
	t := o.tokens[acc.Key]
	a.mu.Unlock()
	if time.Now().Before(t.ends) {
		return t.text, nil
	}
	m, err := a.endpoints(ctx, o)
	if err != nil {
		return "", err
	}
	assertion, err := authority.Assertion(key, acc.ID, m.Tokens, a.cfg.Clock.Now())
	if err != nil {
		return "", err
	}
	var fresh authority.Token
	refused, err := a.oauth(ctx, o, key, m.Tokens, url.Values{"grant_type": {authority.KeyGrant}, "assertion": {assertion}}, &fresh)
	if err != nil {
		return "", err
	}
	if refused != nil {
		return "", ErrSignedOut
	}
	return a.keep(o, acc.Key, fresh), nil
}

func (a *Authorities) forget(o *one, key string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(o.tokens, key)
}

// ask makes a request for an account and reads the answer into into, unless that is nil.
func (a *Authorities) ask(ctx context.Context, acc store.Account, method, path string, body, into any) error {
	o, err := a.find(acc.Authority)
	if err != nil {
		return err
	}
	key, err := a.cfg.Safe.Signer(ctx, acc.Key)
	if err != nil {
		return err
	}
	var raw []byte
	kind := ""
	if body != nil {
		if raw, err = json.Marshal(body); err != nil {
			return err
		}
		kind = "application/json"
	}
	began := time.Now()
	for again := range 2 {
		err = a.askOnce(ctx, o, acc, key, outside.Request{Method: method, Path: path, Type: kind, Body: raw}, into)
		if !errors.Is(err, errToken) || again == 1 {
			break
		}
		a.forget(o, acc.Key) // it has ended meanwhile, or the authority was started anew
	}
	if errors.Is(err, errToken) { // whether somebody has signed the account out is said where tokens are given
		err = problem.New(problem.Unavailable, "it refuses the access token that it has just issued")
	}
	if _, refused := errors.AsType[*Refusal](err); !refused && ctx.Err() == nil && problem.KindOf(err) != problem.Person {
		a.note(ctx, o, err, time.Since(began))
	}
	if err != nil && problem.KindOf(err) != problem.Person {
		return fmt.Errorf("%s: %w", acc.Authority, err)
	}
	return err
}

// errToken is the error for an access token that is not good any more.
var errToken = errors.New("the access token is no longer valid")

func (a *Authorities) askOnce(ctx context.Context, o *one, acc store.Account, key crypto.Signer, r outside.Request, into any) error {
	token, err := a.access(ctx, o, acc, key)
	if err != nil {
		return err
	}
	r.Limit, r.Within = authority.MaxAnswer, askWithin
	r.Prepare = func(req *http.Request) error { return a.prove(req, key, token) }
	answer, err := o.client.Do(ctx, r)
	switch {
	case err != nil:
		return err
	case answer.Status == http.StatusUnauthorized && strings.Contains(answer.Header.Get("WWW-Authenticate"), "clock_differs"):
		return a.clockProblem(o, answer)
	case answer.Status == http.StatusUnauthorized:
		return errToken
	case answer.Status >= 400:
		refused := &Refusal{Status: answer.Status}
		if json.Unmarshal(answer.Body, &refused.Problem) != nil || refused.Title == "" {
			return fmt.Errorf("it answers %d: %w", answer.Status, errNonsense)
		}
		return refused
	case into == nil:
		return nil
	}
	if authority.Read(answer.Body, into) != nil {
		return errNonsense
	}
	return nil
}

// Account asks who an account is now, with its crews.
func (a *Authorities) Account(ctx context.Context, acc store.Account) (authority.Account, error) {
	var out authority.Account
	err := a.ask(ctx, acc, http.MethodGet, authority.AccountPath, nil, &out)
	if err == nil && out.ID != acc.ID {
		err = errNonsense
	}
	return out, err
}

// SignOut ends the sign-in of an account at the authority.
func (a *Authorities) SignOut(ctx context.Context, acc store.Account) error {
	o, err := a.find(acc.Authority)
	if err != nil {
		return err
	}
	m, err := a.endpoints(ctx, o)
	if err != nil {
		return err
	}
	key, err := a.cfg.Safe.Signer(ctx, acc.Key)
	if err != nil {
		return err
	}
	a.mu.Lock()
	t := o.tokens[acc.Key]
	a.mu.Unlock()
	refused, err := a.oauth(ctx, o, key, m.Revocation, url.Values{"token": {t.text}}, nil)
	if refused != nil {
		err = problem.Errorf(problem.Failed, "%s refuses to sign the account out: %s", acc.Authority, refused.Description)
	}
	if err == nil {
		a.forget(o, acc.Key)
	}
	return err
}

func crewPath(acc store.Account, rest ...string) string {
	path := "v1/crews/" + url.PathEscape(acc.Crew)
	for _, r := range rest {
		path += "/" + url.PathEscape(r)
	}
	return path
}

// Devices lists the register of an account's crew.
func (a *Authorities) Devices(ctx context.Context, acc store.Account) ([]authority.Entry, error) {
	var out authority.List[authority.Entry]
	err := a.ask(ctx, acc, http.MethodGet, crewPath(acc, "devices"), nil, &out)
	return out.Items, err
}

// Register puts a device into the register of an account's crew; twice is once.
func (a *Authorities) Register(ctx context.Context, acc store.Account, serial, model string) (authority.Entry, error) {
	var out authority.Entry
	err := a.ask(ctx, acc, http.MethodPut, crewPath(acc, "devices", serial), authority.Place{Model: model}, &out)
	if err == nil && out.Serial != serial {
		err = errNonsense
	}
	return out, err
}

// Leave removes a device from the register; it is not an error if it is not in it.
func (a *Authorities) Leave(ctx context.Context, acc store.Account, serial string) error {
	return a.ask(ctx, acc, http.MethodDelete, crewPath(acc, "devices", serial), nil, nil)
}

// Apps lists the app ids of an account's crew.
func (a *Authorities) Apps(ctx context.Context, acc store.Account) ([]authority.App, error) {
	var out authority.List[authority.App]
	err := a.ask(ctx, acc, http.MethodGet, crewPath(acc, "apps"), nil, &out)
	return out.Items, err
}

// TakeApp takes an app id for an account's crew.
func (a *Authorities) TakeApp(ctx context.Context, acc store.Account, app string) (authority.App, error) {
	var out authority.App
	err := a.ask(ctx, acc, http.MethodPut, crewPath(acc, "apps", app), struct{}{}, &out)
	return out, err
}

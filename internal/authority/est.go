package authority

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"time"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/est"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

// EST is the server of RFC 7030 at Path of a service.
type EST struct {
	Client *outside.Client
	Path   string // with a slash at its end
}

// Enrolled is what an enrolment has given.
type Enrolled struct {
	Certificate *x509.Certificate
	Roots       []*x509.Certificate // of the authority
}

// Enroll enrols a certificate for a key, with a name and password that are good once (RFC 7030,
// section 4.2.1).
func (e EST) Enroll(ctx context.Context, name string, key crypto.Signer, user, password string, now time.Time) (Enrolled, error) {
	return e.request(ctx, e.Client, "simpleenroll", name, key, now, func(r *http.Request) error {
		r.SetBasicAuth(user, password)
		return nil
	})
}

// Renew enrols a certificate of the same name by the one that ends (RFC 7030, section 4.2.2).
func (e EST) Renew(ctx context.Context, old *x509.Certificate, key crypto.Signer, now time.Time) (Enrolled, error) {
	c := e.Client.WithCertificate(tls.Certificate{Certificate: [][]byte{old.Raw}, PrivateKey: key, Leaf: old})
	defer c.Close()
	return e.request(ctx, c, "simplereenroll", old.Subject.CommonName, key, now, nil)
}

// request sends a certificate request once: an interrupted one is repeated with a new password.
func (e EST) request(ctx context.Context, c *outside.Client, operation, name string, key crypto.Signer, now time.Time, prepare func(*http.Request) error) (Enrolled, error) {
	roots, err := e.roots(ctx)
	if err != nil {
		return Enrolled{}, err
	}
	body, err := est.Request(name, key)
	if err != nil {
		return Enrolled{}, err
	}
	answer, err := c.Do(ctx, outside.Request{Method: http.MethodPost, Path: e.Path + operation, Type: est.RequestType, Body: body, Limit: est.MaxBody, Prepare: prepare})
	switch {
	case err != nil:
		return Enrolled{}, fmt.Errorf("ask for the certificate: %w", err)
	case answer.Status == http.StatusAccepted: // RFC 7030, section 4.2.3
		return Enrolled{}, problem.Errorf(problem.Unavailable, "the authority has not issued the certificate yet: ask again later")
	case answer.Status != http.StatusOK:
		return Enrolled{}, problem.Errorf(problem.Refused, "the authority refuses the certificate: %.200s", answer.Body)
	}
	certs, err := est.Certs(answer.Body)
	if err != nil {
		return Enrolled{}, problem.Errorf(problem.Failed, "%w", err)
	}
	mine, err := est.Check(certs, roots, key.Public(), now)
	if err != nil {
		return Enrolled{}, problem.Errorf(problem.Refused, "%w; nothing was saved", err)
	}
	return Enrolled{mine, roots}, nil
}

// roots asks for the certificates of the authority (RFC 7030, section 4.1), over the TLS whose
// root the owner has accepted.
func (e EST) roots(ctx context.Context) ([]*x509.Certificate, error) {
	answer, err := e.Client.Do(ctx, outside.Request{Method: http.MethodGet, Path: e.Path + "cacerts", Limit: est.MaxBody, Within: askWithin})
	if err != nil {
		return nil, fmt.Errorf("ask for the authority's certificates: %w", err)
	}
	if answer.Status != http.StatusOK {
		return nil, errNonsense
	}
	return est.Certs(answer.Body)
}

// Enrolment asks for a name and a password with which one certificate can be enrolled, by any
// program that speaks EST.
func (a *Authorities) Enrolment(ctx context.Context, acc store.Account) (authority.Enrolment, error) {
	var once authority.Enrolment
	err := a.ask(ctx, acc, http.MethodPost, crewPath(acc, "enrolments"), struct{}{}, &once)
	return once, err
}

// Enroll enrols a certificate for a key of the safe, for an account's crew.
func (a *Authorities) Enroll(ctx context.Context, acc store.Account, name, key string) (Enrolled, error) {
	e, signer, err := a.est(ctx, acc.Authority, key)
	if err != nil {
		return Enrolled{}, err
	}
	once, err := a.Enrolment(ctx, acc)
	if err != nil {
		return Enrolled{}, err
	}
	return e.Enroll(ctx, name, signer, once.User, once.Password, a.cfg.Clock.Now())
}

// Renew renews a certificate by itself. No account need be signed in.
func (a *Authorities) Renew(ctx context.Context, name string, old *x509.Certificate, key string) (Enrolled, error) {
	e, signer, err := a.est(ctx, name, key)
	if err != nil {
		return Enrolled{}, err
	}
	return e.Renew(ctx, old, signer, a.cfg.Clock.Now())
}

func (a *Authorities) est(ctx context.Context, name, key string) (EST, crypto.Signer, error) {
	o, err := a.find(name)
	if err != nil {
		return EST{}, nil, err
	}
	signer, err := a.cfg.Safe.Signer(ctx, key)
	return EST{o.client, authority.ESTPath}, signer, err
}

// Certificates lists the certificates of an account's crew.
func (a *Authorities) Certificates(ctx context.Context, acc store.Account) ([]authority.Certificate, error) {
	var out authority.List[authority.Certificate]
	err := a.ask(ctx, acc, http.MethodGet, crewPath(acc, "certificates"), nil, &out)
	return out.Items, err
}

// Revoke revokes a certificate, by its serial number in hexadecimal; twice is once.
func (a *Authorities) Revoke(ctx context.Context, acc store.Account, serial string) (authority.Certificate, error) {
	var out authority.Certificate
	err := a.ask(ctx, acc, http.MethodDelete, crewPath(acc, "certificates", serial), nil, &out)
	return out, err
}

package outside

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"earlybench.invalid/earlybench/core/problem"
)

// Request is one request to a service. Requests are made again after a failure that may pass,
// so that a method must do the same twice as once.
type Request struct {
	Method string
	Path   string // relative to the service
	Type   string // of the body
	Body   []byte
	Limit  int64 // the largest answer, in bytes
	// Prepare adds what each attempt needs, such as a new proof. It may be nil.
	Prepare func(*http.Request) error
	Within  time.Duration // for how long it is tried; 0 stands for once
}

// Answer is what a service has answered, whatever its status.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// URL is the whole address of a path.
func (c *Client) URL(path string) (*url.URL, error) {
	rel, err := url.Parse(path)
	if err != nil {
		return nil, err
	}
	return c.base.ResolveReference(rel), nil
}

// Do makes a request. Statuses that may pass (500 and above, 429, 408) are tried again, and are a
// [StatusError] if they stay; a service that is not reached is [ErrDown]. Any other status is an
// answer.
func (c *Client) Do(ctx context.Context, r Request) (*Answer, error) {
	attempt := func() (*Answer, error) {
		a, err := c.once(ctx, &r)
		if err != nil {
			return nil, passing(err)
		}
		return a, nil
	}
	if r.Within == 0 {
		return c.once(ctx, &r)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, r.Within, fmt.Errorf("%w within %s", ErrDown, r.Within))
	defer cancel()
	return backoff.Retry(ctx, attempt, backoff.WithBackOff(Pause()), backoff.WithMaxElapsedTime(r.Within))
}

func (c *Client) once(ctx context.Context, r *Request) (*Answer, error) {
	to, err := c.URL(r.Path)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, answerWithin, fmt.Errorf("%w within %s", ErrDown, answerWithin))
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, r.Method, to.String(), bytes.NewReader(r.Body))
	if err != nil {
		return nil, err
	}
	if r.Type != "" {
		req.Header.Set("Content-Type", r.Type)
	}
	if r.Prepare != nil {
		if err := r.Prepare(req); err != nil {
			return nil, err
		}
	}
	answer, err := c.http.Do(req)
	if err != nil {
		return nil, c.why(ctx, err)
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, r.Limit+1))
	switch {
	case err != nil:
		return nil, c.why(ctx, err)
	case int64(len(raw)) > r.Limit:
		return nil, problem.Errorf(problem.Failed, "the answer of %s has more than the allowed %d bytes", c.base.Host, r.Limit)
	}
	if s := (&StatusError{Code: answer.StatusCode, After: retryAfter(answer.Header.Get("Retry-After"))}); s.Passes() {
		return nil, s
	}
	return &Answer{answer.StatusCode, answer.Header, raw}, nil
}

// WithCertificate is the same service, to which a client certificate is shown. The caller closes
// it.
func (c *Client) WithCertificate(cert tls.Certificate) *Client {
	t := c.http.Transport.(*http.Transport).Clone()
	if t.TLSClientConfig == nil {
		t.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	}
	t.TLSClientConfig.Certificates = []tls.Certificate{cert}
	return &Client{base: c.base, http: &http.Client{Transport: t, CheckRedirect: c.http.CheckRedirect}}
}

// Host is where the service is.
func (c *Client) Host() string { return c.base.Host }

// Name makes a name of how a service calls itself: lower-case letters, digits and hyphens, 40 at
// most. otherwise is used where nothing is left.
func Name(given, otherwise string) string {
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(given)), "-0123456789")
	if name == "" {
		name = otherwise
	}
	return name[:min(len(name), 40)]
}

// Package outside reaches services elsewhere by HTTP: over TLS by a root that a person has
// accepted, with limits of time, and again after a failure that may pass.
package outside

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"

	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
)

const (
	dialWithin   = 5 * time.Second
	answerWithin = 15 * time.Second // until the header of an answer
	receiveBytes = 128 << 10        // of a connection: what is lost of it when the service ends
	mostRetry    = time.Minute      // that Retry-After may ask for
)

// ErrDown is the error for a service that does not answer.
var ErrDown = problem.New(problem.Unavailable, "the service does not answer")

// A StatusError is an answer other than success.
type StatusError struct {
	Code  int
	After time.Duration // by Retry-After; 0 if the service does not say
}

func (s *StatusError) Error() string {
	return fmt.Sprintf("the service answers %d %s", s.Code, http.StatusText(s.Code))
}

// Passes reports whether the same request may succeed later.
func (s *StatusError) Passes() bool {
	return s.Code >= 500 || s.Code == http.StatusTooManyRequests || s.Code == http.StatusRequestTimeout
}

// Client reaches one service. Its methods may be called from any goroutine.
type Client struct {
	base *url.URL
	http *http.Client
}

// New makes a client of the service at base. root is the certificate by which its TLS is
// trusted; nil stands for those that the system trusts. Without TLS a service is reached on
// loopback only.
func New(base string, root *x509.Certificate) (*Client, error) {
	u, err := Address(base)
	if err != nil {
		return nil, err
	}
	t := &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           dial,
		TLSHandshakeTimeout:   dialWithin,
		ResponseHeaderTimeout: answerWithin,
		MaxIdleConnsPerHost:   8,
		IdleConnTimeout:       30 * time.Second,
		DisableCompression:    true, // sizes and ranges are those of the files
		ReadBufferSize:        64 << 10,
	}
	if root != nil {
		pool := x509.NewCertPool()
		pool.AddCert(root)
		t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return &Client{base: u, http: &http.Client{Transport: t, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		return fmt.Errorf("it redirects to %s, but the bench only uses the address that was accepted", r.URL.Redacted())
	}}}, nil
}

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialWithin}
	c, err := d.DialContext(ctx, network, address)
	if t, ok := c.(*net.TCPConn); ok {
		t.SetReadBuffer(receiveBytes) //nolint:errcheck // a larger one works, too
	}
	return c, err
}

// Address reads the address of a service, which ends with a slash in the result.
func Address(base string) (*url.URL, error) {
	u, err := url.Parse(base)
	switch {
	case err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "":
		return nil, problem.Errorf(problem.Invalid, "address %.120q is invalid: write it as https://NAME:PORT/", base)
	case u.User != nil:
		return nil, problem.Errorf(problem.Invalid, "an address must not contain a password")
	case u.Scheme == "http" && !isLoopback(u.Hostname()):
		return nil, problem.Errorf(problem.Invalid, "%s would be reached without TLS, which is only allowed on loopback: write https", u.Host)
	case u.Scheme != "http" && u.Scheme != "https":
		return nil, problem.Errorf(problem.Invalid, "address %.120q is invalid: it must start with https://", base)
	}
	if !strings.HasSuffix(u.Path, "/") {
		u.Path += "/"
	}
	return u, nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Close closes connections that are idle.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Get asks once for a path relative to the service. The caller closes the body. Statuses
// other than 200 and 206 are a [StatusError]; a service that is not reached is [ErrDown].
func (c *Client) Get(ctx context.Context, path string, header http.Header) (*http.Response, error) {
	rel, err := url.Parse(path)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base.ResolveReference(rel).String(), nil)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		r.Header[k] = v
	}
	r.Header.Set("Accept-Encoding", "identity")
	answer, err := c.http.Do(r)
	if err != nil {
		return nil, c.why(ctx, err)
	}
	if answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusPartialContent {
		io.CopyN(io.Discard, answer.Body, 4096) //nolint:errcheck // so that the connection can be used again
		answer.Body.Close()
		return nil, &StatusError{Code: answer.StatusCode, After: retryAfter(answer.Header.Get("Retry-After"))}
	}
	return answer, nil
}

// Read gets a whole file of at most limit bytes, and the header of the answer. It tries
// again for up to within.
func (c *Client) Read(ctx context.Context, path string, limit int64, within time.Duration) ([]byte, http.Header, error) {
	var header http.Header
	raw, err := backoff.Retry(ctx, func() ([]byte, error) {
		short, cancel := context.WithTimeoutCause(ctx, answerWithin, fmt.Errorf("%w within %s", ErrDown, answerWithin))
		defer cancel()
		answer, err := c.Get(short, path, nil)
		if err != nil {
			return nil, passing(err)
		}
		defer answer.Body.Close()
		header = answer.Header
		raw, err := io.ReadAll(io.LimitReader(answer.Body, limit+1))
		switch {
		case err != nil:
			return nil, c.why(short, err)
		case int64(len(raw)) > limit:
			return nil, backoff.Permanent(problem.Errorf(problem.Failed, "%s has more than the allowed %d bytes", path, limit))
		}
		return raw, nil
	}, backoff.WithBackOff(Pause()), backoff.WithMaxElapsedTime(within))
	return raw, header, err
}

// Pause is the pauses between attempts: from a quarter of a second to 15 s, with jitter.
func Pause() *backoff.ExponentialBackOff {
	b := backoff.NewExponentialBackOff()
	b.InitialInterval, b.MaxInterval = 250*time.Millisecond, 15*time.Second
	return b
}

// passing marks what no second attempt helps against, and how long the service wants to be
// left alone.
func passing(err error) error {
	if s, ok := errors.AsType[*StatusError](err); ok {
		switch {
		case !s.Passes():
			return backoff.Permanent(err)
		case s.After > 0:
			return fmt.Errorf("%w: %w", err, &backoff.RetryAfterError{Duration: s.After})
		}
		return err
	}
	if !errors.Is(err, ErrDown) {
		return backoff.Permanent(err)
	}
	return err
}

// retryAfter reads the field of that name (RFC 9110, section 10.2.3), in seconds or as a date.
func retryAfter(field string) time.Duration {
	if n, err := strconv.Atoi(field); err == nil {
		return min(max(time.Duration(n)*time.Second, 0), mostRetry)
	}
	if t, err := http.ParseTime(field); err == nil {
		return min(max(time.Until(t), 0), mostRetry)
	}
	return 0
}

// why says why a request failed: by the context's cause, an untrusted certificate, or since
// the service does not answer.
func (c *Client) why(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	var untrusted *tls.CertificateVerificationError
	if errors.As(err, &untrusted) {
		return c.untrusted(untrusted)
	}
	var u *url.Error
	if errors.As(err, &u) && !u.Timeout() {
		err = u.Err
	}
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("%w: nothing listens at %s", ErrDown, c.base.Host)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return fmt.Errorf("%w: %s has closed the connection", ErrDown, c.base.Host)
	}
	var n net.Error
	if errors.As(err, &n) {
		if n.Timeout() {
			return fmt.Errorf("%w: no answer from %s within the time limit", ErrDown, c.base.Host)
		}
		return fmt.Errorf("%w: %w", ErrDown, err)
	}
	return fmt.Errorf("%s: %w", c.base.Host, err)
}

// untrusted says why the certificate that a service shows is not trusted.
func (c *Client) untrusted(err *tls.CertificateVerificationError) error {
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &name):
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The certificate of %s is for %s, not for %s.", c.base.Host, cmp.Or(namesOf(name.Certificate), "no name"), c.base.Hostname()),
			Remedy: "Use a name that its certificate contains, or ask whoever runs it."}
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		text := func(t time.Time) string { return t.Local().Format("2 January 2006 15:04") }
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The certificate of %s is valid from %s to %s, but the clock of this computer says %s.", c.base.Host, text(invalid.Cert.NotBefore), text(invalid.Cert.NotAfter), text(time.Now())),
			Remedy: "Set the clock of this computer if it is wrong; otherwise the service needs a new certificate."}
	}
	return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The certificate of %s is not the one that was accepted: %s.", c.base.Host, err.Err),
		Remedy: "If its owner has changed it, remove the service here and add it again."}
}

// namesOf are the names and addresses that a certificate is for.
func namesOf(c *x509.Certificate) string {
	names := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	return plain.Cut(plain.Line(strings.Join(names, ", ")), 200)
}

// Why says why reading an answer's body failed, as errors of Get do.
func (c *Client) Why(ctx context.Context, err error) error { return c.why(ctx, err) }

// Root is the certificate by which a service's TLS would be trusted.
type Root struct {
	Certificate *x509.Certificate // nil without TLS
	Known       bool              // the system trusts it
}

// Fingerprint is the SHA-256 of the certificate, in hexadecimal; "" without TLS.
func (r Root) Fingerprint() string {
	if r.Certificate == nil {
		return ""
	}
	sum := sha256.Sum256(r.Certificate.Raw)
	return hex.EncodeToString(sum[:])
}

// Pinned is the certificate to keep, in DER, so that the service is trusted by it alone; nil where
// the system's will do.
func (r Root) Pinned() []byte {
	if r.Known || r.Certificate == nil {
		return nil
	}
	return r.Certificate.Raw
}

// FingerprintOf is the SHA-256 of a certificate that was kept, in hexadecimal; "" for none.
func FingerprintOf(root []byte) string {
	if len(root) == 0 {
		return ""
	}
	sum := sha256.Sum256(root)
	return hex.EncodeToString(sum[:])
}

// NewPinned is New with a root certificate in DER, as it was kept; nil or empty for the system's.
func NewPinned(base string, root []byte) (*Client, error) {
	if len(root) == 0 {
		return New(base, nil)
	}
	c, err := x509.ParseCertificate(root)
	if err != nil {
		return nil, fmt.Errorf("the root certificate that was kept for %s: %w", base, err)
	}
	return New(base, c)
}

// RootOf asks a service for its certificates and returns the last of the chain that it sends,
// without trusting it.
func RootOf(ctx context.Context, base string) (Root, error) {
	u, err := Address(base)
	if err != nil || u.Scheme == "http" {
		return Root{}, err
	}
	address := u.Host
	if u.Port() == "" {
		address = net.JoinHostPort(u.Hostname(), "443")
	}
	// Nothing is sent over this connection, and who accepts the certificate is a person.
	d := tls.Dialer{NetDialer: &net.Dialer{Timeout: dialWithin}, Config: &tls.Config{InsecureSkipVerify: true, ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}} //nolint:gosec // as above
	ctx, cancel := context.WithTimeoutCause(ctx, answerWithin, fmt.Errorf("%w within %s", ErrDown, answerWithin))
	defer cancel()
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		c := &Client{base: u}
		return Root{}, c.why(ctx, err)
	}
	defer conn.Close()
	chain := conn.(*tls.Conn).ConnectionState().PeerCertificates
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, unknown := chain[0].Verify(x509.VerifyOptions{DNSName: u.Hostname(), Intermediates: between})
	return Root{Certificate: chain[len(chain)-1], Known: unknown == nil}, nil
}

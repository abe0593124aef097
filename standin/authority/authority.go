// Package authority is a stand-in authority: a service of its own with accounts, crews, a
// register of devices, app ids, and a certificate authority that enrols by EST (RFC 7030). It
// can be slow, busy, down or answer nonsense, and its clock can be moved. Benches and devices
// reach it through its socket only.
package authority

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
)

// Mode is what is wrong with an authority.
type Mode string

// The modes.
const (
	Well     Mode = "well"
	Slow     Mode = "slow"     // every answer takes a few seconds
	Busy     Mode = "busy"     // it takes few requests a second, and answers 429 to the rest
	Down     Mode = "down"     // it answers 503
	Dead     Mode = "dead"     // it takes requests and answers none
	Nonsense Mode = "nonsense" // what it answers is not what was asked for
)

// Modes are all modes.
var Modes = []Mode{Well, Slow, Busy, Down, Dead, Nonsense}

// Config is how an authority is started.
type Config struct {
	Dir       string // where its keys and records are kept
	Address   string
	Name      string
	Standings []authority.Standing // the first is that of new accounts that choose none
	Taken     []string             // app ids that others have
	Crews     []Seed               // that are there from the beginning
	PerSecond int                  // requests that it takes while it is busy; 0 stands for 25
	Clock     *clock.Moved
	Around    func(http.Handler) http.Handler // sees each request and answer; nil for nothing
}

// slowBy is how long an answer of a slow authority takes.
const slowBy = 3 * time.Second

// Authority is a running authority. It is made by Start and ends with Close.
type Authority struct {
	cfg      Config
	ca       *certifier
	signer   *developer.Key // of statements
	listener net.Listener
	server   *http.Server
	ended    chan struct{}
	routes   *http.ServeMux

	mu     sync.Mutex
	mode   Mode
	wake   chan struct{} // closed when the mode changes
	second int64         // for which count holds
	count  int
	sessions
	records
}

// Start starts an authority.
func Start(ctx context.Context, cfg Config) (*Authority, error) {
	if cfg.Clock == nil {
		cfg.Clock = &clock.Moved{}
	}
	if cfg.PerSecond == 0 {
		cfg.PerSecond = 25
	}
	ca, err := readCertifier(cfg.Dir, cfg.Name)
	if err != nil {
		return nil, err
	}
	signer, err := readSigner(cfg.Dir)
	if err != nil {
		return nil, err
	}
	a := &Authority{cfg: cfg, ca: ca, signer: signer, mode: Well, ended: make(chan struct{}), wake: make(chan struct{})}
	a.sessions = newSessions()
	if a.records, err = readRecords(cfg.Dir); err != nil {
		return nil, err
	}
	for _, s := range cfg.Crews {
		if err := a.seed(s, a.standing(s.Standing), a.now()); err != nil {
			return nil, fmt.Errorf("authority: crew %s: %w", s.Crew, err)
		}
	}
	a.routes = a.routed()
	if a.listener, err = net.Listen("tcp", cfg.Address); err != nil {
		return nil, fmt.Errorf("authority: %w", err)
	}
	own, err := ca.server()
	if err != nil {
		return nil, err
	}
	handler := http.Handler(a)
	if cfg.Around != nil {
		handler = cfg.Around(a)
	}
	a.server = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		TLSConfig:   &tls.Config{Certificates: []tls.Certificate{own}, MinVersion: tls.VersionTLS12, ClientAuth: tls.RequestClientCert},
		ErrorLog:    log.New(io.Discard, "", 0), // a bench that does not trust it says so itself
		BaseContext: func(net.Listener) context.Context { return ctx }}
	go func() {
		defer close(a.ended)
		a.server.ServeTLS(a.listener, "", "") //nolint:errcheck // it ends with Close
	}()
	return a, nil
}

// URL is its address, as a bench is told of it.
func (a *Authority) URL() string { return "https://" + a.listener.Addr().String() + "/" }

// Close ends it.
func (a *Authority) Close() error {
	a.Set(Well)
	err := a.server.Close()
	<-a.ended
	return err
}

// Set changes what is wrong with it.
func (a *Authority) Set(m Mode) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.mode = m
	close(a.wake)
	a.wake = make(chan struct{})
}

// Mode is what is wrong with it.
func (a *Authority) Mode() Mode {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.mode
}

// now is the authority's time.
func (a *Authority) now() time.Time { return a.cfg.Clock.Now().UTC() }

// maxBody is the largest request that is read, in bytes.
const maxBody = 1 << 20

func (a *Authority) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Date", a.now().Format(http.TimeFormat))
	if !a.fault(w, r) {
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	a.routes.ServeHTTP(w, r)
}

// fault does what the mode says and reports whether the request is to be answered.
func (a *Authority) fault(w http.ResponseWriter, r *http.Request) bool {
	a.mu.Lock()
	mode, wake := a.mode, a.wake
	over := false
	if second := time.Now().Unix(); mode == Busy {
		if a.second != second {
			a.second, a.count = second, 0
		}
		a.count++
		over = a.count > a.cfg.PerSecond
	}
	a.mu.Unlock()
	switch {
	case over:
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
	case mode == Down:
		w.WriteHeader(http.StatusServiceUnavailable)
	case mode == Nonsense:
		io.WriteString(w, `{"standings": 7, "crews": "<script>", "access_token": [`) //nolint:errcheck // the caller has gone
	case mode == Dead:
		select {
		case <-wake:
			panic(http.ErrAbortHandler)
		case <-r.Context().Done():
		}
	case mode == Slow:
		select {
		case <-time.After(slowBy):
		case <-wake:
		case <-r.Context().Done():
			return false
		}
		return true
	default:
		return true
	}
	return false
}

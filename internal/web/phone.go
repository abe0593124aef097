package web

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
)

// phone is the page of one device, or of one request for hands, for a phone: over TLS, at an address that a person chose,
// for one browser, and nothing else.
type phone struct {
	handle string
	hands  string // id of the request for hands that it is of; "" for the page of the device
	app    string // for which the serials of devices are collected; "" for another page
	host   string // as the browser names it
	port   int
	ends   time.Time

	mu      sync.Mutex
	secret  string // of the one-time address; "" once it is used
	session string
	heard   time.Time               // from the browser, the last time
	devices []client.HandoverDevice // that were named on the page of a handover
	asked   time.Time               // by the command that opened it, the last time

	close func()
}

const (
	phoneGood  = time.Hour       // the longest that the page stays
	phoneQuiet = 3 * time.Minute // how long it waits for a browser that has gone
	phoneName  = "earlybench-phone"
	phoneAsked = 6 * time.Second // the command that opened it asks every second
)

func (s *Server) phoneRoutes() {
	huma.Register(s.api, operation(access.Own, "POST", "/phone", "open-phone", "Serve one device's page for a phone; over the socket only"), s.openPhone)
	huma.Register(s.api, operation(access.Own, "DELETE", "/phone", "close-phone", "End the page for a phone"),
		func(context.Context, *none) (*struct{}, error) { s.endPhone(nil); return nil, nil })
	huma.Register(s.api, operation(access.Look, "GET", "/handover", "handover", "What was named on the page of a handover"), s.handed)
	huma.Register(s.api, operation(access.Use, "POST", "/handover", "hand-over", "Name a device on the page of a handover"), s.hand)
	huma.Register(s.api, operation(access.Own, "GET", "/phone", "phone", "The page for a phone that is served"),
		func(context.Context, *none) (*out[client.Phone], error) {
			p := s.phoneNow()
			if p == nil {
				return nil, huma.Error404NotFound("No page for a phone is served.")
			}
			p.mu.Lock()
			defer p.mu.Unlock()
			p.asked = time.Now()
			return &out[client.Phone]{client.Phone{Device: p.handle, Hands: p.hands, Handover: p.handover(), Ends: p.ends, Used: p.secret == ""}}, nil
		})
}

// openPhone starts to serve a device's page for a phone. Only one is served at a time; the
// previous one ends.
func (s *Server) openPhone(ctx context.Context, in *struct{ Body client.PhoneAsk }) (*out[client.Phone], error) {
	handle, path := in.Body.Device, "/phone/"+in.Body.Device
	if in.Body.App != "" {
		if err := appfile.CheckID(in.Body.App); err != nil {
			return nil, problem(eb.Errorf(eb.Invalid, "%w", err))
		}
		handle, path = "", "/handover"
	} else if in.Body.Hands != "" {
		h, err := s.Lend.FindHands(in.Body.Hands)
		if err != nil {
			return nil, problem(err)
		}
		if !h.Loan.Lent {
			return nil, problem(eb.Errorf(eb.Invalid, "somebody at %s was asked, and the page for it is served by their bench", h.Loan.Peer))
		}
		handle, path = h.Loan.Handle, "/near/"+h.ID
	} else if _, err := s.Rack.Find(handle); err != nil {
		return nil, problem(err)
	}
	l, err := listenAt(in.Body.Address)
	if err != nil {
		return nil, problem(err)
	}
	at := l.Addr().(*net.TCPAddr)
	cert, fingerprint, err := ownCertificate(at.IP, s.Clock.Now(), 2*phoneGood)
	if err != nil {
		l.Close()
		return nil, problem(err)
	}
	p := &phone{handle: handle, hands: in.Body.Hands, app: in.Body.App, host: at.String(), port: at.Port, ends: s.Clock.Now().Add(phoneGood), secret: rand.Text(), heard: time.Now(), asked: time.Now(),
		close: func() { l.Close() }}
	s.endPhone(nil)
	s.mu.Lock()
	s.phone = p
	s.mu.Unlock()
	s.serve(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS13, NextProtos: []string{"http/1.1"}}), mostPhoneConns)
	s.served.Go(func() { s.watchPhone(p) })
	return &out[client.Phone]{client.Phone{Device: p.handle, Hands: p.hands, Handover: p.handover(), Ends: p.ends, Fingerprint: fingerprint,
		URL: "https://" + p.host + path + "#sign-in=" + p.secret}}, nil
}

// watchPhone ends the page when its time is up, when its browser is gone, or when the
// service ends.
func (s *Server) watchPhone(p *phone) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-s.ctx.Done():
			s.endPhone(p)
			return
		case <-t.C:
		}
		p.mu.Lock()
		over := s.Clock.Now().After(p.ends) || time.Since(p.asked) > phoneAsked || p.secret == "" && time.Since(p.heard) > phoneQuiet
		p.mu.Unlock()
		if over || s.phoneNow() != p {
			s.endPhone(p)
			return
		}
	}
}

func (s *Server) phoneNow() *phone {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.phone
}

// stillOn reports whether a phone's page is still served, and that its browser
// listens.
func (s *Server) stillOn(p *phone) bool {
	p.mu.Lock()
	p.heard = time.Now()
	p.mu.Unlock()
	return s.phoneNow() == p
}

// endPhone ends a page for a phone; nil means whichever is served.
func (s *Server) endPhone(p *phone) {
	s.mu.Lock()
	now := s.phone
	if p == nil {
		p = now
	}
	if now == p {
		s.phone = nil
	}
	s.mu.Unlock()
	if p != nil {
		p.close()
	}
}

// ofPhone returns the page for a phone that a request was sent to, if any.
func (s *Server) ofPhone(c fiber.Ctx) (*phone, bool) {
	at, ok := c.RequestCtx().LocalAddr().(*net.TCPAddr)
	if !ok || at.String() == s.address {
		return nil, false
	}
	p := s.phoneNow()
	if p == nil || at.Port != p.port {
		return nil, true // of one that has ended
	}
	return p, true
}

// guardPhone lets one browser see and lead one device, and nothing else.
func (s *Server) guardPhone(c fiber.Ctx, p *phone) error {
	c.Set("Strict-Transport-Security", "max-age=0")
	if p == nil {
		return answer(c, &client.Problem{Status: http.StatusGone, Detail: "This page has ended.", Remedy: "Get a new one on the bench's computer."})
	}
	if wrong := strayed(c, p.host); wrong != nil {
		return answer(c, wrong)
	}
	switch {
	case !strings.HasPrefix(c.Path(), "/api/"):
		return c.Next() // the console's files
	case c.Path() == "/api/v1/sign-in":
		return p.signIn(c)
	case !p.knows(c.Cookies(phoneName)):
		return answer(c, &client.Problem{Status: http.StatusUnauthorized, Kind: "refused", Detail: "This browser may not see this page: its address works only once.",
			Remedy: "Get a new one on the bench's computer: earlybench console --phone."})
	case !p.may(c.Method(), c.Path()):
		return answer(c, &client.Problem{Status: http.StatusForbidden, Kind: "refused", Detail: "This page is for " + p.handle + " only.",
			Remedy: "Use the console on the bench's computer."})
	}
	act(c, access.Phone(s.Owner))
	return c.Next()
}

// may defines what the page for a phone may ask for and do.
func (p *phone) may(method, path string) bool {
	if p.app != "" { // whoever has the devices names them, and learns nothing
		return method == http.MethodGet && path == "/api/v1/bench" || path == "/api/v1/handover" && (method == http.MethodGet || method == http.MethodPost)
	}
	if p.hands != "" { // whoever is near learns of this request, and of nothing else
		return method == http.MethodGet && (path == "/api/v1/bench" || path == "/api/v1/hands/"+p.hands) || method == http.MethodPost && path == "/api/v1/hands/"+p.hands+"/answer"
	}
	if method == http.MethodGet && (path == "/api/v1/bench" || path == "/api/v1/events") {
		return true
	}
	rest, ok := strings.CutPrefix(path, "/api/v1/devices/"+p.handle)
	switch {
	case !ok:
		return false
	case method == http.MethodGet:
		return rest == "" || rest == "/prep" || rest == "/why"
	case method == http.MethodPost:
		return rest == "/told" || rest == "/answers" || rest == "/remedies" || rest == "/admission"
	}
	return method == http.MethodDelete && strings.HasPrefix(rest, "/answers/")
}

// signIn uses up the one-time address.
func (p *phone) signIn(c fiber.Ctx) error {
	secret, err := secretOf(c)
	if err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.secret == "" || subtle.ConstantTimeCompare([]byte(secret), []byte(p.secret)) != 1 {
		return answer(c, &client.Problem{Status: http.StatusForbidden, Detail: "This address was already used, or has expired.",
			Remedy: "Get a new one on the bench's computer: earlybench console --phone."})
	}
	p.secret, p.session, p.heard = "", rand.Text(), time.Now()
	return letIn(c, phoneName, p.session, int(phoneGood/time.Second))
}

func (p *phone) knows(session string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	ok := session != "" && subtle.ConstantTimeCompare([]byte(session), []byte(p.session)) == 1
	if ok {
		p.heard = time.Now()
	}
	return ok
}

// ownCertificate makes a certificate for one address and a time, and its
// fingerprint, which the browser shows too: SHA-256 over its DER form.
func ownCertificate(ip net.IP, now time.Time, good time.Duration) (tls.Certificate, string, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return tls.Certificate{}, "", err
	}
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Early Bench page"}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(good), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{ip}, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, "", fmt.Errorf("make a certificate: %w", err)
	}
	sum := sha256.Sum256(der)
	pairs := make([]string, len(sum))
	for i, b := range sum {
		pairs[i] = strings.ToUpper(hex.EncodeToString([]byte{b}))
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, strings.Join(pairs, ":"), nil
}

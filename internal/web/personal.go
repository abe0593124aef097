package web

import (
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
)

// This file serves the pages of people who have no bench: the rack and the screens of some devices, over TLS,
// by an access key of their own.

// personal is the page of one person. The key on record says what may be seen on it, and until when; the
// page is there again after a restart.
type personal struct {
	key  store.Access
	port int

	// Guarded by the server's lock.
	listener net.Listener // nil while it cannot be listened there
	trouble  string       // why not
	ended    bool
}

const (
	personalTick  = time.Second
	personalRetry = 5 * time.Second // after the address could not be listened at
	mostPersonal  = 20              // pages at once
)

func (s *Server) personalRoutes() {
	huma.Register(s.api, operation(access.Own, "POST", "/person-pages", "open-person-page", "Serve some devices and their screens to the browser of a person without a bench"), s.openPersonal)
}

// openPersonal makes the key of a person and serves the page.
func (s *Server) openPersonal(ctx context.Context, in *struct{ Body client.PersonPageAsk }) (*out[client.PersonPage], error) {
	var ids []string
	for _, handle := range in.Body.Devices {
		k, err := s.Rack.Find(handle)
		if err != nil {
			return nil, problem(err)
		}
		ids = append(ids, k.Device().ID)
	}
	slices.Sort(ids)
	l, err := listenAt(in.Body.Address)
	if err != nil {
		return nil, problem(err)
	}
	kept := false
	defer func() {
		if !kept {
			l.Close()
		}
	}()
	at := l.Addr().(*net.TCPAddr)
	good := time.Duration(in.Body.For) * time.Second
	cert, fingerprint, err := ownCertificate(at.IP, s.Clock.Now(), good+time.Hour)
	if err != nil {
		return nil, problem(err)
	}
	key, err := x509.MarshalPKCS8PrivateKey(cert.PrivateKey)
	if err != nil {
		return nil, problem(fmt.Errorf("write the key of the page's certificate: %w", err))
	}
	s.mu.Lock()
	full := len(s.personals) >= mostPersonal
	s.mu.Unlock()
	if full {
		return nil, problem(eb.Errorf(eb.Refused, "%d pages are already served for people: end one first (earlybench access)", mostPersonal))
	}
	ticket, a, err := s.Access.MakeFor(ctx, in.Body.Person, access.Right(in.Body.May), slices.Compact(ids), good,
		store.PersonPage{Address: at.String(), Certificate: cert.Certificate[0], Key: key})
	if err != nil {
		return nil, problem(err)
	}
	kept = true
	s.servePersonal(&personal{key: a, port: at.Port}, l)
	return &out[client.PersonPage]{client.PersonPage{Access: s.accessOf(a), Fingerprint: fingerprint, URL: "https://" + at.String() + "/for/" + a.Name + "#sign-in=" + ticket}}, nil
}

// listenAt listens at an address of this computer that a person has chosen, with or without a port.
func listenAt(address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		host, port = address, "0"
	}
	if ip := net.ParseIP(host); ip == nil || ip.IsUnspecified() {
		return nil, eb.Errorf(eb.Invalid, "address %.60q is not an address of this computer: give one, such as 192.0.2.7 or 192.0.2.7:7443", address)
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, eb.Errorf(eb.Invalid, "listen at %s: %w", address, err)
	}
	return l, nil
}

// personalsAgain serves the pages that were served before a restart.
func (s *Server) personalsAgain() {
	all, err := s.Store.Accesses(s.ctx)
	if err != nil {
		s.Log.Error("read the pages of people", "error", err)
		return
	}
	for _, a := range all {
		if a.Page == nil || !s.Clock.Now().Before(a.Ends) {
			continue
		}
		_, port, _ := net.SplitHostPort(a.Page.Address)
		n, _ := strconv.Atoi(port)
		s.servePersonal(&personal{key: a, port: n}, nil)
	}
}

// servePersonal serves a page until its key ends; where l is nil, as soon as its address can be listened at.
func (s *Server) servePersonal(p *personal, l net.Listener) {
	s.mu.Lock()
	s.personals = append(s.personals, p)
	s.mu.Unlock()
	if l != nil {
		s.listenPersonal(p, l, nil)
	}
	s.served.Go(func() {
		t := time.NewTicker(personalTick)
		defer t.Stop()
		var tried time.Time
		for {
			s.mu.Lock()
			over := p.ended || !s.Clock.Now().Before(p.key.Ends)
			waits := p.listener == nil && time.Since(tried) >= personalRetry
			s.mu.Unlock()
			switch {
			case over || s.ctx.Err() != nil:
				s.endPersonal(p)
				return
			case waits:
				tried = time.Now()
				l, err := listenAt(p.key.Page.Address)
				s.listenPersonal(p, l, err)
			}
			select {
			case <-s.ctx.Done():
			case <-t.C:
			}
		}
	})
}

// listenPersonal begins to answer on l, or keeps why it cannot.
func (s *Server) listenPersonal(p *personal, l net.Listener, err error) {
	var key any
	if err == nil {
		key, err = x509.ParsePKCS8PrivateKey(p.key.Page.Key)
	}
	signer, _ := key.(*ecdsa.PrivateKey)
	s.mu.Lock()
	defer s.mu.Unlock()
	p.trouble = ""
	switch {
	case err != nil:
		p.trouble = sentence(err.Error())
	case p.ended:
		l.Close()
	default:
		p.listener = l
		cert := tls.Certificate{Certificate: [][]byte{p.key.Page.Certificate}, PrivateKey: signer}
		s.serveLocked(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS13, NextProtos: []string{"http/1.1"}}), mostPhoneConns)
	}
}

// endPersonal ends a page. Streams on it end with its key.
func (s *Server) endPersonal(p *personal) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p.ended = true
	if p.listener != nil {
		p.listener.Close()
	}
	s.personals = slices.DeleteFunc(s.personals, func(o *personal) bool { return o == p })
}

// endPersonalOf ends the page of a key that was dropped, if it has one.
func (s *Server) endPersonalOf(name string) {
	s.mu.Lock()
	i := slices.IndexFunc(s.personals, func(p *personal) bool { return p.key.Name == name })
	var p *personal
	if i >= 0 {
		p = s.personals[i]
	}
	s.mu.Unlock()
	if p != nil {
		s.endPersonal(p)
	}
}

// personalAt returns the page of a person that a request was sent to, if any.
func (s *Server) personalAt(c fiber.Ctx) *personal {
	at, ok := c.RequestCtx().LocalAddr().(*net.TCPAddr)
	if !ok || at.String() == s.address {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.personals, func(p *personal) bool { return p.port == at.Port && p.key.Page.Address == at.String() })
	if i < 0 {
		return nil
	}
	return s.personals[i]
}

// cookie is the name of its cookie: cookies do not keep ports apart (RFC 6265, section 8.5).
func (p *personal) cookie() string { return "earlybench-person-" + strconv.Itoa(p.port) }

// guardPersonal lets the holder of the page's key see what the key is for.
func (s *Server) guardPersonal(c fiber.Ctx, p *personal) error {
	c.Set("Strict-Transport-Security", "max-age=0")
	if wrong := strayed(c, p.key.Page.Address); wrong != nil {
		return answer(c, wrong)
	}
	switch {
	case !strings.HasPrefix(c.Path(), "/api/"):
		return c.Next() // the console's files
	case c.Path() == "/api/v1/sign-in":
		return s.enterPersonal(c, p)
	}
	a, err := s.Access.Check(c.Context(), c.Cookies(p.cookie()))
	switch {
	case err != nil && eb.KindOf(err) != eb.Refused:
		return asFiber(c, err)
	case err != nil || a.Key != p.key.ID:
		return answer(c, &client.Problem{Status: http.StatusUnauthorized, Kind: string(eb.Refused), Detail: "This browser may not see this page: its address works only once, and until it expires.",
			Remedy: "Ask whoever sent you the address for a new one."})
	}
	act(c, a)
	return c.Next()
}

// enterPersonal lets the browser in that has the one-time address.
func (s *Server) enterPersonal(c fiber.Ctx, p *personal) error {
	ticket, err := secretOf(c)
	if err != nil {
		return err
	}
	secret, err := s.Access.Enter(c.Context(), p.key.ID, ticket)
	if eb.KindOf(err) == eb.Refused {
		return answer(c, &client.Problem{Status: http.StatusForbidden, Kind: string(eb.Refused), Detail: "This address was already used, or has expired.", Remedy: "Ask whoever sent it to you for a new one."})
	}
	if err != nil {
		return asFiber(c, err)
	}
	return letIn(c, p.cookie(), secret, int(p.key.Ends.Sub(s.Clock.Now())/time.Second))
}

// forSome are the operations that a key for some devices may use: those devices, their screens and logs.
var forSome = map[string]bool{"bench": true, "devices": true, "device": true, "/api/v1/events": true, "/api/v1/devices/:handle/screen": true, "/api/v1/devices/:handle/log": true}

// inScope refuses operations that a key for some devices does not cover. Other devices and unknown ones get the same answer.
func (s *Server) inScope(c fiber.Ctx, a access.Actor, operation string) error {
	if a.Devices == nil {
		return nil
	}
	ok := forSome[operation]
	if handle := c.Params("handle"); ok && handle != "" {
		k, err := s.Rack.Find(handle)
		ok = err == nil && a.Sees(k.Device().ID)
	}
	if !ok {
		return &eb.Problem{Kind: eb.Refused, Text: "This access key is only for other devices, and for their screens and logs.", Remedy: "Ask whoever gave it to you."}
	}
	return nil
}

// seesEvent reports whether an actor is sent an event of a subject.
func (s *Server) seesEvent(a access.Actor, subject string) bool {
	if a.Devices == nil {
		return true
	}
	k, err := s.Rack.Find(subject)
	return err == nil && a.Sees(k.Device().ID)
}

// whileGood returns a context for a stream: it ends with the service, and within a second after the access
// key of whoever asked for it.
func (s *Server) whileGood(a access.Actor) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(s.ctx)
	if a.Key == "" {
		return ctx, cancel
	}
	s.served.Go(func() {
		defer cancel()
		t := time.NewTicker(personalTick)
		defer t.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-t.C:
			}
			if stands, err := s.Access.Stands(ctx, a.Key); err == nil && !stands {
				return
			}
		}
	})
	return ctx, cancel
}

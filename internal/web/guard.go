package web

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"net"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
)

const (
	offerGood   = time.Hour           // how long a sign-in address waits
	sessionGood = 30 * 24 * time.Hour // how long a browser stays signed in
)

// policy is the console's: everything from the service itself, and the hands
// page of stand-ins in a frame.
const policy = "default-src 'self'; img-src 'self' data:; frame-src http://localhost:*; frame-ancestors 'none'; base-uri 'none'; form-action 'none'; object-src 'none'"

// guard decides who may ask at all. On the Unix socket that is whoever can reach
// it. On TCP the Host must be ours, so that a name that was made to point here
// gets nothing; writes must come from our own pages; and all of the interface
// but signing in wants a session.
func (s *Server) guard(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", policy)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	if overSocket(c) {
		return c.Next()
	}
	if p, ok := s.ofPhone(c); ok {
		return s.guardPhone(c, p)
	}
	if "http://"+c.Host() != s.origin {
		return answer(c, &client.Problem{Status: fiber.StatusMisdirectedRequest, Detail: "This bench answers only under its own address.", Remedy: "Open " + s.origin + "."})
	}
	read := c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead
	if !read && !s.ownPage(c) {
		return answer(c, &client.Problem{Status: fiber.StatusForbidden, Detail: "Only the bench's own pages may change something here."})
	}
	if strings.HasPrefix(c.Path(), "/api/") && c.Path() != "/api/v1/sign-in" && c.Path() != "/api/openapi.json" && !s.signedIn(c) {
		return answer(c, &client.Problem{Status: fiber.StatusUnauthorized, Kind: "refused", Detail: "This browser is not signed in.",
			Remedy: "Ask for a sign-in address on the computer of the bench: earlybench console."})
	}
	if ownerOnly[c.Method()+" "+c.Path()] || c.Method() == fiber.MethodDelete && strings.HasPrefix(c.Path(), "/api/v1/sheets/") ||
		!read && strings.HasPrefix(c.Path(), "/api/v1/hosts/") {
		return answer(c, &client.Problem{Status: fiber.StatusForbidden, Kind: "refused", Detail: "That is done on the computer of the bench, not in a browser.",
			Remedy: "Use the command earlybench there."})
	}
	return c.Next()
}

// ownerOnly is what a browser may not do: it would let a page that got hold of a
// session have commands run, or let others in.
var ownerOnly = map[string]bool{"POST /api/v1/phone": true, "DELETE /api/v1/phone": true, "POST /api/v1/projects": true, "POST /api/v1/apps": true, "POST /api/v1/sign-in-addresses": true, "POST /api/v1/hosts": true, "POST /api/v1/sheets": true}

func overSocket(c fiber.Ctx) bool {
	_, ok := c.RequestCtx().LocalAddr().(*net.UnixAddr)
	return ok
}

func (s *Server) ownPage(c fiber.Ctx) bool {
	if origin := c.Get(fiber.HeaderOrigin); origin != "" {
		return origin == s.origin
	}
	return c.Get("Sec-Fetch-Site") == "same-origin"
}

// cookie has the port in its name, since browsers keep no ports apart, and goes
// to the interface only.
func (s *Server) cookie() string {
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(s.origin, "http://"))
	return "earlybench-" + port
}

func (s *Server) signedIn(c fiber.Ctx) bool {
	secret := c.Cookies(s.cookie())
	return secret != "" && s.Store.HasSession(c.Context(), digest(secret), s.Clock.Now())
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Offer makes a one-time address that signs a browser in. Its secret stands in
// the fragment, which browsers do not send.
func (s *Server) Offer() string {
	secret := rand.Text()
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	for d, end := range s.offered {
		if now.After(end) {
			delete(s.offered, d)
		}
	}
	s.offered[digest(secret)] = now.Add(offerGood)
	return s.origin + "/#sign-in=" + secret
}

// take uses a one-time secret up.
func (s *Server) take(secret string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	end, ok := s.offered[digest(secret)]
	delete(s.offered, digest(secret))
	return ok && s.Clock.Now().Before(end)
}

type signIn struct {
	Body struct {
		Secret string `json:"secret" maxLength:"100"`
	}
}

type signedIn struct {
	Cookie string `header:"Set-Cookie"`
}

func (s *Server) signIn(ctx context.Context, in *signIn) (*signedIn, error) {
	if !s.take(in.Body.Secret) {
		return nil, huma.Error403Forbidden("This sign-in address was used already, or has ended. Ask for another: earlybench console.")
	}
	secret := rand.Text()
	now := s.Clock.Now()
	if err := s.Store.SaveSession(ctx, digest(secret), now, now.Add(sessionGood)); err != nil {
		return nil, problem(err)
	}
	return &signedIn{Cookie: s.cookie() + "=" + secret + "; Path=/api; HttpOnly; SameSite=Strict; Max-Age=2592000"}, nil
}

func (s *Server) signOut(ctx context.Context, in *struct {
	Cookie string `header:"Cookie"`
}) (*signedIn, error) {
	for part := range strings.SplitSeq(in.Cookie, ";") {
		if name, secret, ok := strings.Cut(strings.TrimSpace(part), "="); ok && name == s.cookie() {
			if err := s.Store.DropSession(ctx, digest(secret)); err != nil {
				return nil, problem(err)
			}
		}
	}
	return &signedIn{Cookie: s.cookie() + "=; Path=/api; HttpOnly; SameSite=Strict; Max-Age=0"}, nil
}

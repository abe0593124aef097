package web

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/plain"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

const (
	offerGood = time.Hour // how long a sign-in address waits
)

// policy is the Content-Security-Policy of the console: everything comes from the service
// itself, except the hands pages of stand-ins on the rack in a frame.
func (s *Server) policy() string {
	frames := []string{}
	for _, k := range s.Rack.All() {
		if u, err := url.Parse(k.Device().HandsURL); err == nil && u.Host != "" {
			frames = append(frames, u.Scheme+"://"+u.Host)
		}
	}
	slices.Sort(frames)
	from := "'none'"
	if frames = slices.Compact(frames); len(frames) > 0 {
		from = strings.Join(frames[:min(len(frames), mostFrames)], " ")
	}
	return "default-src 'self'; img-src 'self' data:; frame-src " + from + "; frame-ancestors 'none'; base-uri 'none'; form-action 'none'; object-src 'none'"
}

// mostFrames is how many origins of hands pages a header names; all stand-ins of a demo have one.
const mostFrames = 8

// guard finds out who sends a request. On the Unix socket that is the bench's owner, or the
// holder of the access key in the request. On TCP the Host header must be ours, against DNS
// rebinding; there it is the holder of an access key, or a browser that is signed in, whose
// writes must come from our own pages. What each may do depends on the right that an
// operation declares.
func (s *Server) guard(c fiber.Ctx) error {
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	} else {
		c.Set("Content-Security-Policy", s.policy())
	}
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	if httpd.Coded(c) {
		return answer(c, &client.Problem{Status: fiber.StatusUnsupportedMediaType, Detail: "This bench does not accept compressed requests.", Remedy: "Send it without Content-Encoding."})
	}
	switch key, has := bearer(c); {
	case overSocket(c) && has:
		return s.byKey(c, key)
	case overSocket(c):
		act(c, access.Owner(s.Owner))
		return c.Next()
	}
	if p := s.personalAt(c); p != nil {
		return s.guardPersonal(c, p)
	}
	if p, ok := s.ofPhone(c); ok {
		return s.guardPhone(c, p)
	}
	own := "http://"+c.Host() == s.origin
	if !own && c.Host() != s.address {
		return s.elsewhere(c)
	}
	if key, has := bearer(c); has { // no browser adds that by itself, so its origin tells nothing
		return s.byKey(c, key)
	}
	if !own && !strings.HasPrefix(c.Path(), calendarPath) { // calendar programs bring the secret of its address
		return s.elsewhere(c)
	}
	read := c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead
	if !read && !s.ownPage(c) {
		return answer(c, &client.Problem{Status: fiber.StatusForbidden, Detail: "Only the bench's own pages may make changes here."})
	}
	switch in, err := s.signedIn(c); {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return asFiber(c, err)
	case confirmed(in, s.Clock.Now()):
		act(c, access.Confirmed(s.Owner))
	case s.Clock.Now().Sub(in.Created).Abs() < freshFor:
		act(c, access.JustSignedIn(s.Owner))
	default:
		act(c, access.Browser(s.Owner))
	}
	return c.Next()
}

// freshFor is how long after its sign-in a browser may install drivers and pin keys without asking the
// owner again: the address that signed it in came from the owner's terminal.
const freshFor = time.Hour

// elsewhere answers browsers under other names than the console's. It does not tell that name: cookies
// do not keep ports apart (RFC 6265, section 8.5), so that a page of another program under the same
// name would get the browser's session.
func (s *Server) elsewhere(c fiber.Ctx) error {
	const detail, remedy = "The console of this bench only answers under its own address.", "Run earlybench console on this computer, and open the address that it prints."
	if strings.HasPrefix(c.Path(), "/api/") || c.Method() != fiber.MethodGet {
		return answer(c, &client.Problem{Status: fiber.StatusMisdirectedRequest, Kind: string(eb.Refused), Detail: detail, Remedy: remedy + " Programs send an access key."})
	}
	c.Status(fiber.StatusMisdirectedRequest)
	c.Set(fiber.HeaderContentType, "text/plain; charset=utf-8")
	return c.SendString(detail + "\n" + remedy + "\n\nIf your browser does not find that address, add a line to the hosts file of this computer:\n127.0.0.1, and the name between http:// and the port.\n")
}

// bearer returns the access key in a request (RFC 6750, section 2.1).
func bearer(c fiber.Ctx) (key string, has bool) {
	return strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer ")
}

// byKey handles a request of the holder of an access key.
func (s *Server) byKey(c fiber.Ctx, key string) error {
	a, err := s.Access.Check(c.Context(), key)
	if err != nil {
		if eb.KindOf(err) == eb.Refused {
			return answer(c, &client.Problem{Status: fiber.StatusUnauthorized, Kind: string(eb.Refused), Detail: sentence(err.Error()), Remedy: "Ask the bench's owner for one: earlybench access add NAME."})
		}
		return asFiber(c, err)
	}
	act(c, a)
	return c.Next()
}

type actorLocal struct{}

// act sets the actor on whose behalf a request is handled.
func act(c fiber.Ctx, a access.Actor) { c.Locals(actorLocal{}, a) }

func actorOf(c fiber.Ctx) access.Actor {
	a, _ := c.Locals(actorLocal{}).(access.Actor)
	return a
}

// rightKey is the metadata key with which an operation declares its right.
const rightKey = "right"

// called are the names of the kinds of actors in messages.
var called = map[string]string{access.OwnerKind: "the owner", access.BrowserKind: "a browser", access.PhoneKind: "a phone's page", access.KeyKind: "this access key"}

// refused is the error for a missing right.
func refused(a access.Actor, right access.Right) error {
	remedy := "Use the earlybench command on the bench's computer."
	switch a.Kind {
	case access.BrowserKind:
		remedy = "Ask for the owner's confirmation on the page Bench."
		if right == access.Install {
			remedy = "This browser was signed in more than an hour ago: sign in again with earlybench console, or ask for the owner's confirmation on the page Bench."
		}
	case access.KeyKind:
		remedy = "The bench's owner can make keys with other rights: earlybench access add NAME --may RIGHT. A person gives consent in a browser or with the command there."
	}
	return &eb.Problem{Kind: eb.Refused, Text: fmt.Sprintf("This needs the right %s, which %s does not have.", right, called[a.Kind]), Remedy: remedy}
}

// allowed lets requests through whose actor has a right, and records every write.
func (s *Server) allowed(right access.Right, operation string, next fiber.Handler) fiber.Handler {
	return func(c fiber.Ctx) error {
		a := actorOf(c)
		switch {
		case right == nobody:
			return next(c)
		case a.Kind == "":
			return answer(c, &client.Problem{Status: fiber.StatusUnauthorized, Kind: string(eb.Refused), Detail: "This browser is not signed in.",
				Remedy: "Get a sign-in address on the bench's computer: earlybench console."})
		case !a.May(right):
			return asFiber(c, refused(a, right))
		case operation != "bench" && !s.awaitReady():
			return answer(c, &client.Problem{Status: fiber.StatusServiceUnavailable, Kind: string(eb.Unavailable), Detail: "The bench is still reading its records.", Remedy: "Try again in a moment."})
		}
		if err := s.inScope(c, a, operation); err != nil { // which needs to know the devices
			return asFiber(c, err)
		}
		if c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead {
			return next(c)
		}
		if id := strings.Clone(c.Get(reservationHeader)); id != "" {
			if err := s.Reserve.Under(id, a.String()); err != nil {
				return asFiber(c, err)
			}
			c.SetContext(job.Reserved(c.Context(), id))
		}
		if operation == heardOperation { // it is asked every few seconds, and changes nothing that is on record
			return next(c)
		}
		failed := func(err error) {
			s.Log.Error("write the audit", "actor", a.String(), "operation", operation, "error", err)
		}
		id := s.Store.BeginAudit(store.AuditLine{At: s.Clock.Now(), Actor: a.String(), Operation: operation, Subject: strings.TrimPrefix(strings.Clone(c.Path()), "/api/v1")}, failed)
		err := s.once(c, a, operation, next)
		s.Store.EndAudit(id, c.Response().StatusCode(), failed)
		return err
	}
}

// readyWithin is how long a request waits for the records to be read.
const readyWithin = 20 * time.Second

// awaitReady waits until all records were read; false if that takes too long.
func (s *Server) awaitReady() bool {
	select {
	case <-s.Ready:
		return true
	default:
	}
	select {
	case <-s.Ready:
		return true
	case <-s.ctx.Done():
	case <-time.After(readyWithin):
	}
	return false
}

// raw registers an address that is not part of the described interface.
func (s *Server) raw(path string, right access.Right, handler fiber.Handler) {
	s.app.Get(path, s.allowed(right, path, handler))
}

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

// cookie is the name of the session cookie. It contains the port, since cookies do not
// distinguish ports (RFC 6265, section 8.5).
func (s *Server) cookie() string {
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(s.origin, "http://"))
	return "earlybench-" + port
}

// signedIn returns the session of the browser that asks; [store.ErrNotFound] for none.
func (s *Server) signedIn(c fiber.Ctx) (store.Session, error) {
	secret := c.Cookies(s.cookie())
	if secret == "" {
		return store.Session{}, store.ErrNotFound
	}
	return s.Store.SessionBy(c.Context(), digest(secret), s.Clock.Now())
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Offer makes a one-time address that signs a browser in. The secret is in the fragment,
// which browsers do not send.
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

// take uses up a one-time secret.
func (s *Server) take(secret string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	end, ok := s.offered[digest(secret)]
	delete(s.offered, digest(secret))
	return ok && s.Clock.Now().Before(end)
}

type signIn struct {
	Agent string `header:"User-Agent"`
	Body  struct {
		Secret string `json:"secret" maxLength:"100"`
	}
}

type signedIn struct {
	Cookie string `header:"Set-Cookie"`
}

func (s *Server) signIn(ctx context.Context, in *signIn) (*signedIn, error) {
	if !s.take(in.Body.Secret) {
		return nil, huma.Error403Forbidden("This sign-in address was already used, or has expired. Get a new one: earlybench console.")
	}
	secret := rand.Text()
	now := s.Clock.Now()
	session := store.Session{Secret: digest(secret), Agent: plain.Cut(plain.Line(in.Agent), 200), Created: now, Ends: now.Add(store.SessionIdle)}
	if err := s.Store.SaveSession(ctx, session); err != nil {
		return nil, problem(err)
	}
	return &signedIn{Cookie: s.cookie() + "=" + secret + "; Path=/api; HttpOnly; SameSite=Strict; Max-Age=2592000"}, nil
}

func (s *Server) signOut(ctx context.Context, in *struct {
	Cookie string `header:"Cookie"`
}) (*signedIn, error) {
	if secret := s.cookieDigest(in.Cookie); secret != "" {
		if err := s.Store.DropSession(ctx, secret); err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, problem(err)
		}
	}
	return &signedIn{Cookie: s.cookie() + "=; Path=/api; HttpOnly; SameSite=Strict; Max-Age=0"}, nil
}

// cookieDigest is the digest of the session's secret among cookies; "" for none.
func (s *Server) cookieDigest(cookies string) string {
	for part := range strings.SplitSeq(cookies, ";") {
		if name, secret, ok := strings.Cut(strings.TrimSpace(part), "="); ok && name == s.cookie() {
			return digest(secret)
		}
	}
	return ""
}

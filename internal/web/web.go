// Package web is the bench's HTTP interface and serves the console. It handles requests,
// rights and answers; what is done is in the use cases.
package web

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/adapters"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/backup"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/computer"
	"earlybench.invalid/earlybench/internal/depot"
	"earlybench.invalid/earlybench/internal/endings"
	"earlybench.invalid/earlybench/internal/kitfetch"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/lend"
	"earlybench.invalid/earlybench/internal/library"
	"earlybench.invalid/earlybench/internal/network"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/prep"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/reserve"
	"earlybench.invalid/earlybench/internal/retire"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/supply"
	"earlybench.invalid/earlybench/internal/tidy"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

// Version is the version of the program.
const Version = "0.10"

// Config is what the interface needs. All fields are needed but Heartbeat and SentWithin.
type Config struct {
	Store         *store.Store
	Files         store.Files
	Rack          *rack.Rack
	Outlook       *outlook.Outlook
	Access        *access.Keys
	Hosts         *bus.Hosts
	Peers         *peer.Peers
	Lend          *lend.Lend
	Signing       *signing.Signing
	KitFetch      *kitfetch.Fetching
	Reserve       *reserve.Reserve
	Network       network.Network
	Companions    network.Companions
	Introductions network.Introductions
	Servers       network.Servers
	Adapters      adapters.Adapters
	Computer      *computer.Computer
	Checker       *computer.Checker
	Jobs          *job.Runner
	Supply        *supply.Supply
	Depots        *depot.Depots
	Kits          *kits.Kits
	Safe          *safe.Safe
	Authorities   *authority.Authorities
	Belong        *belong.Belong
	Statements    *statements.Statements
	Endings       *endings.Endings
	Tidy          *tidy.Tidy
	Backups       *backup.Backups
	Prep          *prep.Prep
	Sheets        *library.Library
	Retire        *retire.Retire
	Tryouts       *tryout.Tryouts
	Clock         clock.Clock
	Key           ssh.PublicKey
	Bench         func() string                       // its name
	Rename        func(context.Context, string) error // gives it another
	ID            string
	Host          string // the name under which browsers reach it; "" for the listener's address
	Owner         string // the person whose words are taken down
	Console       fs.FS  // the built console
	Log           *slog.Logger
	Ready         <-chan struct{} // closed once all on record was read; until then only the bench itself answers
	// Heartbeat is how often a reader hears something, so that one who has left is noticed; 0: every 10
	// seconds. SentWithin is how long an answer may take that is not read; 0: a minute. Streams have a
	// deadline of their own for each message.
	Heartbeat, SentWithin time.Duration
}

// Server is the running interface. It is made by New, given listeners by Serve,
// and ends with Close.
type Server struct {
	Config
	app     *fiber.App
	api     huma.API
	address string // of the TCP listener, such as 127.0.0.1:7420
	origin  string // of the console, such as http://bench-k3x.localhost:7420

	ctx    context.Context // ends the streams
	cancel context.CancelFunc
	served sync.WaitGroup

	mu        sync.Mutex
	listeners []net.Listener
	servers   []*fasthttp.Server
	phone     *phone // the page for a phone that is served; nil for none
	personals []*personal
	racks     racks
	feed      feed
	feeding   sync.Once
	doing     map[string]chan struct{} // requests that are to be done once, and are being done
	offered   map[string]time.Time     // digests of one-time sign-in secrets, and their ends
	asking    map[string]request       // browsers that wait for the owner's confirmation, by their codes
}

// New makes the interface; address is that of the TCP listener, which the
// sign-in addresses name.
func New(cfg Config, address string) *Server {
	cfg.Heartbeat, cfg.SentWithin = cmp.Or(cfg.Heartbeat, heartbeat), cmp.Or(cfg.SentWithin, time.Minute)
	s := &Server{Config: cfg, address: address, origin: "http://" + address, offered: map[string]time.Time{}, asking: map[string]request{}, doing: map[string]chan struct{}{}}
	if _, port, err := net.SplitHostPort(address); err == nil && cfg.Host != "" {
		s.origin = "http://" + net.JoinHostPort(cfg.Host, port)
	}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	s.feed = feed{store: cfg.Store, log: cfg.Log, followers: map[*following]struct{}{}}
	// An address has only one spelling, since the guard depends on it.
	s.app = fiber.New(fiber.Config{AppName: "Early Bench", ErrorHandler: fiberError, CaseSensitive: true, StrictRouting: true})
	s.app.Use(s.guard)
	s.routes()
	s.raw("/api/v1/events", access.Look, s.events)
	s.raw("/api/v1/devices/:handle/log", access.Look, s.log)
	s.raw("/api/v1/devices/:handle/screen", access.Look, s.screen)
	s.raw("/api/v1/devices/:handle/ports/:port", access.Use, s.port)
	s.raw("/api/*", access.Look, func(fiber.Ctx) error { return fiber.NewError(fiber.StatusNotFound, "there is nothing at this address") })
	s.app.Get("/*", s.console)
	return s
}

// Connections at once, for each listener.
const (
	mostConns      = 600
	mostPhoneConns = 48
)

// Serve answers on a listener until Close. On a Unix socket, whoever can reach
// it is the bench's owner.
func (s *Server) Serve(l net.Listener) {
	s.feeding.Do(func() {
		s.feed.begin(s.ctx)
		s.served.Go(func() { s.feed.run(s.ctx) })
		s.personalsAgain()
	})
	s.serve(l, mostConns)
}

func (s *Server) serve(l net.Listener, conns int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.serveLocked(l, conns)
}

func (s *Server) serveLocked(l net.Listener, conns int) {
	owners := l.Addr().Network() == "unix" // only the bench's owner reaches the socket
	server := httpd.New(s.app.Handler(), httpd.Limits{Connections: conns, SentWithin: s.SentWithin, Known: func(h *fasthttp.RequestHeader) bool {
		return owners || len(h.Peek(fiber.HeaderAuthorization)) > 0 || len(h.Cookie(s.cookie())) > 0 || len(h.Cookie(phoneName)) > 0
	}})
	s.listeners, s.servers = append(s.listeners, l), append(s.servers, server)
	s.served.Go(func() {
		if err := server.Serve(l); err != nil && s.ctx.Err() == nil {
			s.Log.Error("serve", "address", l.Addr().String(), "error", err)
		}
	})
}

// endWithin is how long requests get to end by themselves.
const endWithin = 300 * time.Millisecond

// Close ends streams, lets requests end, and waits.
func (s *Server) Close() error {
	s.cancel()
	s.mu.Lock()
	for _, l := range s.listeners { // one that is not served yet would be served for ever
		l.Close()
	}
	servers := s.servers
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), endWithin)
	defer cancel()
	var ending errgroup.Group
	for _, server := range servers {
		ending.Go(func() error { return server.ShutdownWithContext(ctx) })
	}
	err := ending.Wait()
	if errors.Is(err, context.DeadlineExceeded) {
		return nil // whoever still talks is cut off with the process
	}
	s.served.Wait()
	if errors.Is(err, net.ErrClosed) { // the listeners, by us
		err = nil
	}
	return err
}

// OpenAPI is the document of the interface, OpenAPI 3.1 as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

// fiberError answers what no operation has answered.
func fiberError(c fiber.Ctx, err error) error {
	p := &client.Problem{Status: fiber.StatusInternalServerError, Detail: err.Error()}
	if fe, ok := errors.AsType[*fiber.Error](err); ok {
		p.Status = fe.Code
	}
	return answer(c, p)
}

func answer(c fiber.Ctx, p *client.Problem) error {
	p.Title = fasthttp.StatusMessage(p.Status)
	if err := c.Status(p.Status).JSON(p); err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/problem+json")
	return nil
}

func init() {
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		if message == "validation failed" {
			message = "The request does not have the expected form."
		}
		p := &client.Problem{Status: status, Title: fasthttp.StatusMessage(status), Detail: message}
		for _, e := range errs {
			var d *huma.ErrorDetail
			if errors.As(e, &d) {
				p.Errors = append(p.Errors, client.Invalid{Message: d.Message, Location: d.Location})
			} else if e != nil {
				p.Errors = append(p.Errors, client.Invalid{Message: e.Error()})
			}
		}
		return p
	}
}

// statuses are the HTTP status codes of the kinds of problems.
var statuses = map[eb.Kind]int{eb.Blocked: 409, eb.Person: 409, eb.Taken: 409, eb.Unsupported: 409, eb.Refused: 403, eb.NotFound: 404, eb.Changed: 412,
	eb.Invalid: 422, eb.Gone: 503, eb.Unavailable: 503, eb.Failed: 500}

// problem makes of an error the answer that fits it; all that matters is its kind.
func problem(err error) error {
	if err == nil {
		return nil
	}
	if shown, ok := err.(*client.Problem); ok {
		return shown
	}
	of := eb.Of(err)
	p := &client.Problem{Status: statuses[of.Kind], Detail: sentence(of.Text), Kind: string(of.Kind), Gate: of.Gate, Remedy: of.Remedy}
	p.Title = fasthttp.StatusMessage(p.Status)
	return p
}

// sentence ends s with a full stop, and begins it with a capital unless it
// begins with a handle or an id.
func sentence(s string) string {
	if s == "" {
		return s
	}
	if first, _, _ := strings.Cut(s, " "); !strings.ContainsAny(first, "0123456789/-_.") {
		s = strings.ToUpper(s[:1]) + s[1:]
	}
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}

// console serves the built console; paths that are no file are its pages.
func (s *Server) console(c fiber.Ctx) error {
	name := strings.TrimPrefix(c.Path(), "/")
	if name == "" || !fs.ValidPath(name) {
		name = "index.html"
	}
	data, err := fs.ReadFile(s.Console, name)
	if err != nil {
		if strings.HasPrefix(name, "assets/") {
			return fiber.NewError(fiber.StatusNotFound, "there is no such file")
		}
		name = "index.html"
		if data, err = fs.ReadFile(s.Console, name); err != nil {
			return fiber.NewError(fiber.StatusNotFound, "this build has no console: build it with make build")
		}
	}
	c.Type(name[strings.LastIndexByte(name, '.')+1:], "utf-8")
	if strings.HasPrefix(name, "assets/") {
		c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable")
	} else {
		c.Set(fiber.HeaderCacheControl, "no-cache")
	}
	return c.Send(data)
}

// Address is where the console is.
func (s *Server) Address() string { return "http://" + s.address }

func required(name, value string) error {
	if strings.TrimSpace(value) == "" {
		return eb.Errorf(eb.Invalid, "%s is empty", name)
	}
	return nil
}

// Route is an address at which the interface answers.
type Route struct{ Method, Path string }

// Routes are all of them, for tests and docs; HEAD, which goes as GET, is left out.
func (s *Server) Routes() []Route {
	var out []Route
	for _, r := range s.app.GetRoutes(true) {
		if r.Method != fiber.MethodHead {
			out = append(out, Route{r.Method, r.Path})
		}
	}
	return out
}

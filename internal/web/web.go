// Package web is the bench's HTTP interface and the console's server: what is
// asked, by whom, and how it is answered. What is done is the use cases' matter.
package web

import (
	"context"
	"errors"
	"fmt"
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

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/host"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/library"
	"earlybench.invalid/earlybench/internal/prep"
	"earlybench.invalid/earlybench/internal/retire"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/supply"
	"earlybench.invalid/earlybench/internal/tryout"
)

// Version is the program's.
const Version = "0.1.0"

// Config is what the interface speaks for. All fields are needed.
type Config struct {
	Store   *store.Store
	Files   store.Files
	Rack    *keeper.Rack
	Hosts   *host.Hosts
	Jobs    *job.Runner
	Supply  *supply.Supply
	Prep    *prep.Prep
	Sheets  *library.Library
	Retire  *retire.Retire
	Tryouts *tryout.Tryouts
	Clock   clock.Clock
	Key     ssh.PublicKey
	Bench   string
	ID      string
	Owner   string // the person whose words are taken down
	Console fs.FS  // the built console
	Log     *slog.Logger
}

// Server is the running interface. It is made by New, given listeners by Serve,
// and ends with Close.
type Server struct {
	Config
	app    *fiber.App
	api    huma.API
	http   *fasthttp.Server
	origin string // of the TCP listener, such as http://127.0.0.1:7420

	ctx    context.Context // ends the streams
	cancel context.CancelFunc
	served sync.WaitGroup

	mu      sync.Mutex
	phone   *phone               // the page for a phone that is served; nil for none
	offered map[string]time.Time // digests of one-time sign-in secrets, and their ends
}

// maxBody bounds what is sent to the interface, in bytes.
const maxBody = 64 << 20

// New makes the interface; address is that of the TCP listener, which the
// sign-in addresses name.
func New(cfg Config, address string) *Server {
	s := &Server{Config: cfg, origin: "http://" + address, offered: map[string]time.Time{}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	// An address has one spelling only: the guard goes by it.
	s.app = fiber.New(fiber.Config{AppName: "Early Bench", BodyLimit: maxBody, ErrorHandler: fiberError, CaseSensitive: true, StrictRouting: true})
	s.app.Use(s.guard)
	s.routes()
	s.app.Get("/api/v1/events", s.events)
	s.app.Get("/api/v1/devices/:handle/log", s.log)
	s.app.Get("/api/v1/devices/:handle/screen", s.screen)
	s.app.Get("/api/*", func(fiber.Ctx) error { return fiber.NewError(fiber.StatusNotFound, "there is nothing at this address") })
	s.app.Get("/*", s.console)
	s.http = &fasthttp.Server{Handler: s.app.Handler(), NoDefaultServerHeader: true, MaxRequestBodySize: maxBody,
		ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, Logger: quiet{}}
	return s
}

// quiet drops the server's own talk: errors of single connections.
type quiet struct{}

func (quiet) Printf(string, ...any) {}

// Serve answers on a listener until Close. On a Unix socket, whoever can reach
// it is the bench's owner.
func (s *Server) Serve(l net.Listener) {
	s.served.Go(func() {
		if err := s.http.Serve(l); err != nil {
			s.Log.Error("serve", "address", l.Addr().String(), "error", err)
		}
	})
}

// endWithin is how long requests get to end by themselves.
const endWithin = 300 * time.Millisecond

// Close ends streams, lets requests end, and waits.
func (s *Server) Close() error {
	s.cancel()
	ctx, cancel := context.WithTimeout(context.Background(), endWithin)
	defer cancel()
	err := s.http.ShutdownWithContext(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		return nil // whoever still talks is cut off with the process
	}
	s.served.Wait()
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

// problem makes of an error the answer that fits it.
func problem(err error) error {
	if err == nil {
		return nil
	}
	p := &client.Problem{Status: 500, Detail: sentence(err.Error())}
	if j, ok := errors.AsType[*job.Problem](err); ok {
		p.Detail, p.Kind, p.Gate, p.Remedy = j.Text, j.Kind, j.Gate, j.Remedy
		p.Status = map[string]int{job.Blocked: 409, job.Person: 409, job.Refused: 403, job.Gone: 503}[j.Kind]
	}
	switch {
	case p.Status == 0:
		p.Status = 500
	case errors.Is(err, store.ErrNotFound):
		p.Status = 404
	case errors.Is(err, store.ErrTaken):
		p.Status = 409
	case errors.Is(err, keeper.ErrBad), errors.Is(err, supply.ErrRefused), errors.Is(err, tryout.ErrRefused), errors.Is(err, library.ErrShipped):
		p.Status = 422
	}
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
func (s *Server) Address() string { return s.origin }

func required(name, value string) error {
	if strings.TrimSpace(value) == "" {
		return fmt.Errorf("%s is empty: %w", name, keeper.ErrBad)
	}
	return nil
}

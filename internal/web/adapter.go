package web

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

// adapter lets huma register its operations on Fiber 3.
type adapter struct{ server *Server }

// Handle registers an operation for callers who have its right; {name} in a path becomes
// Fiber's :name.
func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	right, declared := op.Metadata[rightKey].(access.Right)
	if !declared && op.OperationID != "" {
		panic("operation " + op.OperationID + " declares no right")
	}
	if op.OperationID == "" { // huma's own: the descriptions, which it makes at the first request without a lock
		made, own := new(sync.Mutex), handler
		handler = func(c huma.Context) {
			made.Lock()
			defer made.Unlock()
			own(c)
		}
	}
	most := cmp.Or(op.MaxBodyBytes, httpd.UsualBody)
	a.server.app.Add([]string{op.Method}, path, a.server.allowed(right, op.OperationID, func(c fiber.Ctx) error {
		if int64(c.Request().Header.ContentLength()) > most {
			return answer(c, &client.Problem{Status: fiber.StatusRequestEntityTooLarge, Kind: string(eb.Invalid), Detail: fmt.Sprintf("The request is too large: at most %d bytes are read here.", most)})
		}
		handler(&exchange{op: op, c: c})
		return nil
	}))
}

// ServeHTTP is for tests of huma's that are not made here.
func (a adapter) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	http.Error(w, "use the service's listener", http.StatusNotImplemented)
}

// exchange is one request and its answer, as huma sees them.
type exchange struct {
	op     *huma.Operation
	c      fiber.Ctx
	status int
}

func (e *exchange) Operation() *huma.Operation { return e.op }
func (e *exchange) Context() context.Context   { return access.With(e.c.Context(), actorOf(e.c)) }
func (e *exchange) TLS() *tls.ConnectionState  { return e.c.RequestCtx().TLSConnectionState() }
func (e *exchange) Version() huma.ProtoVersion { return huma.ProtoVersion{Proto: e.c.Protocol()} }
func (e *exchange) Method() string             { return e.c.Method() }
func (e *exchange) Host() string               { return e.c.Host() }
func (e *exchange) RemoteAddr() string         { return e.c.RequestCtx().RemoteAddr().String() }
func (e *exchange) Query(name string) string   { return strings.Clone(e.c.Query(name)) }
func (e *exchange) Header(name string) string  { return strings.Clone(e.c.Get(name)) }

func (e *exchange) URL() url.URL {
	u, err := url.Parse(string(e.c.Request().RequestURI()))
	if err != nil {
		return url.URL{}
	}
	return *u
}

func (e *exchange) Param(name string) string {
	s, err := url.PathUnescape(e.c.Params(name))
	if err != nil {
		return strings.Clone(e.c.Params(name))
	}
	return strings.Clone(s)
}

func (e *exchange) EachHeader(cb func(name, value string)) {
	for k, v := range e.c.Request().Header.All() {
		cb(string(k), string(v))
	}
}

func (e *exchange) BodyReader() io.Reader { return httpd.Body(e.c) }
func (e *exchange) GetMultipartForm() (*multipart.Form, error) {
	return e.c.MultipartForm()
}
func (e *exchange) SetReadDeadline(t time.Time) error {
	return e.c.RequestCtx().Conn().SetReadDeadline(t)
}
func (e *exchange) SetStatus(code int)              { e.status = code; e.c.Status(code) }
func (e *exchange) Status() int                     { return e.status }
func (e *exchange) SetHeader(name, value string)    { e.c.Set(name, value) }
func (e *exchange) AppendHeader(name, value string) { e.c.Append(name, value) }
func (e *exchange) BodyWriter() io.Writer           { return e.c.RequestCtx() }

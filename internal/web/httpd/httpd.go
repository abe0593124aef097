// Package httpd holds the HTTP servers of the bench's listeners, and what a connection may cost before
// anybody is known on it.
package httpd

import (
	"bytes"
	"errors"
	"io"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"earlybench.invalid/earlybench/core/defect"
)

// How large a request's body may be, in bytes. Bodies are read only by the operation that wants them, up to
// its own limit.
const (
	MaxBody     = 64 << 20 // of a driver set, the largest that is sent here
	UsualBody   = 1 << 20  // unless its operation says otherwise
	UnknownBody = 1 << 10  // of somebody who is not known yet
)

const (
	headBytes  = 16 << 10         // of a request's line and headers: browsers send the cookies of other servers of this computer along
	readWithin = 10 * time.Second // a request's headers, and its body unless an operation gives it longer
	idleWithin = 2 * time.Minute  // between two requests
)

// Limits are those of the connections of one listener.
type Limits struct {
	Connections int                                // at once, so that those of one listener leave others alone
	SentWithin  time.Duration                      // an answer is sent, or the connection is closed
	Known       func(*fasthttp.RequestHeader) bool // whether a request comes from somebody who seems to be known
}

// New makes the HTTP server of one listener.
func New(handle fasthttp.RequestHandler, l Limits) *fasthttp.Server {
	return &fasthttp.Server{
		Handler: func(ctx *fasthttp.RequestCtx) {
			if defect.Contain("the answer to a request", func() error { handle(ctx); return nil }) != nil {
				ctx.ResetBody()
				ctx.Error(`{"title":"Internal Server Error","status":500,"kind":"failed","detail":"An error in the program ended this request.","remedy":"Run earlybench host check, and report what it says to the developers of this program."}`, fasthttp.StatusInternalServerError)
				ctx.SetContentType("application/problem+json")
			}
			if unread(ctx) {
				ctx.Response.Header.SetConnectionClose()
			}
		},
		HeaderReceived: func(h *fasthttp.RequestHeader) fasthttp.RequestConfig {
			if l.Known(h) {
				return fasthttp.RequestConfig{}
			}
			return fasthttp.RequestConfig{MaxRequestBodySize: UnknownBody} // refused before any of it is waited for
		},
		NoDefaultServerHeader: true, MaxRequestBodySize: MaxBody, StreamRequestBody: true, DisablePreParseMultipartForm: true, ReadBufferSize: headBytes,
		ReadTimeout: readWithin, WriteTimeout: l.SentWithin, IdleTimeout: idleWithin, Concurrency: l.Connections, Logger: quiet{}}
}

// quiet drops the log of the HTTP server: errors of single connections.
type quiet struct{}

func (quiet) Printf(string, ...any) {}

// unread reports whether something of a request's body was not read, so that the next request on the
// connection would begin in the middle of it.
func unread(ctx *fasthttp.RequestCtx) bool {
	body := ctx.RequestBodyStream()
	if body == nil {
		return false
	}
	if ctx.Conn().SetReadDeadline(time.Now()) != nil {
		return true
	}
	n, err := body.Read(make([]byte, 1))
	return n > 0 || !errors.Is(err, io.EOF)
}

// Body is the body of a request, which is read as it comes.
func Body(c fiber.Ctx) io.Reader {
	if body := c.Request().BodyStream(); body != nil {
		return body
	}
	return bytes.NewReader(c.Request().Body())
}

// WholeBody reads a body of up to most bytes, and leaves it to be read again. A larger one is answered with 413, an
// incomplete one with 408 (RFC 9110, sections 15.5.14 and 15.5.9).
func WholeBody(c fiber.Ctx, most int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(Body(c), most+1))
	if err != nil {
		return nil, fiber.NewError(fiber.StatusRequestTimeout, "the request's body is incomplete")
	}
	if int64(len(raw)) > most {
		return nil, fiber.ErrRequestEntityTooLarge
	}
	c.Request().SetBodyRaw(raw)
	return raw, nil
}

// Coded reports whether a body is compressed: how large it is is not known before it is unpacked.
func Coded(c fiber.Ctx) bool {
	coding := c.Get(fiber.HeaderContentEncoding)
	return coding != "" && coding != "identity"
}

package web

import (
	"bytes"
	"errors"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/defect"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// What a connection may cost before anybody is known on it. Bodies are read only by the operation that
// wants them, up to its own limit.
const (
	maxBody     = 64 << 20         // of a driver set, the largest that is sent here, in bytes
	usualBody   = 1 << 20          // of a request, unless its operation says otherwise
	unknownBody = 1 << 10          // of a request of somebody who is not known yet
	headBytes   = 16 << 10         // of a request's line and headers: browsers send the cookies of other servers of this computer along
	readWithin  = 10 * time.Second // a request's headers, and its body unless an operation gives it longer
	idleWithin  = 2 * time.Minute  // between two requests
	// Connections at once, for each listener, so that those of one leave others alone.
	mostConns      = 600
	mostPhoneConns = 48
)

// serverFor makes the HTTP server of one listener, with a limit of connections at once. Only the
// bench's owner reaches the socket.
func (s *Server) serverFor(conns int, owners bool) *fasthttp.Server {
	handle := s.app.Handler()
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
			if owners || len(h.Peek(fiber.HeaderAuthorization)) > 0 || len(h.Cookie(s.cookie())) > 0 || len(h.Cookie(phoneName)) > 0 {
				return fasthttp.RequestConfig{}
			}
			return fasthttp.RequestConfig{MaxRequestBodySize: unknownBody} // refused before any of it is waited for
		},
		NoDefaultServerHeader: true, MaxRequestBodySize: maxBody, StreamRequestBody: true, DisablePreParseMultipartForm: true, ReadBufferSize: headBytes,
		ReadTimeout: readWithin, WriteTimeout: s.SentWithin, IdleTimeout: idleWithin, Concurrency: conns, Logger: quiet{}}
}

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

// bodyOf is the body of a request, which is read as it comes.
func bodyOf(c fiber.Ctx) io.Reader {
	if body := c.Request().BodyStream(); body != nil {
		return body
	}
	return bytes.NewReader(c.Request().Body())
}

// wholeBody reads a body of up to most bytes, and leaves it to be read again.
func wholeBody(c fiber.Ctx, most int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(bodyOf(c), most+1))
	if err != nil {
		return nil, fiber.NewError(fiber.StatusRequestTimeout, "the request's body is incomplete")
	}
	if int64(len(raw)) > most {
		return nil, fiber.ErrRequestEntityTooLarge
	}
	c.Request().SetBodyRaw(raw)
	return raw, nil
}

// coded reports whether a body is compressed: how large it is is not known before it is unpacked.
func coded(c fiber.Ctx) bool {
	coding := c.Get(fiber.HeaderContentEncoding)
	return coding != "" && coding != "identity"
}

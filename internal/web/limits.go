package web

import (
	"bytes"
	"errors"
	"io"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// What a connection may cost before anybody is known on it. Bodies are read only by the operation that
// wants them, up to its own limit (huma: 1 MiB, unless it says more).
const (
	maxBody    = 64 << 20         // of a driver set, the largest that is sent here, in bytes
	headBytes  = 32 << 10         // of a request's line and headers: browsers send the cookies of other servers of this computer along
	readWithin = 10 * time.Second // a request's headers, and its body unless an operation gives it longer
	idleWithin = 2 * time.Minute  // between two requests
	// sentWithin is how long an answer may take that is not read. Streams have a deadline of their own
	// for each message.
	sentWithin = time.Minute
	// Connections at once, for each listener, so that those of one leave others alone.
	mostConns      = 600
	mostPhoneConns = 48
)

// serverFor makes the HTTP server of one listener, for so many connections at once.
func (s *Server) serverFor(conns int) *fasthttp.Server {
	handle := s.app.Handler()
	return &fasthttp.Server{
		Handler: func(ctx *fasthttp.RequestCtx) {
			handle(ctx)
			if unread(ctx) {
				ctx.Response.Header.SetConnectionClose()
			}
		},
		NoDefaultServerHeader: true, MaxRequestBodySize: maxBody, StreamRequestBody: true, DisablePreParseMultipartForm: true, ReadBufferSize: headBytes,
		ReadTimeout: readWithin, WriteTimeout: sentWithin, IdleTimeout: idleWithin, Concurrency: conns, Logger: quiet{}}
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
		return nil, fiber.NewError(fiber.StatusRequestTimeout, "the request's body did not come to its end")
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

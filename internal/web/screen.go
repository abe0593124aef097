package web

import (
	"context"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/internal/access"
)

// screenBytes is how many bytes of a stream go into one message.
const screenBytes = 64 << 10

const (
	openWithin = 10 * time.Second // a device gets to open its screen or a port
	takeWithin = 30 * time.Second // a viewer gets to take one message
)

// screen carries a device's screen (RFB, RFC 6143) over a WebSocket (RFC 6455). Whoever may only look does
// nothing on it.
func (s *Server) screen(c fiber.Ctx) error {
	said := func(stream io.Writer) io.Writer { return stream }
	if !actorOf(c).May(access.Use) {
		said = func(stream io.Writer) io.Writer { return rfb.NewLooking(stream) }
	}
	return s.through(c, func(ctx context.Context, session device.Session) (io.ReadWriteCloser, error) {
		screen, err := session.Screen()
		if err != nil {
			return nil, err
		}
		return screen.Open(ctx)
	}, said)
}

// port carries the bytes of a port of a device, in the same way.
func (s *Server) port(c fiber.Ctx) error {
	name := strings.Clone(c.Params("port"))
	return s.through(c, func(ctx context.Context, session device.Session) (io.ReadWriteCloser, error) {
		ports, err := session.Ports()
		if err != nil {
			return nil, err
		}
		return ports.Dial(ctx, name)
	}, func(stream io.Writer) io.Writer { return stream })
}

// through carries a byte stream of a device over a WebSocket, in binary messages, as long as its link
// is up and the caller's access key is valid. said receives what is sent to the device.
func (s *Server) through(c fiber.Ctx, open func(context.Context, device.Session) (io.ReadWriteCloser, error), said func(io.Writer) io.Writer) error {
	if !websocket.FastHTTPIsWebSocketUpgrade(c.RequestCtx()) {
		return fiber.NewError(fiber.StatusUpgradeRequired, "this address speaks WebSocket only")
	}
	_, session, err := s.session(c)
	if err != nil {
		return asFiber(c, err)
	}
	ctx, cancel := context.WithTimeout(s.ctx, openWithin)
	defer cancel()
	stream, err := open(ctx, session)
	if err != nil {
		return asFiber(c, err)
	}
	actor := actorOf(c)
	up := websocket.FastHTTPUpgrader{ReadBufferSize: 4 << 10, WriteBufferSize: screenBytes, Subprotocols: []string{"binary"}}
	err = s.upgrade(c, up, func(conn *socket) {
		var viewing sync.WaitGroup
		defer viewing.Wait()
		defer conn.cut()
		defer stream.Close()
		good, over := s.whileGood(actor)
		defer over()
		ended := context.AfterFunc(good, func() { stream.Close() })
		defer ended()
		viewing.Go(func() { s.viewed(conn, stream, said(stream)) })
		beating := make(chan struct{})
		viewing.Go(func() { s.beat(conn, beating) })
		defer close(beating)
		carry(conn, stream)
	})
	if err != nil {
		stream.Close()
	}
	return nil // the upgrader has answered
}

// upgrade turns a request into a WebSocket, which ends with the service at the latest. A
// request of a browser must come from one of our own pages (the upgrader compares Origin
// with Host), since browsers send cookies with requests of any page.
func (s *Server) upgrade(c fiber.Ctx, up websocket.FastHTTPUpgrader, serve func(*socket)) error {
	return up.Upgrade(c.RequestCtx(), func(c *websocket.Conn) {
		conn, cutOff := &socket{Conn: c}, make(chan struct{})
		ended := context.AfterFunc(s.ctx, func() { defer close(cutOff); conn.cut() })
		defer func() {
			if !ended() {
				<-cutOff // the connection is not this one any more once its handler has returned
			}
		}()
		serve(conn)
	})
}

// socket is a WebSocket, which may be ended from here.
type socket struct {
	*websocket.Conn

	mu   sync.Mutex
	over bool
}

// cut ends reading and writing before the handler returns, since closing has no effect until then.
func (c *socket) cut() {
	c.mu.Lock()
	c.over = true
	c.mu.Unlock()
	c.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(time.Second)) //nolint:errcheck // the other side may have left
	c.NetConn().SetDeadline(time.Now())                                                                                                 //nolint:errcheck // as above
}

// hears ends reading from a page that has answered no ping for three heartbeats.
func (s *Server) hears(conn *socket) {
	later := func() error {
		conn.mu.Lock()
		defer conn.mu.Unlock()
		if conn.over {
			return net.ErrClosed
		}
		return conn.SetReadDeadline(time.Now().Add(3 * s.Heartbeat))
	}
	later() //nolint:errcheck // the next read tells
	conn.SetPongHandler(func(string) error { return later() })
}

// beat sends pings until done is closed, so that a page that has gone without a word is noticed.
func (s *Server) beat(conn *socket, done <-chan struct{}) {
	t := time.NewTicker(s.Heartbeat)
	defer t.Stop()
	for {
		select {
		case <-done:
			return
		case <-t.C:
			if conn.WriteControl(websocket.PingMessage, nil, time.Now().Add(takeWithin)) != nil {
				return
			}
		}
	}
}

// viewed passes on what a viewer sends, until it ends.
func (s *Server) viewed(conn *socket, stream io.Closer, said io.Writer) {
	defer stream.Close()
	conn.SetReadLimit(screenBytes)
	s.hears(conn)
	for {
		_, message, err := conn.ReadMessage()
		if err != nil {
			return
		}
		if _, err := said.Write(message); err != nil {
			return
		}
	}
}

// carry passes on what the device shows.
func carry(conn *socket, stream io.Reader) {
	buf := make([]byte, screenBytes)
	for {
		n, err := stream.Read(buf)
		if n > 0 {
			conn.SetWriteDeadline(time.Now().Add(takeWithin)) //nolint:errcheck // a failed write tells
			if conn.WriteMessage(websocket.BinaryMessage, buf[:n]) != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

package web

import (
	"io"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// screenBytes is how much of the screen's stream goes into one message.
const screenBytes = 64 << 10

// screen carries a device's screen (RFB, RFC 6143) over a WebSocket (RFC 6455),
// in binary messages, for as long as its link stands.
func (s *Server) screen(c fiber.Ctx) error {
	if !websocket.FastHTTPIsWebSocketUpgrade(c.RequestCtx()) {
		return fiber.NewError(fiber.StatusUpgradeRequired, "this address speaks WebSocket only")
	}
	l, err := s.linked(c)
	if err != nil {
		return asFiber(c, err)
	}
	stream, err := l.Screen()
	if err != nil {
		return asFiber(c, err)
	}
	up := websocket.FastHTTPUpgrader{ReadBufferSize: 4 << 10, WriteBufferSize: screenBytes, Subprotocols: []string{"binary"},
		CheckOrigin: func(*fasthttp.RequestCtx) bool { return s.ownPage(c) }}
	err = up.Upgrade(c.RequestCtx(), func(conn *websocket.Conn) {
		defer conn.Close()
		defer stream.Close()
		go s.viewed(conn, stream)
		carry(conn, stream)
	})
	if err != nil {
		stream.Close()
		return nil // the upgrader has answered
	}
	return nil
}

// viewed passes on what a viewer sends, until it or the service ends.
func (s *Server) viewed(conn *websocket.Conn, stream io.WriteCloser) {
	defer stream.Close()
	conn.SetReadLimit(screenBytes)
	for s.ctx.Err() == nil {
		_, message, err := conn.ReadMessage()
		if err != nil {
			return
		}
		if _, err := stream.Write(message); err != nil {
			return
		}
	}
}

// carry passes on what the device shows.
func carry(conn *websocket.Conn, stream io.Reader) {
	buf := make([]byte, screenBytes)
	for {
		n, err := stream.Read(buf)
		if n > 0 && conn.WriteMessage(websocket.BinaryMessage, buf[:n]) != nil {
			return
		}
		if err != nil {
			return
		}
	}
}

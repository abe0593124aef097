package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/fasthttp/websocket"
)

// Port connects to a port of a device, by its name or number.
func (c *Client) Port(ctx context.Context, handle, port string) (io.ReadWriteCloser, error) {
	return c.stream(ctx, device(handle)+"/ports/"+url.PathEscape(port))
}

// Screen connects to the screen of a device, on which RFB (RFC 6143) is spoken.
func (c *Client) Screen(ctx context.Context, handle string) (io.ReadWriteCloser, error) {
	return c.stream(ctx, device(handle)+"/screen")
}

// stream opens a byte stream that the bench carries over a WebSocket (RFC 6455).
func (c *Client) stream(ctx context.Context, path string) (io.ReadWriteCloser, error) {
	header := http.Header{}
	if c.key != "" {
		header.Set("Authorization", "Bearer "+c.key)
	}
	dialer := websocket.Dialer{NetDialContext: c.dial, Subprotocols: []string{"binary"}}
	conn, res, err := dialer.DialContext(ctx, "ws"+strings.TrimPrefix(c.base, "http")+path, header)
	if err == nil {
		return &stream{conn: conn}, nil
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if res != nil {
		defer res.Body.Close()
		return nil, readProblem(res)
	}
	return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
}

// stream is a WebSocket as a byte stream. One may read and another one write at the same time.
type stream struct {
	conn  *websocket.Conn
	rest  io.Reader // of the message that is being read
	close sync.Once
}

func (s *stream) Read(p []byte) (int, error) {
	for {
		if s.rest == nil {
			_, r, err := s.conn.NextReader()
			if websocket.IsCloseError(err, websocket.CloseNormalClosure, websocket.CloseGoingAway, websocket.CloseAbnormalClosure) {
				return 0, io.EOF
			}
			if err != nil {
				return 0, err
			}
			s.rest = r
		}
		n, err := s.rest.Read(p)
		if err == io.EOF { //nolint:errorlint // the end of a message
			s.rest, err = nil, nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// mostMessage is how many bytes the bench takes in one message.
const mostMessage = 32 << 10

func (s *stream) Write(p []byte) (int, error) {
	written := 0
	for len(p) > 0 {
		n := min(len(p), mostMessage)
		if err := s.conn.WriteMessage(websocket.BinaryMessage, p[:n]); err != nil {
			return written, err
		}
		written += n
		p = p[n:]
	}
	return written, nil
}

func (s *stream) Close() (err error) {
	s.close.Do(func() { err = s.conn.Close() })
	return err
}

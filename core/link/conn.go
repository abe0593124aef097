package link

import (
	"io"
	"net"
	"time"
)

// Conn makes a connection of a stream, so that a link can be set up on it. It has no deadlines: contexts end
// what is done with it.
func Conn(stream io.ReadWriteCloser) net.Conn { return streamConn{stream} }

type streamConn struct{ io.ReadWriteCloser }

// idler is a stream that outlasts the connections which carry it (core/resume).
type idler interface{ Idle() time.Duration }

// idle is for how long in all nothing could pass; nil of a connection that ends when nothing can.
func idle(c net.Conn) func() time.Duration {
	if s, ok := c.(streamConn); ok {
		if i, ok := s.ReadWriteCloser.(idler); ok {
			return i.Idle
		}
	}
	return nil
}

func (streamConn) LocalAddr() net.Addr              { return &net.UnixAddr{Name: "here"} }
func (streamConn) RemoteAddr() net.Addr             { return &net.UnixAddr{Name: "there"} }
func (streamConn) SetDeadline(time.Time) error      { return nil }
func (streamConn) SetReadDeadline(time.Time) error  { return nil }
func (streamConn) SetWriteDeadline(time.Time) error { return nil }

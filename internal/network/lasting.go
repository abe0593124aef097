package network

import (
	"context"
	"net"
	"sync/atomic"
	"time"
)

// Heard is a connection of which it is known when something was heard on it.
type Heard struct {
	net.Conn
	some atomic.Bool
}

func (h *Heard) Read(p []byte) (int, error) {
	n, err := h.Conn.Read(p)
	if n > 0 {
		h.some.Store(true)
	}
	return n, err
}

// A network that fails says nothing: a device that is silent is asked whether it is there.
const (
	askEvery     = 3 * time.Second
	answerWithin = 6 * time.Second
)

// Session is a session with a device that can be asked whether it is there.
type Session interface {
	Done() <-chan struct{}
	Alive(ctx context.Context) error
}

// Lasts returns when a session over the connection has ended, or the device does not answer any
// more, which is an error. After each doubt it is asked at once.
func (h *Heard) Lasts(ctx context.Context, s Session, doubt <-chan struct{}) error {
	t := time.NewTicker(askEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-s.Done():
			return nil
		case <-doubt: // what was heard before says nothing of now
			h.some.Store(false)
		case <-t.C:
		}
		if h.some.Swap(false) {
			continue // a request may wait for long behind a large file
		}
		asking, answered := context.WithTimeout(ctx, answerWithin)
		err := s.Alive(asking)
		answered()
		if err != nil {
			return err
		}
	}
}

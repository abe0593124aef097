package rpc

import (
	"context"
	"net"
	"sync"
)

// Serve answers everybody who connects to l by handler. end closes l and the connections, and
// returns when all of them have ended.
func Serve(l net.Listener, handler Handler) (end func()) {
	var serving sync.WaitGroup
	ctx, cancel := context.WithCancel(context.Background())
	serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			conn := New(c, handler)
			serving.Go(func() {
				defer conn.Close()
				select {
				case <-conn.Done():
				case <-ctx.Done(): // a caller who stays must not keep the server from ending
				}
			})
		}
	})
	return func() { cancel(); l.Close(); serving.Wait() }
}

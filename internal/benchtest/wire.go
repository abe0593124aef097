package benchtest

import (
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Wire is what connects two benches; it can be broken, and be as slow as a long line.
type Wire struct {
	net.Listener
	to string

	mu    sync.Mutex
	down  bool
	delay time.Duration // each way
	rate  int           // bytes in a second each way; 0: as fast as it goes
	conns map[net.Conn]bool
	work  sync.WaitGroup
}

// NewWire is one that leads to an address.
func NewWire(t testing.TB, to string) *Wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &Wire{Listener: l, to: to, conns: map[net.Conn]bool{}}
	w.work.Go(w.serve)
	t.Cleanup(func() { l.Close(); w.Cut(true); w.work.Wait() })
	return w
}

func (w *Wire) serve() {
	for {
		c, err := w.Accept()
		if err != nil {
			return
		}
		w.mu.Lock()
		down, delay, rate := w.down, w.delay, w.rate
		w.mu.Unlock()
		d, err := net.Dial("tcp", w.to)
		if err != nil || down {
			c.Close()
			if err == nil {
				d.Close()
			}
			continue
		}
		w.mu.Lock()
		w.conns[c], w.conns[d] = true, true
		w.mu.Unlock()
		for _, x := range [][2]net.Conn{{c, d}, {d, c}} {
			w.work.Go(func() {
				LongLine(x[0], x[1], func() time.Duration { return delay }, rate)
				x[0].Close()
				x[1].Close()
			})
		}
	}
}

// Cut ends all connections; with down no new one is made.
func (w *Wire) Cut(down bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.down = down
	for c := range w.conns {
		c.Close()
	}
	clear(w.conns)
}

// Up lets connections be made again.
func (w *Wire) Up() { w.mu.Lock(); w.down = false; w.mu.Unlock() }

// Slow makes each connection from now on one that carries so many bytes in a second each way, 0 for as fast as it goes, each
// of which comes so much later.
func (w *Wire) Slow(rate int, delay time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.rate, w.delay = rate, delay
}

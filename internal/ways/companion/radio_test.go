package companion_test

import (
	"bufio"
	"io"
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/benchtest"
)

// mode is what becomes of what a handset and its watch say to each other.
type mode int

const (
	well     mode = iota
	altering      // one byte in the beginning of each stream is another one
	dropping      // some bytes are left out
	cutting       // streams end soon
	holding       // nothing arrives
	away          // they do not hear each other
)

// radio is what is between a handset and its watch. For the bench it makes no difference whether
// the handset does something or what is behind it.
type radio struct {
	address string // where the handset finds the watch
	to      string // where the watch listens

	mu      sync.Mutex
	mode    mode
	streams string // where streams lead; "" to the watch
	hushed  bool
	alter   bool // the next piece of a stream
	open    map[net.Conn]bool
	ended   bool
	work    sync.WaitGroup
}

func newRadio(t *testing.T) *radio {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &radio{address: l.Addr().String(), to: benchtest.FreeAddress(t), open: map[net.Conn]bool{}}
	r.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			r.work.Go(func() { r.carry(c) })
		}
	})
	t.Cleanup(func() {
		l.Close()
		r.mu.Lock()
		r.ended = true
		r.mu.Unlock()
		r.cut()
		r.work.Wait()
	})
	return r
}

// set says what becomes of what is said from now on; what goes on is cut.
func (r *radio) set(m mode) {
	r.mu.Lock()
	r.mode = m
	r.mu.Unlock()
	r.cut()
}

func (r *radio) streamsTo(address string) {
	r.mu.Lock()
	r.streams = address
	r.mu.Unlock()
	r.cut()
}

// hush keeps all back from now on, without an end.
func (r *radio) hush() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.hushed = true
}

// alterNow changes the next byte that a watch sends in a stream.
func (r *radio) alterNow() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.alter = true
}

func (r *radio) cut() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.open {
		c.Close()
	}
}

// keep notes an open connection; false once the test ends.
func (r *radio) keep(c net.Conn) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.open[c] = true
	return !r.ended
}

func (r *radio) carry(handset net.Conn) {
	defer handset.Close()
	if !r.keep(handset) {
		return
	}
	from := bufio.NewReader(handset)
	first, err := from.ReadString('\n')
	if err != nil {
		return
	}
	stream := strings.Contains(first, "stream")
	r.mu.Lock()
	m, to := r.mode, r.to
	if stream && r.streams != "" {
		to = r.streams
	}
	r.mu.Unlock()
	if m == away {
		return
	}
	watch, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer watch.Close()
	if !r.keep(watch) {
		return
	}
	io.WriteString(watch, first)
	r.work.Go(func() {
		io.Copy(watch, from)
		watch.Close()
	})
	if !stream {
		io.Copy(handset, watch)
		return
	}
	r.pass(handset, watch, m)
}

// pass passes on what a watch sends in a stream.
func (r *radio) pass(handset, watch net.Conn, m mode) {
	piece := make([]byte, 32<<10)
	for sent := 0; ; {
		n, err := watch.Read(piece)
		if err != nil {
			return
		}
		part := piece[:n]
		r.mu.Lock()
		hushed, alter := r.hushed, r.alter
		r.alter = false
		r.mu.Unlock()
		late := sent > 200 // behind the answer to the handset, and the version of SSH
		switch {
		case alter, m == altering && late:
			part[n/2] ^= 1
		case m == dropping && late:
			part = part[:n-n/3]
		case m == cutting && late:
			return
		case hushed, m == holding && sent > 0:
			continue
		}
		if _, err := handset.Write(part); err != nil {
			return
		}
		sent += n
	}
}

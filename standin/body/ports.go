package body

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"

	"earlybench.invalid/earlybench/core/plain"
)

// ports are the ports that an app has open. The module "port" has
//
//	open(name, length u32) i32             0 opens a port of that name; -1: there are too many
//	accept(name, length u32) i32           a connection that waits at it; 0: none does
//	read(conn i32, at, length u32) i32     how many bytes have come; 0: none yet; -1: it has ended
//	write(conn i32, at, length u32) i32    how many bytes were taken, which may be none; -1: it has ended
//	close(conn i32)
//
// and nothing in it waits, since an app has one thread.
type ports struct {
	mu      sync.Mutex
	waiting map[string][]int32 // by port, those that were not accepted
	conns   map[int32]*appConn
	last    int32
	over    bool // the app has ended
}

const (
	mostPorts    = 4
	mostConns    = 8
	mostPortName = 40
	connBytes    = 64 << 10 // that wait for either side
	takeWithin   = 3 * time.Second
)

// appConn is a connection, as whoever has connected has it.
type appConn struct {
	of *ports
	id int32

	mu       sync.Mutex
	changed  chan struct{}
	accepted bool
	in, out  []byte // to the app, and from it
	ended    bool
}

func (c *appConn) tell() {
	close(c.changed)
	c.changed = make(chan struct{})
}

// wait calls f, with the lock held, until it is done or the connection has ended.
func (c *appConn) wait(f func() bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for !f() {
		if c.ended {
			return false
		}
		changed := c.changed
		c.mu.Unlock()
		<-changed
		c.mu.Lock()
	}
	return true
}

func (c *appConn) Read(p []byte) (n int, err error) {
	if !c.wait(func() bool {
		if n = copy(p, c.out); n > 0 {
			c.out = c.out[n:]
		}
		return n > 0 || len(p) == 0
	}) {
		return 0, io.EOF
	}
	return n, nil
}

func (c *appConn) Write(p []byte) (n int, err error) {
	for n < len(p) {
		if !c.wait(func() bool {
			room := min(connBytes-len(c.in), len(p)-n)
			if c.ended || room <= 0 {
				return false
			}
			c.in = append(c.in, p[n:n+room]...)
			n += room
			return true
		}) {
			return n, io.ErrClosedPipe
		}
	}
	return n, nil
}

func (c *appConn) Close() error {
	c.mu.Lock()
	if !c.ended {
		c.ended = true
		c.tell()
	}
	c.mu.Unlock()
	return nil
}

// dial connects to a port, once the app accepts it.
func (p *ports) dial(ctx context.Context, port string) (io.ReadWriteCloser, error) {
	p.mu.Lock()
	_, open := p.waiting[port]
	if !open || p.over || len(p.conns) >= mostConns {
		p.mu.Unlock()
		return nil, fmt.Errorf("it takes no connection at %q", port)
	}
	p.last++
	c := &appConn{of: p, id: p.last, changed: make(chan struct{})}
	p.conns[c.id] = c
	p.waiting[port] = append(p.waiting[port], c.id)
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, takeWithin)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	if !c.wait(func() bool { return c.accepted }) {
		return nil, fmt.Errorf("the app does not accept a connection at %q", port)
	}
	return c, nil
}

// end ends all connections, since the app has ended.
func (p *ports) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.over = true
	for _, c := range p.conns {
		c.Close()
	}
}

func (p *ports) names() (out []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for name := range p.waiting {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (p *ports) conn(id int32) *appConn {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.conns[id]
}

func (p *ports) open(name string) int32 {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, there := p.waiting[name]; there {
		return 0
	}
	if len(p.waiting) >= mostPorts || name == "" || len(name) > mostPortName || plain.Line(name) != name {
		return -1
	}
	p.waiting[name] = nil
	return 0
}

func (p *ports) accept(name string) int32 {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.waiting[name]) > 0 {
		id := p.waiting[name][0]
		p.waiting[name] = p.waiting[name][1:]
		c := p.conns[id]
		c.mu.Lock()
		if !c.ended {
			c.accepted = true
			c.tell()
			c.mu.Unlock()
			return id
		}
		c.mu.Unlock()
		delete(p.conns, id) // whoever has connected has left
	}
	return 0
}

// read takes what has come for the app.
func (c *appConn) read(into []byte) int32 {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := copy(into, c.in)
	if c.in = c.in[n:]; n > 0 {
		c.tell()
	} else if c.ended {
		return -1
	}
	return int32(n)
}

// write takes what the app says, as far as there is room.
func (c *appConn) write(p []byte) int32 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended {
		return -1
	}
	n := min(connBytes-len(c.out), len(p))
	if n > 0 {
		c.out = append(c.out, p[:n]...)
		c.tell()
	}
	return int32(n)
}

func (p *ports) close(id int32) {
	if c := p.conn(id); c != nil {
		c.Close()
		p.mu.Lock()
		delete(p.conns, id)
		p.mu.Unlock()
	}
}

func (p *ports) export(ctx context.Context, r wazero.Runtime) error {
	text := func(mod api.Module, at, length uint32) string {
		raw, _ := mod.Memory().Read(at, min(length, mostPortName+1))
		return string(raw)
	}
	m := r.NewHostModuleBuilder("port")
	m.NewFunctionBuilder().WithFunc(func(_ context.Context, mod api.Module, at, length uint32) int32 { return p.open(text(mod, at, length)) }).Export("open")
	m.NewFunctionBuilder().WithFunc(func(_ context.Context, mod api.Module, at, length uint32) int32 {
		return p.accept(text(mod, at, length))
	}).Export("accept")
	for name, f := range map[string]func(*appConn, []byte) int32{"read": (*appConn).read, "write": (*appConn).write} {
		m.NewFunctionBuilder().WithFunc(func(_ context.Context, mod api.Module, id int32, at, length uint32) int32 {
			memory, ok := mod.Memory().Read(at, min(length, connBytes))
			if c := p.conn(id); c != nil && ok {
				return f(c, memory)
			}
			return -1
		}).Export(name)
	}
	m.NewFunctionBuilder().WithFunc(func(id int32) { p.close(id) }).Export("close")
	_, err := m.Instantiate(ctx)
	return err
}

// DialPort connects to a port of a running app.
func (b *Body) DialPort(ctx context.Context, app, port string) (io.ReadWriteCloser, error) {
	b.mu.Lock()
	var at []*process
	var ids, others []string
	for id, p := range b.running {
		if app != "" && id != app && !strings.HasSuffix(id, "/"+app) {
			continue
		}
		names := p.ports.names()
		if slices.Contains(names, port) {
			at, ids = append(at, p), append(ids, id)
		}
		for _, name := range names {
			others = append(others, id+":"+name)
		}
	}
	b.mu.Unlock()
	slices.Sort(ids)
	slices.Sort(others)
	switch {
	case len(at) > 1:
		return nil, fmt.Errorf("several apps have a port %q open: write APP:%s (%s)", port, port, strings.Join(ids, ", "))
	case len(at) == 0 && len(others) > 0:
		return nil, fmt.Errorf("no app that runs has a port %q open; there are %s", port, strings.Join(others, ", "))
	case len(at) == 0:
		return nil, fmt.Errorf("no app that runs has a port %q open", port)
	}
	return at[0].ports.dial(ctx, port)
}

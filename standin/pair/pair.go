// Package pair is how a stand-in watch and its stand-in handset are connected: the watch listens
// on a socket, and its handset hears of it there and passes streams of bytes on.
package pair

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
)

// Watch is a device that is reached through another one.
type Watch interface {
	Family() string
	Fingerprint() string
	// Heard reports whether it is heard, and whether and since when it is asleep.
	Heard() (heard, asleep bool, since time.Time)
	// Wake wakes it if it sleeps, or returns a sentence for people.
	Wake(ctx context.Context) error
	// Changed is closed at the next change of anything.
	Changed() <-chan struct{}
	// ServeDirectly serves the device link over one connection until that ends.
	ServeDirectly(ctx context.Context, c net.Conn)
}

// What a handset wants of a watch, in the first line of a connection.
const (
	wantsNews   = "news"
	wantsStream = "stream"
)

type request struct {
	Want string `json:"want"`
}

// answer is a line of a watch: what it is, while it is heard, or why there is no stream.
type answer struct {
	*device.Companion
	Text string `json:"text,omitempty"`
}

// Listener is where a watch listens, from Listen to Close.
type Listener struct {
	watch Watch
	l     net.Listener
	ctx   context.Context
	end   context.CancelFunc
	work  sync.WaitGroup
}

// Listen has a watch listen for its handset.
func Listen(address string, w Watch) (*Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen for the handset: %w", err)
	}
	p := &Listener{watch: w, l: l}
	p.ctx, p.end = context.WithCancel(context.Background())
	p.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			p.work.Go(func() { p.serve(c) })
		}
	})
	return p, nil
}

// Address is where it listens.
func (p *Listener) Address() string { return p.l.Addr().String() }

// Close ends all connections.
func (p *Listener) Close() error {
	p.end()
	err := p.l.Close()
	p.work.Wait()
	return err
}

func (p *Listener) serve(c net.Conn) {
	defer context.AfterFunc(p.ctx, func() { c.Close() })()
	defer c.Close()
	r := bufio.NewReader(c)
	line, err := r.ReadBytes('\n')
	var want request
	if err != nil || json.Unmarshal(line, &want) != nil {
		return
	}
	if want.Want == wantsStream {
		p.stream(&read{c, r})
		return
	}
	ctx, cancel := context.WithCancel(p.ctx)
	defer cancel()
	p.work.Go(func() { // the handset sends no more, but it may go
		io.Copy(io.Discard, r) //nolint:errcheck // its end is all
		cancel()
	})
	p.tell(ctx, json.NewEncoder(c))
}

// renameEvery is how often a watch changes its name.
const renameEvery = time.Hour

// tell tells a handset what it hears until ctx ends.
func (p *Listener) tell(ctx context.Context, to *json.Encoder) {
	rename := time.NewTicker(renameEvery)
	defer rename.Stop()
	name := link.AnnouncementName(p.watch.Fingerprint())
	before := answer{Text: "nothing was told yet"}
	for {
		changed := p.watch.Changed()
		heard, asleep, since := p.watch.Heard()
		now := answer{}
		if heard {
			now.Companion = &device.Companion{Name: name, Family: p.watch.Family(), Asleep: asleep}
			if asleep {
				now.Slept = int64(time.Since(since).Seconds())
			}
		}
		if before.Text != "" || !same(before.Companion, now.Companion) {
			if to.Encode(now) != nil {
				return
			}
			before = now
		}
		select {
		case <-ctx.Done():
			return
		case <-rename.C:
			name = link.AnnouncementName(p.watch.Fingerprint())
		case <-changed:
		}
	}
}

// same reports whether nothing has changed but for how long it has slept.
func same(a, b *device.Companion) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Name == b.Name && a.Asleep == b.Asleep
}

// linger is how long a watch that falls asleep can still say so.
const linger = 300 * time.Millisecond

// stream wakes the watch and serves its device link until it falls asleep.
func (p *Listener) stream(c net.Conn) {
	if err := p.watch.Wake(p.ctx); err != nil {
		json.NewEncoder(c).Encode(answer{Text: err.Error()}) //nolint:errcheck // the handset has gone
		return
	}
	if json.NewEncoder(c).Encode(answer{}) != nil {
		return
	}
	ctx, cancel := context.WithCancel(p.ctx)
	defer cancel()
	p.work.Go(func() {
		defer cancel()
		for {
			changed := p.watch.Changed()
			if heard, asleep, _ := p.watch.Heard(); !heard || asleep {
				break
			}
			select {
			case <-ctx.Done():
				return
			case <-changed:
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(linger):
		}
	})
	p.watch.ServeDirectly(ctx, c)
}

// read is a connection of which something was read already.
type read struct {
	net.Conn
	r *bufio.Reader
}

func (r *read) Read(p []byte) (int, error) { return r.r.Read(p) }

// Hearing is what a handset hears of the watches that it is told of, from Hear to Close.
type Hearing struct {
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	mu      sync.Mutex
	heard   map[string]device.Companion // by address
	since   map[string]time.Time        // when that was told
	changed chan struct{}
}

// Hear begins to listen for watches.
func Hear() *Hearing {
	h := &Hearing{heard: map[string]device.Companion{}, since: map[string]time.Time{}, changed: make(chan struct{})}
	h.ctx, h.end = context.WithCancel(context.Background())
	return h
}

// Add tells it of a watch that listens at an address.
func (h *Hearing) Add(address string) { h.work.Go(func() { h.follow(address) }) }

// Close ends it.
func (h *Hearing) Close() {
	h.end()
	h.work.Wait()
}

// againEvery is how often a watch that is not heard is looked for.
const againEvery = 500 * time.Millisecond

func (h *Hearing) follow(address string) {
	for h.ctx.Err() == nil {
		if c, err := dial(h.ctx, address, wantsNews); err == nil {
			stop := context.AfterFunc(h.ctx, func() { c.Close() })
			d := json.NewDecoder(c)
			for {
				var a answer
				if d.Decode(&a) != nil {
					break
				}
				h.take(address, a.Companion)
			}
			stop()
			c.Close()
		}
		h.take(address, nil)
		select {
		case <-h.ctx.Done():
		case <-time.After(againEvery):
		}
	}
}

// take notes what is heard of a watch; nil for nothing.
func (h *Hearing) take(address string, c *device.Companion) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if before, ok := h.heard[address]; c == nil && !ok || c != nil && ok && same(&before, c) {
		return
	}
	if delete(h.heard, address); c != nil {
		h.heard[address], h.since[address] = *c, time.Now()
	}
	close(h.changed)
	h.changed = make(chan struct{})
}

// Companions returns what is heard, and a channel that is closed when that changes.
func (h *Hearing) Companions() (all []device.Companion, changed <-chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for address, c := range h.heard {
		if c.Asleep {
			c.Slept += int64(time.Since(h.since[address]).Seconds())
		}
		all = append(all, c)
	}
	return all, h.changed
}

// Carry connects to a watch.
func (h *Hearing) Carry(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	h.mu.Lock()
	at := ""
	for address, c := range h.heard {
		if c.Name == name {
			at = address
		}
	}
	h.mu.Unlock()
	if at == "" {
		return nil, errors.New("it is not heard any more")
	}
	c, err := dial(ctx, at, wantsStream)
	if err != nil {
		return nil, errors.New("it is not heard any more")
	}
	r := bufio.NewReader(c)
	stop := context.AfterFunc(ctx, func() { c.Close() })
	line, err := r.ReadBytes('\n')
	stop()
	var a answer
	if err == nil {
		err = json.Unmarshal(line, &a)
	}
	if err == nil && a.Text != "" {
		err = errors.New(a.Text)
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return &read{c, r}, nil
}

// dial connects to a watch and says what is wanted.
func dial(ctx context.Context, address, want string) (net.Conn, error) {
	c, err := (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	if err := json.NewEncoder(c).Encode(request{want}); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

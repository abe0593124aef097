// Package bus holds the USB of hosts, the computers to which devices are connected: this one,
// by sysfs and usbfs, and others by the host protocol (docs/formats/host.md) and USB/IP. It
// watches their buses, opens devices, and installs driver sets.
package bus

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/udev"
	"earlybench.invalid/earlybench/internal/store"
	"golang.org/x/crypto/ssh"
)

// Sink receives what is connected to the buses of hosts. For each host it is called by
// one goroutine only.
type Sink interface {
	Bus(ctx context.Context, h store.Host, bus hostlink.Bus)
	// Lost is called when a host is no longer reached.
	Lost(ctx context.Context, h store.Host)
}

// Hosts watches hosts. It is made by New and ends with Close.
type Hosts struct {
	sink    Sink
	changed func(host string)
	key     ssh.Signer
	log     *slog.Logger
	ctx     context.Context
	end     context.CancelFunc
	work    sync.WaitGroup

	mu      sync.Mutex
	watches map[string]*watch
	open    map[place]*opened
	taken   map[place]*usb.HeldError // for somebody else
}

// watch is one host that is watched.
type watch struct {
	host      store.Host
	route     *route
	local     *local      // this computer's own USB; nil for another host
	rules     *udev.Rules // of this computer; nil for another host, and where there are none
	stop      context.CancelFunc
	done      chan struct{}
	hasLooked func() // says that this computer's own USB was looked at; nil for another host

	mu      sync.Mutex
	conn    *rpc.Conn
	trouble error
	beyond  error         // the host said more than is taken
	bus     *hostlink.Bus // as it was reported last; nil while it is not known
	hello   hostlink.Hello
}

// take keeps what is connected, and passes it on.
func (h *Hosts) take(ctx context.Context, w *watch, b hostlink.Bus) {
	b, err := bounded(b)
	if err != nil {
		h.log.Warn("host", "host", w.host.Name, "error", err)
	}
	w.mu.Lock()
	w.bus, w.beyond = &b, err
	w.mu.Unlock()
	h.sink.Bus(ctx, w.host, b)
	h.tell(w)
}

// tell tells that a host has changed. What comes next from the host does not wait for that.
func (h *Hosts) tell(w *watch) { h.work.Go(func() { h.changed(w.host.Name) }) }

// lost forgets what is connected, since nothing is known of it any more.
func (h *Hosts) lost(ctx context.Context, w *watch) {
	w.mu.Lock()
	known := w.bus != nil
	w.bus = nil
	w.mu.Unlock()
	if known {
		h.sink.Lost(context.WithoutCancel(ctx), w.host)
		h.tell(w)
	}
}

// New makes a watcher that watches no host yet. changed is called when something else is
// connected to a host, or it is reached or no longer reached. key is the bench's, by which SSH
// servers know it.
func New(sink Sink, changed func(host string), key ssh.Signer, log *slog.Logger) *Hosts {
	h := &Hosts{sink: sink, changed: changed, key: key, log: log, watches: map[string]*watch{}, open: map[place]*opened{}, taken: map[place]*usb.HeldError{}}
	h.ctx, h.end = context.WithCancel(context.Background())
	return h
}

// Close ends all watching and waits.
func (h *Hosts) Close() {
	h.end()
	h.work.Wait()
}

// Watch starts to watch a host, or continues at its new addresses.
func (h *Hosts) Watch(host store.Host) {
	h.watch(&watch{host: host, route: &route{host: host, key: h.key}})
}

// lookWithin is how long the first look at this computer's own USB is waited for.
const lookWithin = time.Second

// WatchLocal starts to watch this computer's own USB, under the computer's name. It returns once that was looked at,
// or after a second.
func (h *Hosts) WatchLocal(host store.Host, o Local) {
	looked := make(chan struct{})
	h.watch(&watch{host: host, local: newLocal(o), rules: o.rules(), hasLooked: sync.OnceFunc(func() { close(looked) })})
	select {
	case <-looked:
	case <-time.After(lookWithin):
	}
}

func (h *Hosts) watch(w *watch) {
	host := w.host
	h.Forget(host.Name)
	w.done, w.trouble = make(chan struct{}), errors.New("not reached yet")
	ctx, stop := context.WithCancel(h.ctx)
	w.stop = stop
	h.mu.Lock()
	h.watches[host.Name] = w
	h.mu.Unlock()
	h.work.Go(func() {
		defer close(w.done)
		for ctx.Err() == nil { // it begins again after a mistake
			err := defect.Contain("watching a host", func() error {
				if w.local != nil {
					h.followLocal(ctx, w)
					return nil
				}
				h.follow(ctx, w)
				return nil
			})
			if err == nil || clock.Sleep(ctx, clock.System{}, time.Second) != nil {
				break
			}
		}
		if w.local == nil {
			w.route.close()
		}
	})
}

// Forget stops watching a host.
func (h *Hosts) Forget(name string) {
	h.mu.Lock()
	w := h.watches[name]
	delete(h.watches, name)
	h.mu.Unlock()
	if w != nil {
		w.stop()
		<-w.done
	}
}

// Own is the bench's own computer; false if its USB is not watched.
func (h *Hosts) Own() (store.Host, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, w := range h.watches {
		if w.local != nil {
			return w.host, true
		}
	}
	return store.Host{}, false
}

// followLocal follows this computer's own USB for as long as it is watched.
func (h *Hosts) followLocal(ctx context.Context, w *watch) {
	w.local.follow(ctx, func(b hostlink.Bus) { h.take(ctx, w, b) }, func(err error) {
		if h.stands(w, err) && err != nil {
			h.log.Info("host", "host", w.host.Name, "error", err)
		}
		w.hasLooked()
	})
	h.lost(ctx, w)
}

// stands keeps why a host is not reached, nil if it is, and tells of it; false if that was known.
func (h *Hosts) stands(w *watch, err error) bool {
	w.mu.Lock()
	same := (w.trouble == nil) == (err == nil) && (err == nil || w.trouble.Error() == err.Error())
	w.trouble = err
	w.mu.Unlock()
	if !same {
		h.tell(w)
	}
	return !same
}

// Private reports whether nobody else can be at the other end of the way to a host: it is this
// computer, or the owner has accepted its key. Only over such a way the key of a device that is
// met for the first time may be pinned.
func (h *Hosts) Private(name string) bool {
	w := h.watched(name)
	return w != nil && (w.local != nil || w.route.private())
}

// Bus returns what is connected to a host, as it was reported last; false while it is not known.
func (h *Hosts) Bus(name string) (hostlink.Bus, bool) {
	w := h.watched(name)
	if w == nil {
		return hostlink.Bus{}, false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.bus == nil {
		return hostlink.Bus{}, false
	}
	return *w.bus, true
}

// Watched reports whether a host is watched.
func (h *Hosts) Watched(name string) bool { return h.watched(name) != nil }

func (h *Hosts) watched(name string) *watch {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.watches[name]
}

// Trouble returns why a host is not reached; nil if it is.
func (h *Hosts) Trouble(name string) error {
	w := h.watched(name)
	if w == nil {
		return errors.New("it is not watched")
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.trouble != nil {
		return w.trouble
	}
	return w.beyond
}

// Await waits until a host is reached, for at most within.
func (h *Hosts) Await(ctx context.Context, name string, within time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		err := h.Trouble(name)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("host %s cannot be reached: %w", name, err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// follow keeps a connection to a host for as long as it is watched.
func (h *Hosts) follow(ctx context.Context, w *watch) {
	for pause := 100 * time.Millisecond; ctx.Err() == nil; pause = min(2*pause, 2*time.Second) {
		began := time.Now()
		err := h.connect(ctx, w)
		h.lost(ctx, w)
		w.mu.Lock()
		if w.trouble == nil {
			h.log.Info("host", "host", w.host.Name, "error", err)
		}
		w.conn = nil
		w.mu.Unlock()
		h.stands(w, err)
		if time.Since(began) > 5*time.Second {
			pause = 100 * time.Millisecond
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (h *Hosts) connect(ctx context.Context, w *watch) error {
	c, err := w.route.dial(ctx, w.host.Control)
	if err != nil {
		return fmt.Errorf("reach host %s at %s: %w", w.host.Name, w.host.Control, err)
	}
	buses := make(chan hostlink.Bus, 16)
	conn := rpc.New(c, func(_ context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
		if b, err := rpc.Decode[hostlink.Bus](params); err == nil && method == hostlink.MethodBus {
			for { // only the newest counts
				select {
				case buses <- b:
					return nil, nil
				default:
				}
				select {
				case <-buses:
				default:
				}
			}
		}
		return nil, nil
	})
	defer conn.Close()
	short, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var hello hostlink.Hello
	if err := conn.Call(short, hostlink.MethodHello, nil, &hello); err != nil {
		return fmt.Errorf("host %s: %w", w.host.Name, err)
	}
	if hello.Version != 1 {
		return fmt.Errorf("host %s speaks version %d of the host protocol, this bench 1", w.host.Name, hello.Version)
	}
	var bus hostlink.Bus
	if err := conn.Call(short, hostlink.MethodWatch, nil, &bus); err != nil {
		return fmt.Errorf("host %s: %w", w.host.Name, err)
	}
	w.mu.Lock()
	w.conn, w.trouble, w.hello = conn, nil, hello
	w.mu.Unlock()
	h.take(ctx, w, bus)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-conn.Done():
			return fmt.Errorf("host %s ended the connection", w.host.Name)
		case b := <-buses:
			h.take(ctx, w, b)
		}
	}
}

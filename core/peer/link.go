// Package peer is the link between two benches that know each other by key (docs/formats/peer.md): SSH 2.0 over any
// stream of bytes. Who has connected to whom makes no difference afterwards: both sides call,
// answer and open streams.
package peer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/rpc"
)

// Version is the version of the protocol.
const Version = 1

// Channels (RFC 4250, section 4.6.1).
const (
	channelCalls  = "calls@earlybench.invalid"
	channelStream = "peerstream@earlybench.invalid"
	channelFile   = "peerfile@earlybench.invalid"
)

const (
	handshakeWithin = 15 * time.Second
	openWithin      = 20 * time.Second
	// mostChannels is how many channels the other side may have open at once.
	mostChannels = 200
)

// ErrEnded is the error of a link that has ended.
var ErrEnded = errors.New("the connection to the other bench has ended")

// Handler answers the other bench. Its methods are called from many goroutines.
type Handler interface {
	// Call answers a request; notify sends notifications that belong to it, until ctx ends.
	Call(ctx context.Context, l *Link, method string, params json.RawMessage, notify func(method string, params any) error) (any, error)
	// Stream is asked whether a stream may be opened, and returns who carries it on. An error is a
	// sentence for people.
	Stream(ctx context.Context, l *Link, to json.RawMessage) (carry func(context.Context, io.ReadWriteCloser), err error)
	// File is asked for a file. An error is a sentence for people.
	File(ctx context.Context, l *Link, ref FileRef) (io.ReadCloser, error)
}

// Link is a link to another bench. It is made by Dial or Accept, and ends with Close.
type Link struct {
	conn    ssh.Conn
	key     string // the other bench's
	own     string
	began   bool // by this side
	handler Handler
	ctx     context.Context
	end     context.CancelFunc
	done    chan struct{}
	work    sync.WaitGroup // of what the other side has opened
	opening sync.WaitGroup // of what this side has

	mu    sync.Mutex
	calls *rpc.Conn
	open  int  // channels of the other side
	over  bool // Close was called
}

// Dial begins a link over c, which it owns. accept gets the fingerprint of the other bench's key when that is
// proven, and before this bench proves its own; an error ends the link.
func Dial(ctx context.Context, c net.Conn, key ssh.Signer, accept func(fingerprint string) error, h Handler) (*Link, error) {
	l := newLink(key, h, true)
	var refused error
	config := &ssh.ClientConfig{User: "peer", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, ClientVersion: "SSH-2.0-EarlyBenchPeer_1",
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			l.key = ssh.FingerprintSHA256(k)
			refused = accept(l.key)
			return refused
		}}
	done := within(ctx, c)
	conn, channels, requests, err := ssh.NewClientConn(c, "peer", config)
	if late := done(); late != nil && err == nil {
		conn.Close()
		err = late
	}
	if err != nil {
		c.Close()
		if refused != nil {
			return nil, refused
		}
		return nil, fmt.Errorf("begin the connection to the other bench: %w", err)
	}
	l.run(conn, channels, requests)
	return l, nil
}

// Accept is the other side of Dial. Any key that is proven is let in: what it may do, the handler decides.
func Accept(ctx context.Context, c net.Conn, key ssh.Signer, h Handler) (*Link, error) {
	l := newLink(key, h, false)
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-EarlyBenchPeer_1",
		PublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
			return &ssh.Permissions{Extensions: map[string]string{"key": ssh.FingerprintSHA256(k)}}, nil
		}}
	config.AddHostKey(key)
	done := within(ctx, c)
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if late := done(); late != nil && err == nil {
		conn.Close()
		err = late
	}
	if err != nil {
		c.Close()
		return nil, fmt.Errorf("take the connection of another bench: %w", err)
	}
	l.key = conn.Permissions.Extensions["key"]
	l.run(conn, channels, requests)
	return l, nil
}

// within closes c if ctx ends, or the handshake takes too long, before done is called.
func within(ctx context.Context, c net.Conn) (done func() error) {
	ctx, cancel := context.WithTimeoutCause(ctx, handshakeWithin, errors.New("the other side did not answer in time"))
	stop := context.AfterFunc(ctx, func() { c.Close() })
	return func() error {
		defer cancel()
		if !stop() {
			return context.Cause(ctx)
		}
		return nil
	}
}

func newLink(key ssh.Signer, h Handler, began bool) *Link {
	l := &Link{own: ssh.FingerprintSHA256(key.PublicKey()), began: began, handler: h, done: make(chan struct{})}
	l.ctx, l.end = context.WithCancel(context.Background())
	return l
}

func (l *Link) run(conn ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	l.conn = conn
	l.work.Go(func() { ssh.DiscardRequests(requests) })
	l.work.Go(func() {
		for n := range channels {
			l.mu.Lock()
			full := l.open >= mostChannels
			if !full {
				l.open++
			}
			l.mu.Unlock()
			if full {
				n.Reject(ssh.ResourceShortage, "too many channels are open") //nolint:errcheck // nothing more to do
				continue
			}
			l.work.Go(func() {
				l.channel(n)
				l.mu.Lock()
				l.open--
				l.mu.Unlock()
			})
		}
	})
	go func() {
		conn.Wait() //nolint:errcheck // that it has ended is enough
		l.end()
		close(l.done)
	}()
}

func (l *Link) channel(n ssh.NewChannel) {
	switch n.ChannelType() {
	case channelCalls:
		c, requests, err := n.Accept()
		if err != nil {
			return
		}
		l.work.Go(func() { ssh.DiscardRequests(requests) })
		conn := rpc.New(c, func(ctx context.Context, conn *rpc.Conn, method string, params json.RawMessage) (any, error) {
			return l.handler.Call(ctx, l, method, params, conn.Notify)
		})
		<-conn.Done()
	case channelStream:
		carry, err := l.handler.Stream(l.ctx, l, n.ExtraData())
		if err != nil {
			n.Reject(ssh.ConnectionFailed, err.Error()) //nolint:errcheck // nothing more to do
			return
		}
		c, requests, err := n.Accept()
		if err != nil {
			return
		}
		l.work.Go(func() { ssh.DiscardRequests(requests) })
		carry(l.ctx, c)
		c.Close()
	case channelFile:
		l.file(n)
	default:
		n.Reject(ssh.UnknownChannelType, "there is no channel "+n.ChannelType()) //nolint:errcheck // as above
	}
}

// Key is the fingerprint of the other bench's key, which it has proven.
func (l *Link) Key() string { return l.key }

// Own is the fingerprint of this bench's key.
func (l *Link) Own() string { return l.own }

// Began reports whether this side has connected to the other.
func (l *Link) Began() bool { return l.began }

// SessionID is that of the SSH session (RFC 4253, section 7.2).
func (l *Link) SessionID() []byte { return l.conn.SessionID() }

// Done is closed when the link has ended.
func (l *Link) Done() <-chan struct{} { return l.done }

// Close ends the link, and waits for all that runs on it. It must not be called by a handler.
func (l *Link) Close() error {
	l.conn.Close()
	<-l.done
	l.mu.Lock()
	l.over = true
	if l.calls != nil {
		l.calls.Close()
	}
	l.mu.Unlock()
	l.opening.Wait()
	l.work.Wait()
	return nil
}

// Drop ends the link without waiting.
func (l *Link) Drop() { l.conn.Close() }

// channelTo opens a channel, unless ctx ends before the other side has confirmed it.
func (l *Link) channelTo(ctx context.Context, kind string, data []byte) (ssh.Channel, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, openWithin, errors.New("the other bench has not answered"))
	defer cancel()
	type opened struct {
		c   ssh.Channel
		err error
	}
	answer := make(chan opened, 1)
	if !l.begin(func() {
		c, requests, err := l.conn.OpenChannel(kind, data)
		answer <- opened{c, err}
		if err == nil {
			ssh.DiscardRequests(requests)
		}
	}) {
		return nil, ErrEnded
	}
	select {
	case o := <-answer:
		if refused, ok := errors.AsType[*ssh.OpenChannelError](o.err); ok {
			return nil, &Refused{Text: refused.Message}
		}
		if o.err != nil {
			return nil, ErrEnded
		}
		return o.c, nil
	case <-l.done:
		return nil, ErrEnded
	case <-ctx.Done():
		l.begin(func() {
			if o := <-answer; o.err == nil {
				o.c.Close()
			}
		})
		return nil, context.Cause(ctx)
	}
}

// begin runs f for this side, unless the link is closed.
func (l *Link) begin(f func()) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over {
		return false
	}
	l.opening.Go(f)
	return true
}

// Refused is the error for a stream that the other bench does not open.
type Refused struct{ Text string }

func (e *Refused) Error() string { return e.Text }

// Open opens a stream; to says which.
func (l *Link) Open(ctx context.Context, to any) (io.ReadWriteCloser, error) {
	raw, err := json.Marshal(to)
	if err != nil {
		return nil, err
	}
	return l.channelTo(ctx, channelStream, raw)
}

// Call calls a method of the other bench, which ctx bounds.
func (l *Link) Call(ctx context.Context, method string, params, result any) error {
	l.mu.Lock()
	c := l.calls
	l.mu.Unlock()
	if c == nil || c.Err() != nil {
		ch, err := l.channelTo(ctx, channelCalls, nil)
		if err != nil {
			return err
		}
		c = rpc.New(ch, rpc.NoMethod)
		l.mu.Lock()
		switch {
		case l.over:
			l.mu.Unlock()
			c.Close()
			return ErrEnded
		case l.calls == nil || l.calls.Err() != nil:
			l.calls = c
		default: // somebody was faster
			other := l.calls
			l.mu.Unlock()
			c.Close()
			c = other
			l.mu.Lock()
		}
		l.mu.Unlock()
	}
	return ended(c.Call(ctx, method, params, result))
}

// Follow calls a method that lasts, and passes its notifications to take, one after the other, until ctx or
// the link ends, or the other bench ends it.
func (l *Link) Follow(ctx context.Context, method string, params any, take func(method string, params json.RawMessage)) error {
	ch, err := l.channelTo(ctx, channelCalls, nil)
	if err != nil {
		return err
	}
	c := rpc.New(ch, func(_ context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
		take(method, params)
		return nil, nil
	})
	defer c.Close()
	return ended(c.Call(ctx, method, params, nil))
}

func ended(err error) error {
	if errors.Is(err, rpc.ErrClosed) {
		return ErrEnded
	}
	return err
}

// Alive asks the other bench whether it is there (RFC 4254, section 4: an unknown request is answered by a failure).
func (l *Link) Alive(ctx context.Context) error {
	answered := make(chan error, 1)
	if !l.begin(func() {
		_, _, err := l.conn.SendRequest("alive@earlybench.invalid", true, nil)
		answered <- err
	}) {
		return ErrEnded
	}
	select {
	case err := <-answered:
		return err
	case <-l.done:
		return ErrEnded
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Package peer holds the benches that this one knows by key, and its links to them (docs/formats/peer.md). It connects to those
// whose address is known; others connect to this one. Which side connected makes no
// difference to what is done over a link.
package peer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/store"
)

// Records is where the peers are kept; *store.Store is one.
type Records interface {
	Peers(ctx context.Context) ([]store.Peer, error)
	AddPeer(ctx context.Context, p store.Peer, used string) error
	ChangePeer(ctx context.Context, p store.Peer) error
	DropPeer(ctx context.Context, name string) error
	Invite(ctx context.Context, i store.Invitation) error
	Invitation(ctx context.Context, digest string) (store.Invitation, error)
	Tell(ctx context.Context, event string, subjects ...string) error
}

// Service is what this bench does for its peers, beyond telling who it is.
type Service interface {
	// Call answers a request of a peer, as [peer.Handler] does.
	Call(ctx context.Context, from store.Peer, method string, params json.RawMessage, notify func(method string, params any) error) (any, error)
	// Stream takes a stream that a peer opens.
	Stream(ctx context.Context, from store.Peer, to json.RawMessage) (carry func(context.Context, io.ReadWriteCloser), err error)
	// File opens a file that a peer asks for, from the byte on that it wants.
	File(ctx context.Context, from store.Peer, ref peer.FileRef) (io.ReadCloser, error)
}

// Config is what the peers need. All fields but Listen are needed.
type Config struct {
	Records Records
	Service Service
	Key     ssh.Signer // the bench's link key
	Bench   func() string
	Listen  string // HOST:PORT at which other benches connect; "" for none
	// Changed is called when a peer has come, gone or changed. It must not block.
	Changed func()
	Clock   clock.Clock
	Log     *slog.Logger
}

// Peers are the benches that this one knows. They are made by New, and run from Start to Close.
type Peers struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	listener net.Listener // nil: none connects

	mu       sync.Mutex
	all      map[string]*known // by name
	visitors int
	turns    introduction.Turns
	asking   *asking  // a bench that is being introduced to this one; nil for none
	meeting  *meeting // the introduction to another bench that goes on, or the last one
}

// known is a peer and its links.
type known struct {
	store.Peer
	links   []*peer.Link // the newest first
	skew    time.Duration
	trouble error // why it cannot be connected to
	changed chan struct{}
	end     context.CancelFunc // of connecting to it
}

// New makes the peers. Nothing runs before Start.
func New(cfg Config) *Peers {
	p := &Peers{cfg: cfg, all: map[string]*known{}}
	p.ctx, p.end = context.WithCancel(context.Background())
	return p
}

// Start reads the records, takes connections and connects to those whose address is known.
func (p *Peers) Start(ctx context.Context) error {
	all, err := p.cfg.Records.Peers(ctx)
	if err != nil {
		return fmt.Errorf("read the peers: %w", err)
	}
	if p.cfg.Listen != "" {
		if p.listener, err = net.Listen("tcp", p.cfg.Listen); err != nil {
			return fmt.Errorf("listen for other benches: %w; choose another address with --peers HOST:PORT", err)
		}
		p.work.Go(p.accept)
	}
	for _, r := range all {
		p.begin(r)
	}
	return nil
}

// Close ends all links.
func (p *Peers) Close() {
	p.end()
	if p.listener != nil {
		p.listener.Close()
	}
	p.work.Wait()
}

// Address is where other benches connect; "" for nowhere.
func (p *Peers) Address() string {
	if p.listener == nil {
		return ""
	}
	return p.listener.Addr().String()
}

// begin keeps a peer, and connects to it where its address is known.
func (p *Peers) begin(r store.Peer) *known {
	k := &known{Peer: r, changed: make(chan struct{}), end: func() {}}
	p.mu.Lock()
	p.all[r.Name] = k
	p.connect(k)
	p.mu.Unlock()
	return k
}

// byKey is the peer with a key; nil for none. The lock is held.
func (p *Peers) byKey(key string) *known {
	for _, k := range p.all {
		if k.Key == key {
			return k
		}
	}
	return nil
}

// changed wakes those who wait for a link to a peer. The lock is held.
func (p *Peers) changed(k *known) {
	close(k.changed)
	k.changed = make(chan struct{})
}

func (p *Peers) tell() {
	p.cfg.Changed()
	if err := p.cfg.Records.Tell(p.ctx, "peer.changed"); err != nil && p.ctx.Err() == nil {
		p.cfg.Log.Error("tell of peers", "error", err)
	}
}

// Call answers a request.
func (p *Peers) Call(ctx context.Context, l *peer.Link, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	from, known := p.ByKey(l.Key())
	switch {
	case method == peer.MethodBegin, method == peer.MethodReveal, method == peer.MethodTyped: // a peer may have lost its records
		return p.introduced(ctx, l, method, params)
	case !known:
		return p.visitor(ctx, l, method, params)
	case method == peer.MethodHello, method == peer.MethodInvitation: // one who was invited twice is a peer already
		h := p.hello()
		h.Known = true
		return h, nil
	}
	result, err := p.cfg.Service.Call(ctx, from, method, params, notify)
	if err != nil && ctx.Err() == nil && problem.KindOf(err) == problem.Failed { // its text may say more of this computer than a peer is to know
		p.cfg.Log.Warn("answer a peer", "peer", from.Name, "method", method, "error", err)
		return nil, rpc.Errorf(rpc.CodeFailed, "%s cannot do that now; its log says why", p.cfg.Bench())
	}
	return result, answer(err)
}

// answer is an error as a peer is told of it, with a code by its kind.
func answer(err error) error {
	if err == nil {
		return nil
	}
	text, kind := err.Error(), problem.KindOf(err)
	if p, is := errors.AsType[*problem.Problem](err); is { // its remedy is for the people here
		text = p.Text
	}
	for code, of := range kinds {
		if of == kind {
			return rpc.Errorf(code, "%s", strings.TrimSuffix(text, "."))
		}
	}
	return rpc.Errorf(rpc.CodeFailed, "%s", strings.TrimSuffix(text, "."))
}

var errStranger = errors.New("this bench does not know you")

// Stream takes a stream.
func (p *Peers) Stream(ctx context.Context, l *peer.Link, to json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	from, known := p.ByKey(l.Key())
	if !known {
		return nil, errStranger
	}
	return p.cfg.Service.Stream(ctx, from, to)
}

// File opens a file.
func (p *Peers) File(ctx context.Context, l *peer.Link, ref peer.FileRef) (io.ReadCloser, error) {
	from, known := p.ByKey(l.Key())
	if !known {
		return nil, errStranger
	}
	return p.cfg.Service.File(ctx, from, ref)
}

// Shown is a peer as it is shown to people.
type Shown struct {
	store.Peer
	Connected bool
	Began     bool          // this bench has connected, and not the other one
	Skew      time.Duration // by how much its clock is ahead of this bench's
	Trouble   error         // why it is not connected
}

// List returns the peers, by name.
func (p *Peers) List() []Shown {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []Shown
	for _, name := range slices.Sorted(maps.Keys(p.all)) {
		out = append(out, p.all[name].shown())
	}
	return out
}

func (k *known) shown() Shown {
	s := Shown{Peer: k.Peer, Connected: len(k.links) > 0, Skew: k.skew, Trouble: k.trouble}
	if s.Connected {
		s.Began, s.Trouble = k.links[0].Began(), nil
	}
	return s
}

// Find returns a peer by its name.
func (p *Peers) Find(name string) (store.Peer, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if k := p.all[name]; k != nil {
		return k.Peer, nil
	}
	return store.Peer{}, noPeer(name)
}

func noPeer(name string) error {
	return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("There is no peer %.60q.", name), Remedy: "List them: earlybench peer"}
}

// ByKey returns the peer with a key; false for none.
func (p *Peers) ByKey(key string) (store.Peer, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if k := p.byKey(key); k != nil {
		return k.Peer, true
	}
	return store.Peer{}, false
}

// Link returns the newest link to a peer, and a channel that is closed when its links have changed. The link is nil
// while there is none.
func (p *Peers) Link(name string) (*peer.Link, <-chan struct{}, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	k := p.all[name]
	if k == nil {
		return nil, nil, noPeer(name)
	}
	if len(k.links) == 0 {
		return nil, k.changed, nil
	}
	return k.links[0], k.changed, nil
}

// Ask calls a method of a peer.
func (p *Peers) Ask(ctx context.Context, name, method string, params, result any) error {
	l, _, err := p.Link(name)
	if err != nil {
		return err
	}
	if l == nil {
		return p.notConnected(name)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, callWithin, fmt.Errorf("%s has not answered within %s", name, callWithin))
	defer cancel()
	err = l.Call(ctx, method, params, result)
	if errors.Is(err, peer.ErrEnded) {
		return &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("The connection to %s was lost.", name), Remedy: "The bench reconnects by itself. To see what fails: earlybench peer check " + name}
	}
	if e, ok := errors.AsType[*rpc.Error](err); ok {
		return &problem.Problem{Kind: kinds[e.Code], Text: plain.Cut(plain.Line(e.Message), 300)}
	}
	return err
}

// kinds are the kinds of problems of answers, by their codes.
var kinds = map[int]problem.Kind{rpc.CodeRefused: problem.Refused, rpc.CodeInvalidParams: problem.Invalid, rpc.CodeMethodNotFound: problem.Unsupported, rpc.CodeBusy: problem.Taken,
	rpc.CodeFailed: problem.Failed, rpc.CodeAsleep: problem.Unavailable, rpc.CodeNotFound: problem.NotFound}

func (p *Peers) notConnected(name string) error {
	return &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("There is no connection to %s now.", name), Remedy: "To see what fails: earlybench peer check " + name}
}

// Set changes what a peer may do here.
func (p *Peers) Set(ctx context.Context, name string, change func(*store.PeerRights)) (Shown, error) {
	p.mu.Lock()
	k := p.all[name]
	if k == nil {
		p.mu.Unlock()
		return Shown{}, noPeer(name)
	}
	r := k.Peer
	p.mu.Unlock()
	r.Rights.Devices = maps.Clone(r.Rights.Devices)
	change(&r.Rights)
	if err := p.cfg.Records.ChangePeer(ctx, r); err != nil {
		return Shown{}, err
	}
	p.mu.Lock()
	k.Rights = r.Rights
	s := k.shown()
	p.mu.Unlock()
	p.cfg.Changed()
	return s, nil
}

// Move changes where a peer is reached.
func (p *Peers) Move(ctx context.Context, name string, addresses []string) (Shown, error) {
	for _, a := range addresses {
		if err := peer.CheckAddress(a); err != nil {
			return Shown{}, problem.Errorf(problem.Invalid, "%w", err)
		}
	}
	p.mu.Lock()
	k := p.all[name]
	if k == nil {
		p.mu.Unlock()
		return Shown{}, noPeer(name)
	}
	r := k.Peer
	p.mu.Unlock()
	r.Addresses = slices.Clone(addresses)
	if err := p.cfg.Records.ChangePeer(ctx, r); err != nil {
		return Shown{}, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	k.Addresses = r.Addresses
	p.connect(k)
	return k.shown(), nil
}

// Drop forgets a peer, and ends its links.
func (p *Peers) Drop(ctx context.Context, name string) error {
	p.mu.Lock()
	k := p.all[name]
	p.mu.Unlock()
	if k == nil {
		return noPeer(name)
	}
	if err := p.cfg.Records.DropPeer(ctx, name); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.all, name)
	k.end()
	for _, l := range k.links {
		l.Drop()
	}
	p.mu.Unlock()
	p.cfg.Changed()
	return nil
}

// free is a name for a bench that calls itself so, that no peer has.
func (p *Peers) free(claimed string) string {
	base := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		}
		return -1
	}, strings.ToLower(plain.Cut(claimed, 36))), "-0123456789")
	if base == "" {
		base = "bench"
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	name := base
	for n := 2; p.all[name] != nil; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	return name
}

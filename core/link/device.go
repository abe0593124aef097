package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/core/rpc"
)

// handshakeTimeout bounds the SSH handshake.
const handshakeTimeout = 15 * time.Second

// A Device is the device's implementation behind a link. Its methods may be called from any
// goroutine.
type Device interface {
	// Admission returns the state of a key.
	Admission(key string) device.Admittance
	// Ask shows the question on the screen and reports every state of it, the first at
	// once and a final one last. When ctx ends, the question is removed.
	Ask(ctx context.Context, v device.Visitor, report func(device.Admittance))
	// Introduce begins an introduction to a visitor, which [Introduced] goes on with. It
	// returns [introduction.ErrBusy], an [introduction.PausedError], or [ErrNotIntroduced].
	Introduce(v device.Visitor) (Introduced, error)
	// Control handles a control method of an admitted bench. notify sends notifications
	// until ctx ends.
	Control(ctx context.Context, method string, params json.RawMessage, notify func(method string, params any) error) (any, error)
	// Files serves the SFTP requests of an admitted bench.
	Files() sftp.Handlers
	// Screen returns the screen.
	Screen() rfb.Source
}

// Serve is the device's side of a link over c: it proves the device key, accepts any bench
// that proves a key as a visitor, and gives admitted benches the other channels. It returns
// when the link has ended and nothing of it is running.
func Serve(ctx context.Context, c net.Conn, key ssh.Signer, d Device) error {
	return serve(ctx, c, key, d, false)
}

// serve is Serve; lent says that a bench has passed the link on for a loan.
func serve(ctx context.Context, c net.Conn, key ssh.Signer, d Device, lent bool) error {
	config := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-EarlyBenchLink_1",
		PublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
			// Who may do what is decided in the session: here a key is only offered.
			return &ssh.Permissions{Extensions: map[string]string{"key": ssh.FingerprintSHA256(k)}}, nil
		},
	}
	config.Ciphers = ciphers
	config.AddHostKey(key)
	late := time.AfterFunc(handshakeTimeout, func() { c.Close() })
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if !late.Stop() && err == nil {
		err = errors.New("it took too long")
		conn.Close()
	}
	if err != nil {
		c.Close()
		return fmt.Errorf("begin the link: %w", err)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	var running sync.WaitGroup
	defer running.Wait()
	defer cancel()
	running.Go(func() { ssh.DiscardRequests(requests) })
	s := served{ctx: ctx, running: &running, body: d, lent: lent, signer: key, key: conn.Permissions.Extensions["key"], own: ssh.FingerprintSHA256(key.PublicKey()), id: conn.SessionID(), number: number(conn.SessionID())}
	running.Go(func() { s.endsWithLoan(cancel) })
	for ch := range channels {
		running.Go(func() { s.channel(ch) })
	}
	return nil
}

// ciphers starts with the one that is fast on common processors.
var ciphers = []string{"aes128-gcm@openssh.com", "chacha20-poly1305@openssh.com"}

// ErrNotAdmitted is how a device answers a bench that is no longer admitted.
var ErrNotAdmitted = rpc.Errorf(rpc.CodeNotAdmitted, "this bench is no longer admitted")

type (
	asker struct{}
	lent  struct{}
)

// Lent reports whether a control method is handled for a bench that was let in for a loan.
func Lent(ctx context.Context) bool { return ctx.Value(lent{}) == true }

// Asker returns the fingerprint of the bench whose control method is being handled.
func Asker(ctx context.Context) string {
	key, _ := ctx.Value(asker{}).(string)
	return key
}

type served struct {
	ctx     context.Context
	running *sync.WaitGroup
	body    Device
	signer  ssh.Signer
	key     string // of the bench
	lent    bool   // it is let in for a loan, and not by the owner

	own    string // the device's key
	id     []byte // of the SSH session (RFC 4253, section 7.2)
	number string
}

// admission is whether the bench is let in, and for what.
func (s *served) admission() device.Admittance {
	if of, ok := s.body.(Lender); ok && s.lent {
		return of.Lent(s.key)
	}
	return s.body.Admission(s.key)
}

func (s *served) channel(n ssh.NewChannel) {
	admission := s.admission()
	visitor := admission.State != device.Admitted
	switch {
	case n.ChannelType() == channelAdmit:
		s.admit(n)
	case visitor:
		n.Reject(ssh.Prohibited, "this bench is not admitted") //nolint:errcheck // nothing more to do
	case n.ChannelType() == channelControl:
		s.control(n)
	case !s.mayOpen(admission.Rights, n.ChannelType()):
		n.Reject(ssh.ConnectionFailed, notLent(admission.Rights, n.ChannelType())) //nolint:errcheck // as above
	case n.ChannelType() == channelStream:
		s.another(n)
	case n.ChannelType() == channelScreen:
		if c, requests, err := n.Accept(); err == nil {
			go ssh.DiscardRequests(requests)
			rfb.Serve(s.ctx, c, s.screen(admission.Rights)) //nolint:errcheck // the viewer sees the end
		}
	case n.ChannelType() == channelCompanion:
		s.carry(n)
	case n.ChannelType() == channelPort:
		s.port(n)
	case n.ChannelType() == "session":
		s.session(n)
	default:
		n.Reject(ssh.UnknownChannelType, "there is no channel "+n.ChannelType()) //nolint:errcheck // as above
	}
}

func (s *served) admit(n ssh.NewChannel) {
	c, requests, err := n.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	v := &visited{served: s}
	conn := rpc.New(c, v.handle)
	<-conn.Done()
	v.endIntroduction(true)
}

// visited is the device's side of one channel of a visitor.
type visited struct {
	*served

	mu     sync.Mutex
	cancel context.CancelFunc // of the question that is asked; nil: none is
	met    *met               // the introduction; nil: none was begun
}

func (v *visited) handle(ctx context.Context, conn *rpc.Conn, method string, params json.RawMessage) (any, error) {
	switch method {
	case MethodAdmitState:
		return v.admission(), nil
	case MethodAdmitCancel:
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.cancel != nil {
			v.cancel()
		}
		return nil, nil
	case MethodAdmitAsk:
		who, err := rpc.Decode[device.Visitor](params)
		if err != nil {
			return nil, err
		}
		who.Key, who.Number = v.key, v.number
		return v.question(ctx, conn, func(ctx context.Context, report func(device.Admittance)) { v.body.Ask(ctx, who, report) })
	case MethodBegin:
		return v.begin(conn, params)
	case MethodReveal:
		return nil, v.reveal(params)
	case MethodTyped:
		return v.typed(ctx, conn)
	}
	return rpc.NoMethod(ctx, conn, method, params)
}

// question has a question asked, sends each state of it, and returns the last one.
func (v *visited) question(ctx context.Context, conn *rpc.Conn, ask func(context.Context, func(device.Admittance))) (any, error) {
	v.mu.Lock()
	if v.cancel != nil {
		v.mu.Unlock()
		return nil, rpc.Errorf(rpc.CodeFailed, "this bench has already asked")
	}
	ctx, v.cancel = context.WithCancel(ctx)
	v.mu.Unlock()
	defer func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		v.cancel()
		v.cancel = nil
	}()
	var last device.Admittance
	ask(ctx, func(a device.Admittance) {
		last = a
		conn.Notify(MethodAdmitChange, a) //nolint:errcheck // the asker has gone
	})
	return last, nil
}

func (s *served) control(n ssh.NewChannel) {
	c, requests, err := n.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	conn := rpc.New(c, func(ctx context.Context, conn *rpc.Conn, method string, params json.RawMessage) (any, error) {
		admission := s.admission()
		switch {
		case admission.State != device.Admitted:
			return nil, ErrNotAdmitted
		case !s.mayCall(admission.Rights, method, params):
			return nil, rpc.Errorf(rpc.CodeNotLent, "%s", notLent(admission.Rights, method))
		case lends[method]:
			return s.lending(ctx, conn, method, params)
		}
		if of, ok := s.body.(Carrier); ok && method == MethodCompanionsFollow {
			return nil, s.followCompanions(ctx, of, conn.Notify)
		}
		return s.body.Control(context.WithValue(context.WithValue(ctx, asker{}, s.key), lent{}, s.lent), method, params, conn.Notify)
	})
	<-conn.Done()
}

// session serves the one thing that a session channel is for here: SFTP.
func (s *served) session(n ssh.NewChannel) {
	c, requests, err := n.Accept()
	if err != nil {
		return
	}
	defer c.Close()
	for r := range requests {
		var payload struct{ Name string }
		ok := r.Type == "subsystem" && ssh.Unmarshal(r.Payload, &payload) == nil && payload.Name == "sftp"
		r.Reply(ok, nil) //nolint:errcheck // the other side sees the end
		if !ok {
			continue
		}
		go ssh.DiscardRequests(requests)
		server := sftp.NewRequestServer(c, s.body.Files())
		server.Serve() //nolint:errcheck // the other side sees the end
		server.Close()
		return
	}
}

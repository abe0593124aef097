package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/rpc"
)

// KeyChanged is the error of a device that proved another key than the one that
// was pinned. It is never gone over silently.
type KeyChanged struct{ Pinned, Shown string }

func (e *KeyChanged) Error() string {
	return fmt.Sprintf("pinned is %s, shown was %s", e.Pinned, e.Shown)
}

// Session is the bench's side of a link. It is made by [Dial].
type Session struct {
	conn  ssh.Conn
	admit *rpc.Conn
	Key   string // the device key's fingerprint, proven

	mu       sync.Mutex
	change   func(Admission)
	done     chan struct{}
	channels sync.WaitGroup
}

// Dial begins a link over c, which it owns from then on. pinned is the
// fingerprint of the device key, or "" at the first meeting; another key is a
// [KeyChanged].
func Dial(ctx context.Context, c net.Conn, key ssh.Signer, pinned string) (*Session, error) {
	s := &Session{done: make(chan struct{})}
	config := &ssh.ClientConfig{
		User:          "bench",
		Auth:          []ssh.AuthMethod{ssh.PublicKeys(key)},
		ClientVersion: "SSH-2.0-EarlyBench_1",
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			s.Key = ssh.FingerprintSHA256(k)
			if pinned != "" && s.Key != pinned {
				return &KeyChanged{Pinned: pinned, Shown: s.Key}
			}
			return nil
		},
	}
	config.Ciphers = ciphers
	c.SetDeadline(time.Now().Add(handshakeTimeout)) //nolint:errcheck // a failed read tells
	stop := context.AfterFunc(ctx, func() { c.Close() })
	conn, channels, requests, err := ssh.NewClientConn(c, "device", config)
	if !stop() && err == nil {
		err = ctx.Err()
		conn.Close()
	}
	if err != nil {
		c.Close()
		if changed, ok := errors.AsType[*KeyChanged](err); ok {
			return nil, changed
		}
		return nil, fmt.Errorf("begin the link: %w", err)
	}
	c.SetDeadline(time.Time{}) //nolint:errcheck // as above
	s.conn = conn
	s.channels.Go(func() { ssh.DiscardRequests(requests) })
	s.channels.Go(func() {
		for n := range channels { // a device opens none
			n.Reject(ssh.Prohibited, "a device opens no channels") //nolint:errcheck // nothing more to do
		}
	})
	go func() {
		s.conn.Wait() //nolint:errcheck // it has ended, which is all
		close(s.done)
	}()
	ch, err := s.open(channelAdmit)
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("open the admission channel: %w", err)
	}
	s.admit = rpc.New(ch, s.admitHandler)
	return s, nil
}

func (s *Session) open(kind string) (io.ReadWriteCloser, error) {
	ch, requests, err := s.conn.OpenChannel(kind, nil)
	if err != nil {
		return nil, err
	}
	s.channels.Go(func() { ssh.DiscardRequests(requests) })
	return ch, nil
}

func (s *Session) admitHandler(_ context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
	s.mu.Lock()
	change := s.change
	s.mu.Unlock()
	if a, err := rpc.Decode[Admission](params); method == MethodAdmitChange && err == nil && change != nil {
		change(a)
	}
	return nil, nil
}

// Admission asks how it stands with this bench's key.
func (s *Session) Admission(ctx context.Context) (Admission, error) {
	var a Admission
	err := s.admit.Call(ctx, MethodAdmitState, nil, &a)
	return a, err
}

// Ask has the device ask its owner, reports each state, and returns the last.
// When ctx ends the question is taken away.
func (s *Session) Ask(ctx context.Context, v Visitor, change func(Admission)) (Admission, error) {
	s.mu.Lock()
	s.change = change
	s.mu.Unlock()
	defer context.AfterFunc(ctx, func() {
		short, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		s.admit.Call(short, MethodAdmitCancel, nil, nil) //nolint:errcheck // the device forgets it with the session
	})()
	var a Admission
	err := s.admit.Call(ctx, MethodAdmitAsk, v, &a)
	return a, err
}

// Control opens the control channel of an admitted bench; notify takes the
// device's notifications, in order, and must not block.
func (s *Session) Control(notify func(method string, params json.RawMessage)) (*rpc.Conn, error) {
	ch, err := s.open(channelControl)
	if err != nil {
		return nil, fmt.Errorf("open the control channel: %w", err)
	}
	return rpc.New(ch, func(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
		notify(method, params)
		return nil, nil
	}), nil
}

// Files opens SFTP.
func (s *Session) Files() (*sftp.Client, error) {
	ch, requests, err := s.conn.OpenChannel("session", nil)
	if err != nil {
		return nil, fmt.Errorf("open the files channel: %w", err)
	}
	s.channels.Go(func() { ssh.DiscardRequests(requests) })
	ok, err := ch.SendRequest("subsystem", true, ssh.Marshal(struct{ Name string }{"sftp"}))
	if err != nil || !ok {
		ch.Close()
		return nil, fmt.Errorf("open the files channel: the device refused: %w", errors.Join(err))
	}
	return sftp.NewClientPipe(ch, ch, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(64))
}

// Screen opens the screen, on which RFB is spoken.
func (s *Session) Screen() (io.ReadWriteCloser, error) {
	ch, err := s.open(channelScreen)
	if err != nil {
		return nil, fmt.Errorf("open the screen channel: %w", err)
	}
	return ch, nil
}

// Done is closed when the link has ended.
func (s *Session) Done() <-chan struct{} { return s.done }

// Close ends the link and waits for all that runs on it.
func (s *Session) Close() error {
	s.conn.Close()
	<-s.done
	if s.admit != nil {
		s.admit.Close()
	}
	s.channels.Wait()
	return nil
}

// FollowLog follows the device's log; take gets the lines in order and must not
// block. end ends it.
func (s *Session) FollowLog(from LogFrom, take func(Line)) (end func(), err error) {
	c, err := s.Control(func(method string, params json.RawMessage) {
		if l, err := rpc.Decode[Line](params); err == nil && method == MethodLog {
			take(l)
		}
	})
	if err != nil {
		return nil, err
	}
	var following sync.WaitGroup
	following.Go(func() {
		c.Call(context.Background(), MethodLogFollow, from, nil) //nolint:errcheck // it lasts until its end
	})
	return func() {
		c.Close()
		following.Wait()
	}, nil
}

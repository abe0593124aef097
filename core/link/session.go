package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/resume"
	"earlybench.invalid/earlybench/core/rpc"
)

// Session is the bench's side of a link, a [device.Session]. It is made by
// [Dial].
type Session struct {
	device.Bare // what a link does not have

	conn ssh.Conn
	key  string // the device's
	own  string // the bench's
	done chan struct{}
	idle func() time.Duration // for how long in all nothing could pass; nil where that does not happen

	err error                  // why it has ended, set before done is closed
	why atomic.Pointer[string] // that it will be ended for; nil where that was not said

	ending sync.Mutex // guards ended, and that nothing is begun after the end
	ended  bool
	runs   sync.WaitGroup // all that serves the connection

	visit *visit

	used    atomic.Bool   // a channel for admitted benches was opened
	calling chan struct{} // holds one value: taken by whoever opens the channel for calls
	calls   *rpc.Conn
}

var _ device.Session = (*Session)(nil)

// Dial sets up a link over c, which it owns from then on. accept is called with the SHA-256
// fingerprint of the device key when the device has proven it, and before this bench proves its
// own key; an error ends the link.
func Dial(ctx context.Context, c net.Conn, key ssh.Signer, accept func(fingerprint string) error) (*Session, error) {
	s := &Session{Bare: device.Bare{Way: "device link"}, own: ssh.FingerprintSHA256(key.PublicKey()), done: make(chan struct{}), calling: make(chan struct{}, 1), idle: idle(c)}
	s.calling <- struct{}{}
	var refused error
	config := &ssh.ClientConfig{
		User:          "bench",
		Auth:          []ssh.AuthMethod{ssh.PublicKeys(key)},
		ClientVersion: "SSH-2.0-EarlyBench_1",
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			s.key = ssh.FingerprintSHA256(k)
			refused = accept(s.key)
			return refused
		},
	}
	config.Ciphers = ciphers
	c.SetDeadline(time.Now().Add(handshakeTimeout)) //nolint:errcheck // a failed read tells
	stop := context.AfterFunc(ctx, func() { c.Close() })
	conn, channels, requests, err := ssh.NewClientConn(c, "device", config)
	if !stop() && err == nil {
		err = context.Cause(ctx)
		conn.Close()
	}
	if err != nil {
		c.Close()
		if refused != nil {
			return nil, refused
		}
		return nil, fmt.Errorf("begin the link: %w", err)
	}
	c.SetDeadline(time.Time{}) //nolint:errcheck // as above
	s.conn = conn
	s.run(func() { ssh.DiscardRequests(requests) })
	s.run(func() {
		for n := range channels { // a device opens none
			n.Reject(ssh.Prohibited, "a device must not open channels") //nolint:errcheck // nothing more to do
		}
	})
	s.run(func() {
		s.err = s.conn.Wait()
		close(s.done)
	})
	if err := s.beginVisit(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Key is the fingerprint of the device key.
func (s *Session) Key() string { return s.key }

// Done is closed when the link has ended.
func (s *Session) Done() <-chan struct{} { return s.done }

// Err is why the link has ended: nil while it stands, and where either side has closed it.
func (s *Session) Err() error {
	select {
	case <-s.done:
	default:
		return nil
	}
	if errors.Is(s.err, io.EOF) || errors.Is(s.err, net.ErrClosed) {
		return nil
	}
	return s.err
}

// Ending says why the link is about to be ended here, for [Session.Why].
func (s *Session) Ending(why string) { s.why.CompareAndSwap(nil, &why) }

// Why is why the link has ended, as whoever has ended it says, such as the end of a loan; "" where nothing was said.
func (s *Session) Why() string {
	if why := s.why.Load(); why != nil {
		return *why
	}
	if ended, ok := errors.AsType[*resume.Ended](s.Err()); ok {
		return ended.Reason
	}
	return ""
}

// Close ends the link and waits for all that runs on it.
func (s *Session) Close() error {
	s.conn.Close()
	<-s.done
	if s.visit != nil {
		s.visit.conn.Close()
	}
	<-s.calling // whoever opens the channel for calls sees the end, too
	if s.calls != nil {
		s.calls.Close()
	}
	s.calling <- struct{}{}
	s.ending.Lock()
	s.ended = true
	s.ending.Unlock()
	s.runs.Wait()
	return nil
}

// run runs f in a goroutine that the end of the session waits for. After the end it does
// nothing.
func (s *Session) run(f func()) {
	s.ending.Lock()
	defer s.ending.Unlock()
	if !s.ended {
		s.runs.Go(f)
	}
}

// open opens a channel. If the device does not confirm it before ctx ends, open returns; the
// channel is closed if it opens later.
func (s *Session) open(ctx context.Context, kind string, data []byte) (ssh.Channel, error) {
	type opened struct {
		ch  ssh.Channel
		err error
	}
	answer := make(chan opened, 1)
	s.run(func() {
		ch, requests, err := s.conn.OpenChannel(kind, data)
		answer <- opened{ch, err}
		if err == nil {
			ssh.DiscardRequests(requests)
		}
	})
	select {
	case <-s.done: // a channel that was not begun any more is answered by nobody
		return nil, device.ErrEnded
	case o := <-answer:
		if refused, ok := errors.AsType[*ssh.OpenChannelError](o.err); ok && refused.Reason == ssh.Prohibited {
			return nil, s.notAdmitted()
		}
		if o.err != nil {
			return nil, fmt.Errorf("open the channel %s: %w", kind, s.lost(o.err))
		}
		if kind != channelAdmit {
			s.used.Store(true)
		}
		return o.ch, nil
	case <-ctx.Done():
		s.run(func() {
			if o := <-answer; o.err == nil {
				o.ch.Close()
			}
		})
		return nil, fmt.Errorf("open the channel %s: %w", kind, context.Cause(ctx))
	}
}

// lost turns an error that was caused by the end of the link into [device.ErrEnded].
func (s *Session) lost(err error) error {
	select {
	case <-s.done:
		return device.ErrEnded
	default:
		return err
	}
}

// control opens a control channel of an admitted bench.
func (s *Session) control(ctx context.Context, handler rpc.Handler) (*rpc.Conn, error) {
	ch, err := s.open(ctx, channelControl, nil)
	if err != nil {
		return nil, err
	}
	return rpc.New(ch, handler), nil
}

// answerWithin is how long a device may take to answer a call; installing an app takes it longer.
const (
	answerWithin  = 30 * time.Second
	installWithin = 10 * time.Minute
)

// silence is the error of a device that does not answer.
func silence(what string, within time.Duration) error {
	return &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The device has not %s within %s.", what, within),
		Remedy: "Check that it still reacts to touches. Restart it, or its link: earlybench link restart DEVICE."}
}

// call calls a control method on the channel for calls.
func (s *Session) call(ctx context.Context, method string, params, result any) error {
	within := answerWithin
	if method == MethodAppSwitch {
		within = installWithin
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer resume.Within(within, s.idle, func() { cancel(silence("answered "+method, within)) }).Stop()
	select {
	case <-s.calling:
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-s.done:
		return device.ErrEnded
	}
	if s.calls == nil || s.calls.Err() != nil {
		c, err := s.control(ctx, rpc.NoMethod)
		if err != nil {
			s.calling <- struct{}{}
			return err
		}
		s.calls = c
	}
	c := s.calls
	s.calling <- struct{}{}
	return s.answer(c.Call(ctx, method, params, result))
}

// notAdmitted is the error of a device that does not admit this bench. A session on which it
// was admitted before ends, so that the next one learns where the bench stands.
func (s *Session) notAdmitted() error {
	if s.used.Load() {
		s.conn.Close()
	}
	return device.ErrNotAdmitted
}

// answer translates the error of a call.
func (s *Session) answer(err error) error {
	if e, ok := errors.AsType[*rpc.Error](err); ok && e.Code == rpc.CodeNotAdmitted {
		return s.notAdmitted()
	}
	if errors.Is(err, rpc.ErrClosed) {
		return s.lost(err)
	}
	return err
}

// Find makes the device show its handle.
func (s *Session) Find(ctx context.Context, handle string) error {
	return s.call(ctx, MethodFind, Find{Handle: handle}, nil)
}

// Describe returns the description that the device gives of itself.
func (s *Session) Describe(ctx context.Context) (Description, error) {
	var d Description
	err := s.call(ctx, MethodDescribe, nil, &d)
	return d, err
}

// Screen is the device's screen.
func (s *Session) Screen() (device.Screen, error) { return screen{s}, nil }

type screen struct{ *Session }

// Open opens the screen, on which RFB is spoken.
func (s screen) Open(ctx context.Context) (io.ReadWriteCloser, error) {
	return s.open(ctx, channelScreen, nil)
}

// Alive asks the device whether it is there, by a request that it need not know (RFC 4254,
// section 4: it answers with a failure, which is an answer).
func (s *Session) Alive(ctx context.Context) error {
	answered := make(chan error, 1)
	s.run(func() {
		_, _, err := s.conn.SendRequest("alive@earlybench.invalid", true, nil)
		answered <- err
	})
	select {
	case err := <-answered:
		return err
	case <-s.done:
		return device.ErrEnded
	case <-ctx.Done():
		return fmt.Errorf("ask the device whether it is there: %w", context.Cause(ctx))
	}
}

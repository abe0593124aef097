// Package shell works with a device that is reached by its SSH server alone, by what its POSIX shell
// can do (IEEE 1003.1): facts are read, files are sent by SFTP or through the shell, apps are started as
// processes of the user's. Nothing of ours needs to be on the device.
//
// What it keeps there is below ~/.local/share/early-bench (docs/formats/linux-device.md).
package shell

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
)

// Session is a login on a device, a [device.Session]. It is made by [New].
type Session struct {
	device.Bare // what such a device does not have

	conn  ssh.Conn
	key   string // the device's
	own   ssh.PublicKey
	done  chan struct{}
	calls chan struct{} // holds a value for each short script that runs

	ending sync.Mutex // guards ended, and that nothing is begun after the end
	ended  bool
	runs   sync.WaitGroup
}

var _ device.Session = (*Session)(nil)

// callsAtOnce is how many short scripts run at the same time: servers bound the channels of one
// connection, of OpenSSH to ten, and logs need some, too.
const callsAtOnce = 2

// New makes a session of a connection on which somebody is logged in, and owns it from then on. own is the
// bench's key.
func New(conn ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request, deviceKey string, own ssh.PublicKey) *Session {
	s := &Session{Bare: device.Bare{Way: "ssh"}, conn: conn, key: deviceKey, own: own, done: make(chan struct{}), calls: make(chan struct{}, callsAtOnce)}
	s.run(func() { ssh.DiscardRequests(requests) })
	s.run(func() {
		for n := range channels {
			n.Reject(ssh.Prohibited, "a bench takes no channels") //nolint:errcheck // nothing more to do
		}
	})
	s.run(func() {
		s.conn.Wait() //nolint:errcheck // it has ended, which is all
		close(s.done)
	})
	return s
}

// Key is the fingerprint of the device key.
func (s *Session) Key() string { return s.key }

// Done is closed when the session has ended.
func (s *Session) Done() <-chan struct{} { return s.done }

// Close ends the session and waits for all that runs on it.
func (s *Session) Close() error {
	s.conn.Close()
	<-s.done
	s.ending.Lock()
	s.ended = true
	s.ending.Unlock()
	s.runs.Wait()
	return nil
}

// run runs f in a goroutine that the end of the session waits for. After the end it does nothing and
// returns false.
func (s *Session) run(f func()) bool {
	s.ending.Lock()
	defer s.ending.Unlock()
	if !s.ended {
		s.runs.Go(f)
	}
	return !s.ended
}

// until returns what f returns, or the cause of ctx as soon as that ends: a device that is silent confirms
// not even that a channel is closed. f ends with the session at the latest.
func until[T any](ctx context.Context, s *Session, f func() (T, error)) (T, error) {
	type result struct {
		v   T
		err error
	}
	done := make(chan result, 1)
	var none T
	if !s.run(func() { v, err := f(); done <- result{v, err} }) {
		return none, device.ErrEnded
	}
	select {
	case r := <-done:
		return r.v, r.err
	case <-ctx.Done():
		return none, context.Cause(ctx)
	}
}

// Alive asks the device for a sign of life, and waits for it.
func (s *Session) Alive(ctx context.Context) error {
	_, err := until(ctx, s, func() (bool, error) {
		answered, _, err := s.conn.SendRequest("keepalive@earlybench.invalid", true, nil) // one that it does not know, it answers, too (RFC 4254, section 4)
		return answered, err
	})
	return err
}

// open opens a channel. It is closed if the device confirms it only after ctx has ended.
func (s *Session) open(ctx context.Context, kind string, extra []byte) (ssh.Channel, <-chan *ssh.Request, error) {
	type opened struct {
		ssh.Channel
		requests <-chan *ssh.Request
	}
	o, err := until(ctx, s, func() (opened, error) {
		ch, requests, err := s.conn.OpenChannel(kind, extra)
		if err == nil && ctx.Err() != nil {
			ch.Close()
			ssh.DiscardRequests(requests)
		}
		return opened{ch, requests}, err
	})
	if err != nil {
		return nil, nil, fmt.Errorf("open a channel: %w", s.lost(err))
	}
	return o.Channel, o.requests, nil
}

// lost turns an error that was caused by the end of the session into [device.ErrEnded].
func (s *Session) lost(err error) error {
	select {
	case <-s.done:
		return device.ErrEnded
	default:
		return err
	}
}

// Bounds on what a script prints, in bytes, and on how long a short one runs.
const (
	mostPrinted  = 4 << 20
	mostMistakes = 4 << 10
	callWithin   = 30 * time.Second
)

// process is a script that runs on the device.
type process struct {
	ssh.Channel
	session  *Session
	mistakes strings.Builder
	reading  sync.WaitGroup // standard error and requests
	stop     func() bool
}

// beginOften is how often a command is tried that the server drops before it runs: dropbear does so now and then
// with the one after a subsystem that it has not got.
const beginOften = 3

// begin starts a script; it is ended when ctx is.
func (s *Session) begin(ctx context.Context, text string) (p *process, err error) {
	for range beginOften {
		if p, err = s.exec(ctx, len(text)); !errors.Is(err, errDropped) {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	_, err = io.WriteString(p, text)
	if errors.Is(err, io.EOF) { // it has ended already, and says why
		return nil, p.result(ctx, "")
	}
	if err != nil {
		p.end()
		return nil, p.because(ctx, err)
	}
	return p, nil
}

var errDropped = errors.New("the device has dropped a command before it ran")

// exec starts a shell that waits for a script of the given number of bytes.
func (s *Session) exec(ctx context.Context, bytes int) (*process, error) {
	ch, requests, err := s.open(ctx, "session", nil)
	if err != nil {
		return nil, err
	}
	p := &process{Channel: ch, session: s, stop: context.AfterFunc(ctx, func() { ch.Close() })}
	p.reads(func() { ssh.DiscardRequests(requests) })
	p.reads(p.readMistakes)
	ok, err := ch.SendRequest("exec", true, ssh.Marshal(struct{ Command string }{command(bytes)}))
	if err == nil && ok {
		return p, nil
	}
	p.end()
	switch {
	case err == nil:
		return nil, &problem.Problem{Kind: problem.Unsupported, Text: "The device runs no commands for this user.", Remedy: "Look what its SSH server allows: ForceCommand, or the user's shell."}
	case errors.Is(err, io.EOF) && ctx.Err() == nil:
		return nil, s.lost(errDropped)
	}
	return nil, p.because(ctx, err)
}

// reads runs f, for which the end of the process waits.
func (p *process) reads(f func()) {
	p.reading.Add(1)
	if !p.session.run(func() { defer p.reading.Done(); f() }) {
		p.reading.Done()
	}
}

// because tells first that ctx or the session has ended, where that is why.
func (p *process) because(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		return p.session.lost(err)
	}
	return nil
}

func (p *process) readMistakes() {
	buf := make([]byte, 1024)
	for {
		n, err := p.Stderr().Read(buf)
		if p.mistakes.Len() < mostMistakes {
			p.mistakes.Write(buf[:n])
		}
		if err != nil {
			return
		}
	}
}

// end closes the channel. What still reads from it ends when the device confirms that, or with the session.
func (p *process) end() {
	p.Close()
	p.stop()
}

// closeWithin is how long a device may take to close the channel of a command that has ended.
const closeWithin = 5 * time.Second

// closed waits until the device has closed the channel, and returns what the command has said of its
// mistakes.
func (p *process) closed(ctx context.Context) string {
	ctx, cancel := context.WithTimeout(ctx, closeWithin)
	defer cancel()
	said, _ := until(ctx, p.session, func() (string, error) {
		p.reading.Wait()
		return plain.Cut(plain.Line(strings.TrimSpace(p.mistakes.String())), 200), nil
	})
	return said
}

// result is nil for a script that has ended well, whose status is "0". It is called once the output was read to
// its end. "" is the status of one that has not said how it has ended.
func (p *process) result(ctx context.Context, status string) error {
	said := p.closed(ctx)
	p.end()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	switch {
	case status == "0":
		return nil
	case said != "":
		return fmt.Errorf("the device says: %s", said)
	case status == "":
		return p.session.lost(errors.New("the device has ended the command without a word"))
	}
	return fmt.Errorf("the device's shell has ended with %.10s, and said nothing", status)
}

// call runs a short script, and returns what it has printed.
func (s *Session) call(ctx context.Context, script string, input io.Reader, args ...string) (string, error) {
	return s.callFor(ctx, callWithin, script, input, args...)
}

func (s *Session) callFor(ctx context.Context, within time.Duration, script string, input io.Reader, args ...string) (string, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, within, &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The device has not answered within %s.", within),
		Remedy: "Look whether it still works: log in to it from a terminal."})
	defer cancel()
	return until(ctx, s, func() (string, error) {
		select {
		case s.calls <- struct{}{}:
			defer func() { <-s.calls }()
		case <-ctx.Done():
			return "", context.Cause(ctx)
		case <-s.done:
			return "", device.ErrEnded
		}
		return s.read(ctx, script, input, args)
	})
}

// read runs a script to its end, and returns what it has printed.
func (s *Session) read(ctx context.Context, script string, input io.Reader, args []string) (string, error) {
	mark := rand.Text()
	p, err := s.begin(ctx, source(script, mark, args))
	if err != nil {
		return "", err
	}
	s.run(func() { p.feed(input) }) //nolint:errcheck // what the script says counts
	out, err := io.ReadAll(io.LimitReader(p, mostPrinted+1))
	switch {
	case len(out) > mostPrinted:
		p.end()
		return "", fmt.Errorf("the device prints more than %d bytes", mostPrinted)
	case err != nil:
		p.end()
		return "", p.because(ctx, err)
	}
	text, status, _ := strings.Cut(string(out), "\n"+mark+" ")
	return text, p.result(ctx, strings.TrimSpace(status))
}

// feed sends the input of a script.
func (p *process) feed(input io.Reader) error {
	if input != nil {
		if _, err := io.Copy(p, input); err != nil {
			return err
		}
	}
	return p.CloseWrite()
}

// Dial connects to a TCP port of the device on its loopback interface (RFC 4254, section 7.2).
func (s *Session) dial(ctx context.Context, port int) (io.ReadWriteCloser, error) {
	ch, requests, err := s.open(ctx, "direct-tcpip", ssh.Marshal(struct {
		Host       string
		Port       uint32
		Origin     string
		OriginPort uint32
	}{"127.0.0.1", uint32(port), "127.0.0.1", 0}))
	if refused, ok := errors.AsType[*ssh.OpenChannelError](err); ok {
		text := fmt.Sprintf("The device does not connect to its port %d: nothing is listening there", port)
		if refused.Reason == ssh.Prohibited {
			text = "The device's SSH server forwards no ports"
		}
		return nil, &problem.Problem{Kind: problem.Refused, Text: text + ".", Remedy: "Start what listens there, or allow it in the server's settings (AllowTcpForwarding)."}
	}
	if err != nil {
		return nil, err
	}
	s.run(func() { ssh.DiscardRequests(requests) })
	return ch, nil
}

// Dial logs in over a connection, which it owns from then on. accept is called with the fingerprint of the
// device key once it is proven, before anything of the bench's is shown; an error ends it. pinned is the
// key that is expected; servers have several, of several algorithms, and are asked for each; "" for any.
func Dial(ctx context.Context, dial func(context.Context) (net.Conn, error), user, pinned string, own ssh.Signer, more []ssh.AuthMethod, accept func(key string) error) (*Session, error) {
	s, err := login(ctx, dial, user, slices.Concat(keyAlgorithms...), own, more, accept)
	changed, ok := errors.AsType[*device.KeyChanged](err)
	if !ok || pinned == "" {
		return s, err
	}
	for _, algorithms := range keyAlgorithms {
		s, err := login(ctx, dial, user, algorithms, own, more, accept)
		if _, other := errors.AsType[*device.KeyChanged](err); err == nil || !other && !isNoCommon(err) {
			return s, err
		}
	}
	return nil, changed
}

// keyAlgorithms are those of device keys, by kind of key, in the order in which they are asked for.
var keyAlgorithms = [][]string{
	{ssh.KeyAlgoED25519}, {ssh.KeyAlgoECDSA256}, {ssh.KeyAlgoECDSA384}, {ssh.KeyAlgoECDSA521}, {ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
}

func isNoCommon(err error) bool {
	_, ok := errors.AsType[*ssh.AlgorithmNegotiationError](err)
	return ok
}

// ErrNotLetIn is the error of a device that knows neither the bench's key nor what else was shown.
var ErrNotLetIn = errors.New("the device does not let this bench in: it does not know its key")

func login(ctx context.Context, dial func(context.Context) (net.Conn, error), user string, algorithms []string, own ssh.Signer, more []ssh.AuthMethod, accept func(string) error) (*Session, error) {
	c, err := dial(ctx)
	if err != nil {
		return nil, err
	}
	var key string
	var refused error
	config := &ssh.ClientConfig{User: user, Auth: append([]ssh.AuthMethod{ssh.PublicKeys(own)}, more...), ClientVersion: "SSH-2.0-EarlyBench_1", HostKeyAlgorithms: algorithms,
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			key = ssh.FingerprintSHA256(k)
			refused = accept(key)
			return refused
		}}
	if until, ok := ctx.Deadline(); ok {
		c.SetDeadline(until) //nolint:errcheck // a failed read tells
	}
	stop := context.AfterFunc(ctx, func() { c.Close() })
	conn, channels, requests, err := ssh.NewClientConn(c, "device", config)
	if !stop() && err == nil {
		conn.Close()
		err = context.Cause(ctx)
	}
	if err != nil {
		c.Close()
		switch {
		case refused != nil:
			return nil, refused
		case ctx.Err() != nil:
			return nil, context.Cause(ctx)
		case key != "" && strings.Contains(err.Error(), "unable to authenticate"): // it has no type
			return nil, ErrNotLetIn
		}
		return nil, fmt.Errorf("log in: %w", err)
	}
	c.SetDeadline(time.Time{}) //nolint:errcheck // as above
	return New(conn, channels, requests, key, own.PublicKey()), nil
}

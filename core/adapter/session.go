package adapter

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
)

// Session is a device that an adapter speaks for, a [device.Session]. It ends when the adapter says that the
// device is gone, or ends itself.
type Session struct {
	device.Bare // what the adapter does not have

	adapter *Adapter
	device  string // by which it is spoken of
	store   store

	facts *following
	done  chan struct{}
	stop  context.CancelFunc
	runs  sync.WaitGroup

	mu   sync.Mutex
	gone error // why it has ended
}

var _ device.Session = (*Session)(nil)

// Open begins a session with a device that was a candidate.
func (a *Adapter) Open(candidate string) *Session {
	ctx, stop := context.WithCancel(context.Background())
	s := &Session{Bare: device.Bare{Way: "adapter " + plain.Cut(plain.Line(a.Name), 40)}, adapter: a, device: candidate, store: store{a.given}, stop: stop, done: make(chan struct{}),
		facts: &following{values: map[string]json.RawMessage{}, changed: make(chan struct{})}}
	a.mu.Lock()
	a.follows[candidate] = s.facts
	a.mu.Unlock()
	s.runs.Go(func() { s.last(ctx) })
	return s
}

// last waits until the device is gone, which ends the request for its facts.
func (s *Session) last(ctx context.Context) {
	err := s.adapter.conn.Call(ctx, MethodFacts, Follow{Device: s.device}, nil)
	if e, ok := errors.AsType[*rpc.Error](err); ok {
		err = errors.New(plain.Cut(plain.Line(e.Message), 200))
	}
	s.adapter.mu.Lock()
	if s.adapter.follows[s.device] == s.facts {
		delete(s.adapter.follows, s.device)
	}
	s.adapter.mu.Unlock()
	s.mu.Lock()
	s.gone = err
	s.mu.Unlock()
	close(s.done)
}

// Gone is why the session has ended; nil where the device has just gone.
func (s *Session) Gone() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if errors.Is(s.gone, rpc.ErrClosed) || errors.Is(s.gone, context.Canceled) {
		return s.adapter.Err()
	}
	return s.gone
}

// Key is "": an adapter's devices prove no key.
func (s *Session) Key() string { return "" }

// Done is closed when the session has ended.
func (s *Session) Done() <-chan struct{} { return s.done }

// Close ends the session.
func (s *Session) Close() error {
	s.stop()
	s.runs.Wait()
	return nil
}

// do runs an action, unless the session has ended.
func (s *Session) do(ctx context.Context, action string, args, result any, line func(Line)) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	select {
	case <-s.done:
		return device.ErrEnded
	default:
	}
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-s.done:
			cancel(device.ErrEnded)
		case <-ended:
		}
	}()
	if args == nil {
		args = struct{}{}
	}
	within := actWithin
	if line != nil {
		within = 0
	}
	return s.adapter.Do(ctx, s.device, action, args, result, within, line)
}

// Facts returns what the adapter tells of the device.
func (s *Session) Facts() (device.Facts, error) { return facts{s}, nil }

type facts struct{ *Session }

func (f facts) Follow(ctx context.Context, take func([]device.Fact)) error {
	told := map[string]string{}
	for {
		f.facts.mu.Lock()
		var news []device.Fact
		for _, k := range f.facts.order {
			if v := f.facts.values[k]; told[k] != string(v) {
				told[k] = string(v)
				news = append(news, device.Fact{Key: k, Value: v})
			}
		}
		changed := f.facts.changed
		f.facts.mu.Unlock()
		if len(news) > 0 {
			take(news)
		}
		select {
		case <-changed:
		case <-f.done:
			return device.ErrEnded
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// Log returns the log, where the adapter has one.
func (s *Session) Log() (device.Log, error) {
	if !s.adapter.Can(ActLog) {
		return s.Bare.Log()
	}
	return logs{s}, nil
}

type logs struct{ *Session }

// mostWaiting is how many lines may wait to be taken; an adapter that sends faster is held back by that.
const mostWaiting = 1000

func (l logs) Follow(ctx context.Context, from device.LogFrom, take func(device.Line) bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines := make(chan Line, mostWaiting)
	result := make(chan error, 1)
	go func() {
		result <- l.do(ctx, ActLog, LogArgs{After: from.After}, nil, func(line Line) {
			select {
			case lines <- line:
			case <-ctx.Done():
			}
		})
	}()
	last := from.After
	for {
		select {
		case line := <-lines:
			if line.Seq <= last { // it has shown that already
				continue
			}
			last = line.Seq
			if from.App != "" && line.App != from.App {
				continue
			}
			if !take(lineOf(line)) {
				cancel()
				<-result
				return nil
			}
		case err := <-result:
			if err == nil {
				err = errors.New("the adapter ended the log")
			}
			return err
		}
	}
}

func lineOf(l Line) device.Line {
	out := device.Line{Seq: l.Seq, At: time.Now().UTC(), App: plain.Cut(l.App, 100), Level: "info", Text: plain.Cut(l.Text, 4000)}
	if l.Level == "error" {
		out.Level = l.Level
	}
	if l.Ended != nil {
		out.Ended = &device.Ended{Code: l.Ended.Code, Reason: l.Ended.Reason}
	}
	return out
}

// Screen returns the screen, where the adapter has one.
func (s *Session) Screen() (device.Screen, error) {
	if !s.adapter.Can(ActScreen) {
		return s.Bare.Screen()
	}
	return screen{s}, nil
}

type screen struct{ *Session }

func (v screen) Open(ctx context.Context) (io.ReadWriteCloser, error) {
	return v.socket(ctx, ActScreen, nil)
}

// Ports returns the ports, where the adapter has some.
func (s *Session) Ports() (device.Ports, error) {
	if !s.adapter.Can(ActPort) {
		return s.Bare.Ports()
	}
	return ports{s}, nil
}

type ports struct{ *Session }

func (p ports) Dial(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	return p.socket(ctx, ActPort, PortArgs{Name: name})
}

// socket asks the adapter to open a byte stream, and connects to it.
func (s *Session) socket(ctx context.Context, action string, args any) (io.ReadWriteCloser, error) {
	var at Socket
	if err := s.do(ctx, action, args, &at, nil); err != nil {
		return nil, err
	}
	if at.Port < 1024 || at.Port > 65535 || len(at.Key) < 16 || len(at.Key) > 200 || strings.ContainsAny(at.Key, "\r\n") {
		return nil, problem.Errorf(problem.Failed, "the adapter opens %s at port %d with a key of %d characters: the port must be 1024 or more, and the key have 16 to 200 characters", action, at.Port, len(at.Key))
	}
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", at.Port))
	if err != nil {
		return nil, fmt.Errorf("connect to the port of the adapter: %w", err)
	}
	w := bufio.NewWriter(c)
	fmt.Fprintf(w, "%s\n", at.Key)
	if err := w.Flush(); err != nil {
		c.Close()
		return nil, fmt.Errorf("connect to the port of the adapter: %w", err)
	}
	return c, nil
}

// Find has the device show its handle.
func (s *Session) Find(ctx context.Context, handle string) error {
	if !s.adapter.Can(ActFind) {
		return s.Bare.Find(ctx, handle)
	}
	return s.do(ctx, ActFind, FindArgs{Handle: handle}, nil, nil)
}

// Restart restarts the device.
func (s *Session) Restart(ctx context.Context) error {
	if !s.adapter.Can(ActRestart) {
		return s.Bare.Restart(ctx)
	}
	return s.do(ctx, ActRestart, nil, nil, nil)
}

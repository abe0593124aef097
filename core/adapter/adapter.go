package adapter

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
)

// Deadlines of an adapter's answers.
const (
	helloWithin     = 10 * time.Second
	candidateWithin = 10 * time.Second
	actWithin       = 30 * time.Second
	stopWithin      = 2 * time.Second
)

// Adapter is an adapter that runs. It is made by Begin, and ends with Close, when its program ends, or when it
// breaks the protocol.
type Adapter struct {
	Welcome
	conn  *rpc.Conn
	given string
	said  func(text string) // what it did wrong

	mu      sync.Mutex
	jobs    int
	acts    map[string]*act
	follows map[string]*following // by device
	cause   error                 // why it was ended
}

// act is an action that is being done.
type act struct {
	device string
	alive  chan struct{}
	asks   func(text string)
	line   func(Line)
}

// following is the facts of a device that are being followed.
type following struct {
	mu      sync.Mutex
	order   []string
	values  map[string]json.RawMessage
	changed chan struct{} // closed at the next change
}

// Begin greets an adapter over rw, which it owns from then on. said is told what it does wrong without being
// ended for it, and may be nil.
func Begin(ctx context.Context, rw io.ReadWriteCloser, h Hello, said func(string)) (*Adapter, error) {
	if said == nil {
		said = func(string) {}
	}
	h.Protocol = Version
	a := &Adapter{given: h.Given, said: said, acts: map[string]*act{}, follows: map[string]*following{}}
	a.conn = rpc.New(rw, a.handle)
	ctx, cancel := context.WithTimeout(ctx, helloWithin)
	defer cancel()
	var w Welcome
	err := a.conn.Call(ctx, MethodHello, h, &w)
	if err == nil {
		err = w.check()
	}
	a.mu.Lock() // it may be telling facts already
	a.Welcome = w
	a.mu.Unlock()
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("it did not answer hello within %s", helloWithin)
	}
	if err != nil {
		a.conn.Close()
		return nil, err
	}
	return a, nil
}

// Close ends the conversation.
func (a *Adapter) Close() error { return a.conn.Close() }

// Done is closed when the adapter has ended.
func (a *Adapter) Done() <-chan struct{} { return a.conn.Done() }

// Err returns why it was ended; nil if it exited by itself, or is still running.
func (a *Adapter) Err() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.cause
}

// end ends an adapter that has broken the protocol.
func (a *Adapter) end(cause error) {
	a.mu.Lock()
	if a.cause == nil {
		a.cause = cause
	}
	a.mu.Unlock()
	go a.conn.Close() // handlers may be running, which Close waits for
}

// Look asks how well a candidate fits.
func (a *Adapter) Look(ctx context.Context, c Candidate) (Fit, error) {
	ctx, cancel := context.WithTimeout(ctx, candidateWithin)
	defer cancel()
	var f Fit
	err := a.conn.Call(ctx, MethodCandidate, c, &f)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		err = fmt.Errorf("it did not say within %s whether %s is one of its devices", candidateWithin, c.Path)
		a.end(err)
	case err == nil && (f.Fit < 0 || f.Fit > 100):
		err = fmt.Errorf("it says that %s fits with %d, which is not between 0 and 100", c.Path, f.Fit)
		a.said(err.Error())
	}
	f.Model, f.Serial = plain.Cut(plain.Line(f.Model), 60), plain.Cut(plain.Line(f.Serial), 60)
	return f, err
}

// handle handles the messages that the adapter sends by itself.
func (a *Adapter) handle(ctx context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
	switch method {
	case MethodFact:
		return nil, a.told(params)
	case MethodProgress:
		p, err := rpc.Decode[Progress](params)
		if err == nil {
			a.lives(p.Job)
		}
		return nil, err
	case MethodLine:
		l, err := rpc.Decode[Line](params)
		if err == nil {
			a.takeLine(l)
		}
		return nil, err
	case MethodAsk:
		q, err := rpc.Decode[Ask](params)
		if err != nil {
			return nil, err
		}
		return nil, a.ask(ctx, q)
	}
	a.said(fmt.Sprintf("it calls %.40q, which is not a method of a bench", method))
	return rpc.NoMethod(ctx, nil, method, params)
}

// told handles a fact.
func (a *Adapter) told(params json.RawMessage) error {
	t, err := rpc.Decode[Told](params)
	if err != nil {
		a.said("it reports an unreadable fact: " + plain.Cut(err.Error(), 200))
		return err
	}
	a.mu.Lock()
	f := a.follows[t.Device]
	declared := false
	for _, k := range a.Facts {
		declared = declared || k.Key == t.Key
	}
	a.mu.Unlock()
	switch {
	case f == nil:
		a.said(fmt.Sprintf("it reports a fact about %.40q, whose facts were not requested", t.Device))
	case !declared:
		a.said(fmt.Sprintf("it reports the fact %.60q, which it has not declared", t.Key))
	default:
		f.set(t.Key, t.Value)
	}
	return nil
}

func (f *following) set(key string, value json.RawMessage) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, have := f.values[key]; !have {
		f.order = append(f.order, key)
	}
	f.values[key] = value
	close(f.changed)
	f.changed = make(chan struct{})
}

// value is the last value that was reported for a key.
func (f *following) value(key string) (string, <-chan struct{}) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return string(f.values[key]), f.changed
}

// act of a job; nil if it is not running.
func (a *Adapter) act(job string) *act {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.acts[job]
}

// lives notes that an action is still running.
func (a *Adapter) lives(job string) {
	if w := a.act(job); w != nil {
		select {
		case w.alive <- struct{}{}:
		default:
		}
	}
}

func (a *Adapter) takeLine(l Line) {
	w := a.act(l.Job)
	if w == nil || w.line == nil {
		a.said(fmt.Sprintf("it sends a log line for %.40q, whose log is not followed", l.Job))
		return
	}
	a.lives(l.Job)
	w.line(l)
}

// ask asks a person until the fact has changed or the action ends.
func (a *Adapter) ask(ctx context.Context, q Ask) error {
	w := a.act(q.Job)
	if w == nil {
		return rpc.Errorf(rpc.CodeInvalidParams, "the job %.40q is not running", q.Job)
	}
	a.mu.Lock()
	f := a.follows[w.device]
	a.mu.Unlock()
	if f == nil {
		return rpc.Errorf(rpc.CodeFailed, "the facts of %s are not followed", w.device)
	}
	if w.asks == nil {
		return rpc.Errorf(rpc.CodeFailed, "nobody is there to ask")
	}
	w.asks(plain.Cut(plain.Line(q.Text), 300))
	defer w.asks("")
	before, changed := f.value(q.Fact)
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C: // a person may take long
			if a.act(q.Job) == nil {
				return rpc.Errorf(rpc.CodeFailed, "the job has ended")
			}
			a.lives(q.Job)
			continue
		case <-changed:
		}
		var now string
		if now, changed = f.value(q.Fact); now != before {
			return nil
		}
	}
}

// Do runs an action on a device. line gets the lines of a log, and may be nil. within is how long the
// adapter may be silent; 0 for any time, since a log may be quiet.
func (a *Adapter) Do(ctx context.Context, on, action string, args, result any, within time.Duration, line func(Line)) error {
	w := &act{device: on, alive: make(chan struct{}, 1), line: line, asks: device.Asking(ctx)}
	a.mu.Lock()
	a.jobs++
	job := strconv.Itoa(a.jobs)
	a.acts[job] = w
	a.mu.Unlock()
	defer func() {
		a.mu.Lock()
		delete(a.acts, job)
		a.mu.Unlock()
	}()
	answer := make(chan error, 1)
	calling, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	go func() {
		answer <- a.conn.Call(calling, MethodAct, Act{Job: job, Device: on, Action: action, Args: args, Deadline: int(within / time.Second)}, result)
	}()
	timer := time.NewTimer(within)
	defer timer.Stop()
	silent := timer.C
	if within == 0 {
		silent = nil
	}
	for {
		select {
		case err := <-answer:
			return a.failed(action, err)
		case <-w.alive:
			timer.Reset(within)
		case <-silent:
			err := &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The adapter did not answer %s within %s, and was stopped.", action, within), Remedy: "Read its log: earlybench adapter."}
			a.end(err)
			return err
		case <-ctx.Done():
			a.conn.Notify(MethodStop, Stop{Job: job}) //nolint:errcheck // it is ended if it does not
			select {
			case <-answer:
			case <-time.After(stopWithin):
				a.end(fmt.Errorf("it did not stop %s within %s", action, stopWithin))
			}
			return context.Cause(ctx)
		}
	}
}

// failed turns an adapter's error into one for people.
func (a *Adapter) failed(action string, err error) error {
	e, ok := errors.AsType[*rpc.Error](err)
	if !ok {
		return err
	}
	var r Refused
	if len(e.Data) > 0 && json.Unmarshal(e.Data, &r) != nil {
		a.said("it answers with an error whose data cannot be read")
	}
	kind, known := kinds[r.Kind]
	if !known {
		kind = problem.Failed
	}
	text := plain.Cut(plain.Line(e.Message), 300)
	if text == "" {
		text = action + " failed, and the adapter does not say why"
	}
	if r.Done != "" {
		text += " (done: " + plain.Cut(plain.Line(r.Done), 100) + ")"
	}
	return &problem.Problem{Kind: kind, Gate: plain.Cut(r.Gate, 30), Text: text, Remedy: plain.Cut(plain.Line(r.Remedy), 200)}
}

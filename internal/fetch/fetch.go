// Package fetch downloads files: several ranges at once, each resumed at the byte where it was
// cut, until the file is whole and its digest is the expected one.
package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	atOnce      = 4                // ranges
	chunk       = 128 << 10        // bytes that are written at once
	silentFor   = 15 * time.Second // after which a range is asked for again
	giveUpAfter = 10 * time.Minute // without a byte
)

// State is how a transfer goes.
type State string

// The states.
const (
	Up   State = "up"
	Slow State = "slow"
	Cut  State = "cut"  // it was broken off, and is asked for again
	Down State = "down" // nothing answers
)

// slowBelow is the rate in bytes a second below which a transfer is slow, if it would take
// longer than slowOver.
const (
	slowBelow = 4 << 20
	slowOver  = 30 * time.Second
)

// Sink is told how a transfer goes. Both are called by one goroutine.
type Sink struct {
	Progress func(bytes int64)                    // that are here
	State    func(s State, rate int64, err error) // bytes a second; why it was cut or is down
}

// ErrRange is the error for a service that sends another part than was asked for.
var ErrRange = problem.New(problem.Failed, "the service sent a different part of the file than requested")

// File fetches a file of a service into p until it is whole, and finishes it. Failures that
// may pass are tried again for as long as something comes at least every ten minutes. What
// has come is kept if it fails, except if the digest is another one in the end.
func File(ctx context.Context, c *outside.Client, path string, p *store.Partial, sink Sink) error {
	t := &transfer{client: c, path: path, into: p, sink: sink}
	if err := t.run(ctx); err != nil {
		return errors.Join(err, p.Close())
	}
	return p.Finish()
}

type transfer struct {
	client *outside.Client
	path   string
	into   *store.Partial
	sink   Sink

	began time.Time
	last  atomic.Int64 // when a byte came, in nanoseconds since it began: a clock that is set does not change that
	mu    sync.Mutex
	tag   string // strong validator of the file; "" until it is known
	err   error  // the last that may pass
	kind  State
}

func (t *transfer) run(ctx context.Context) error {
	t.began = time.Now()
	ended := make(chan error, 1)
	go func() {
		err := t.together(ctx)
		if errors.Is(err, errNoRanges) {
			err = t.again(ctx, t.whole)
		}
		ended <- err
	}()
	return t.watch(ctx, ended)
}

// together fetches with several workers until all is there.
func (t *transfer) together(ctx context.Context) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var work sync.WaitGroup
	for range atOnce {
		work.Go(func() {
			if err := t.work(ctx); err != nil {
				stop(err)
			}
		})
	}
	work.Wait()
	return context.Cause(ctx)
}

// watch tells how it goes until it has ended.
func (t *transfer) watch(ctx context.Context, ended <-chan error) error {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	var m meter
	for {
		select {
		case err := <-ended:
			t.sink.Progress(t.into.Bytes())
			return err
		case <-tick.C:
		}
		have := t.into.Bytes()
		rate := m.rate(time.Now(), have)
		t.sink.Progress(have)
		t.mu.Lock()
		kind, err := t.kind, t.err
		t.mu.Unlock()
		if kind == "" && m.known && rate < slowBelow && time.Duration(float64(t.into.Size()-have)/float64(max(rate, 1))*1e9) > slowOver {
			kind = Slow
		}
		if kind == "" {
			kind = Up
		}
		if ctx.Err() == nil {
			t.sink.State(kind, rate, err)
		}
	}
}

// meter measures the rate over the last seconds.
type meter struct {
	at    []time.Time
	bytes []int64
	known bool // it has been measured for long enough to judge by
}

const meterOver = 5 * time.Second

func (m *meter) rate(now time.Time, bytes int64) int64 {
	m.at, m.bytes = append(m.at, now), append(m.bytes, bytes)
	for len(m.at) > 2 && now.Sub(m.at[0]) > meterOver {
		m.at, m.bytes, m.known = m.at[1:], m.bytes[1:], true
	}
	over := now.Sub(m.at[0])
	if over <= 0 {
		return 0
	}
	return int64(float64(bytes-m.bytes[0]) / over.Seconds())
}

// work fetches one span after another.
func (t *transfer) work(ctx context.Context) error {
	for {
		span, ok := t.into.Take()
		if !ok {
			return nil
		}
		err := t.again(ctx, func(ctx context.Context) error { return t.span(ctx, &span) })
		t.into.Leave(span)
		if err != nil {
			return err
		}
	}
}

// again does something again and again after failures that may pass.
func (t *transfer) again(ctx context.Context, do func(context.Context) error) error {
	pause := outside.Pause()
	for {
		began := t.last.Load()
		err := do(ctx)
		if err == nil {
			t.note("", nil)
			return nil
		}
		if cause := context.Cause(ctx); cause != nil {
			return cause
		}
		if t.last.Load() > began {
			pause.Reset()
		}
		wait, passes := t.wait(err, pause)
		if !passes {
			return err
		}
		if silent := time.Since(t.began) - time.Duration(t.last.Load()); silent > giveUpAfter {
			return problem.Errorf(problem.Unavailable, "nothing was received for %s: %w", silent.Round(time.Second), err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(wait):
		}
	}
}

// wait says whether an error may pass, and how long to wait before the next attempt.
func (t *transfer) wait(err error, pause *backoff.ExponentialBackOff) (time.Duration, bool) {
	next := pause.NextBackOff()
	if s, ok := errors.AsType[*outside.StatusError](err); ok {
		if !s.Passes() {
			return 0, false
		}
		t.note(Down, err)
		return max(s.After, next), true
	}
	switch {
	case errors.Is(err, errCut):
		t.note(Cut, err)
	case errors.Is(err, outside.ErrDown):
		t.note(Down, err)
	default:
		return 0, false
	}
	return next, true
}

func (t *transfer) note(kind State, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.kind, t.err = kind, err
}

var (
	// errCut is the error for an answer that ended early or fell silent.
	errCut = errors.New("the transfer was cut")
	// errNoRanges is the error for a service that answers with the whole file.
	errNoRanges = errors.New("the service can only send whole files")
)

// span asks for what is missing of a span.
func (t *transfer) span(ctx context.Context, s *store.Span) error {
	header := http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", s.From, s.To-1)}}
	t.mu.Lock()
	if t.tag != "" {
		header.Set("If-Range", t.tag)
	}
	t.mu.Unlock()
	body, stop, err := t.ask(ctx, header, func(answer *http.Response) error { return t.isPart(answer, s) })
	if err != nil {
		return err
	}
	defer stop()
	return t.copy(body, s)
}

// whole asks for the whole file and keeps what is missing of it.
func (t *transfer) whole(ctx context.Context) error {
	body, stop, err := t.ask(ctx, nil, func(answer *http.Response) error {
		if n := answer.ContentLength; n >= 0 && n != t.into.Size() {
			return fmt.Errorf("%w: the file has %d bytes, %d were expected", ErrRange, n, t.into.Size())
		}
		return nil
	})
	if err != nil {
		return err
	}
	defer stop()
	for at := int64(0); ; {
		s, ok := t.into.Take()
		if !ok {
			return nil
		}
		_, err := io.CopyN(io.Discard, body, s.From-at)
		if err == nil {
			err = t.copy(body, &s)
		} else {
			err = body.why(err, at)
		}
		at = s.From
		t.into.Leave(s)
		if err != nil {
			return err
		}
	}
}

// body is an answer's body that ends when nothing comes for too long.
type body struct {
	io.Reader
	silent *time.Timer
	began  time.Time // of the transfer
	last   *atomic.Int64
	why    func(err error, at int64) error
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if n > 0 {
		b.silent.Reset(silentFor)
		b.last.Store(int64(time.Since(b.began)))
	}
	return n, err
}

// ask asks for the file, or a part of it, once.
func (t *transfer) ask(ctx context.Context, header http.Header, check func(*http.Response) error) (*body, func(), error) {
	ctx, cancel := context.WithCancelCause(ctx)
	answer, err := t.client.Get(ctx, t.path, header)
	if err != nil {
		cancel(nil)
		return nil, nil, err
	}
	if err := check(answer); err != nil {
		cancel(nil)
		answer.Body.Close()
		return nil, nil, err
	}
	b := &body{Reader: answer.Body, began: t.began, last: &t.last, silent: time.AfterFunc(silentFor, func() { cancel(fmt.Errorf("%w: nothing came for %s", errCut, silentFor)) }),
		why: func(err error, at int64) error {
			if why := t.client.Why(ctx, err); errors.Is(why, errCut) {
				return why
			}
			return fmt.Errorf("%w at byte %d", errCut, at)
		}}
	return b, func() { b.silent.Stop(); cancel(nil); answer.Body.Close() }, nil
}

// copy keeps what is missing of a span.
func (t *transfer) copy(b *body, s *store.Span) error {
	buf := make([]byte, chunk)
	for s.From < s.To {
		n, err := io.ReadFull(b, buf[:min(int64(len(buf)), s.To-s.From)])
		if n > 0 {
			if err := t.into.Write(s, buf[:n]); err != nil {
				return err
			}
		}
		if err != nil {
			return b.why(err, s.From)
		}
	}
	return nil
}

// isPart compares an answer with the part that was asked for (RFC 9110, sections 13.1.5 and
// 14.4).
func (t *transfer) isPart(answer *http.Response, s *store.Span) error {
	if tag := answer.Header.Get("ETag"); len(tag) > 1 && tag[0] == '"' {
		t.mu.Lock()
		was := t.tag
		t.tag = tag
		t.mu.Unlock()
		if was != "" && was != tag {
			return &problem.Problem{Kind: problem.Failed, Text: "The depot replaced the file while it was being fetched.", Remedy: "Look again at what is needed, then fetch it."}
		}
	}
	if answer.StatusCode == http.StatusOK {
		return errNoRanges
	}
	want := fmt.Sprintf("bytes %d-%d/%d", s.From, s.To-1, t.into.Size())
	if got := answer.Header.Get("Content-Range"); got != want {
		return fmt.Errorf("%w: %.60q, not %q", ErrRange, got, want)
	}
	return nil
}

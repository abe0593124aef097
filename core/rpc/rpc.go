// Package rpc implements JSON-RPC 2.0 with one object a line, for both sides alike, with
// a limit on the length of a line. The link's control channel, the host protocol and the
// control socket of the stand-ins use it.
//
// A line that is not a JSON-RPC message is answered with an error. The connection ends
// after too many of them, after a line longer than [MaxLine], or when the other side
// does not read for longer than a write may take.
package rpc

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/strict"
)

// MaxLine is the longest line accepted, in bytes, including the newline.
const MaxLine = 1 << 20

// mostError is how much of an error's text is kept, in bytes: it is shown to people.
const mostError = 1000

// maxRunning is how many requests of the other side run at once; further ones are not
// read until one ends.
const maxRunning = 32

// maxMistakes is how many invalid lines the other side may send.
const maxMistakes = 16

// writeWithin bounds one write: the other side must take a line within this time.
const writeWithin = 15 * time.Second

// Codes of JSON-RPC 2.0, section 5.1, and our own from 1 on.
const (
	CodeParse          = -32700
	CodeInvalidRequest = -32600
	CodeInvalidParams  = -32602
	CodeMethodNotFound = -32601
	CodeFailed         = 1  // the request was understood and could not be done
	CodeRefused        = 2  // not allowed
	CodeNoRoom         = 3  // there is no room for it
	CodeUnsigned       = 4  // a signature is missing or wrong
	CodeUnaccepted     = 5  // the device's owner has not accepted its developer
	CodeAsleep         = 6  // it has to be woken first
	CodeNotAdmitted    = 7  // the caller is no longer admitted
	CodeUncovered      = 8  // no grant or debug token covers it
	CodeBusy           = 9  // another one's question or introduction is going on
	CodePaused         = 10 // too many introductions have failed; data says for how long
	CodeClosed         = 11 // the device is not to be introduced
	CodeCommitment     = 12 // the commitment does not fit the nonce
	CodeNotLent        = 13 // the loan does not include it
	CodeNotFound       = 14 // there is no such thing, or the caller may not know of it
)

// errStuck ends a connection whose other side does not read.
var errStuck = errors.New("the other side does not read")

// ErrClosed is what a call returns when the connection has ended.
var ErrClosed = errors.New("the connection has ended")

// An Error is the other side's answer to a request that failed. Data may hold details
// for programs.
type Error struct {
	Code    int             `json:"code"`
	Message string          `json:"message"`
	Data    json.RawMessage `json:"data,omitempty"`
}

func (e *Error) Error() string { return e.Message }

// Errorf makes an [Error] with a code.
func Errorf(code int, format string, args ...any) *Error {
	return &Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

// A Handler answers requests and takes notifications. Requests run in
// goroutines of their own, whose context ends with the connection;
// notifications are handed over one after another in the order of arrival, so
// a handler must not block on them. What it returns for a notification is
// dropped.
type Handler func(ctx context.Context, c *Conn, method string, params json.RawMessage) (any, error)

// NoMethod is a handler that knows no method.
func NoMethod(_ context.Context, _ *Conn, method string, _ json.RawMessage) (any, error) {
	return nil, Errorf(CodeMethodNotFound, "there is no method %q", method)
}

type message struct {
	Version string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id,omitempty"` // a string, a number or null; nil: a notification
	Method  string          `json:"method,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Result  json.RawMessage `json:"result,omitempty"`
	Error   *Error          `json:"error,omitempty"`
}

// Conn is one side of a connection. It is made by [New] and ends with Close,
// or when the other side ends it.
type Conn struct {
	rw      io.ReadWriteCloser
	handler Handler
	ctx     context.Context
	cancel  context.CancelFunc
	done    chan struct{}
	running sync.WaitGroup

	writing sync.Mutex

	mu      sync.Mutex
	next    uint64
	waiting map[string]chan message // by the id as it is written
	err     error

	mistakes int // of the reader only
}

// New starts a connection over rw and owns rw from then on.
func New(rw io.ReadWriteCloser, handler Handler) *Conn {
	ctx, cancel := context.WithCancel(context.Background())
	c := &Conn{rw: rw, handler: handler, ctx: ctx, cancel: cancel,
		done: make(chan struct{}), waiting: map[string]chan message{}}
	go c.read()
	return c
}

// Done is closed when the connection has ended and no handler of it runs.
func (c *Conn) Done() <-chan struct{} { return c.done }

// Err tells why the connection ended; nil while it lasts.
func (c *Conn) Err() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err
}

// Call sends a request and waits for its answer, which is decoded into result
// unless that is nil.
func (c *Conn) Call(ctx context.Context, method string, params, result any) error {
	raw, err := json.Marshal(params)
	if err != nil {
		return fmt.Errorf("encode the parameters of %s: %w", method, err)
	}
	answer := make(chan message, 1)
	c.mu.Lock()
	if c.err != nil {
		c.mu.Unlock()
		return fmt.Errorf("%s: %w", method, ErrClosed)
	}
	c.next++
	id := strconv.FormatUint(c.next, 10)
	c.waiting[id] = answer
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		delete(c.waiting, id)
		c.mu.Unlock()
	}()
	if err := c.write(message{ID: json.RawMessage(id), Method: method, Params: raw}); err != nil {
		return fmt.Errorf("%s: %w", method, err)
	}
	select {
	case <-ctx.Done():
		return fmt.Errorf("%s: %w", method, context.Cause(ctx))
	case <-c.ctx.Done():
		return fmt.Errorf("%s: %w", method, ErrClosed)
	case m := <-answer:
		if m.Error != nil {
			m.Error.Message = plain.CutTelling(m.Error.Message, mostError)
			return m.Error
		}
		if result == nil {
			return nil
		}
		if err := strict.NewerJSON(m.Result, result); err != nil {
			return fmt.Errorf("decode the answer to %s: %w", method, err)
		}
		return nil
	}
}

// Notify sends a notification.
func (c *Conn) Notify(method string, params any) error {
	raw, err := json.Marshal(params)
	if err != nil {
		return fmt.Errorf("encode the parameters of %s: %w", method, err)
	}
	return c.write(message{Method: method, Params: raw})
}

// Close ends the connection and waits until its handlers have returned. It
// must not be called from a handler.
func (c *Conn) Close() error {
	c.end(ErrClosed)
	<-c.done
	return nil
}

func (c *Conn) end(err error) {
	c.mu.Lock()
	if c.err == nil {
		c.err = err
	}
	c.mu.Unlock()
	c.cancel()
	c.rw.Close()
}

func (c *Conn) write(m message) error {
	m.Version = "2.0"
	line, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if len(line) >= MaxLine {
		return fmt.Errorf("a message of %d bytes exceeds the limit of %d", len(line), MaxLine)
	}
	c.writing.Lock()
	defer c.writing.Unlock()
	stuck := time.AfterFunc(writeWithin, func() { c.end(errStuck) })
	_, err = c.rw.Write(append(line, '\n'))
	stuck.Stop()
	if err != nil {
		c.end(err)
		return fmt.Errorf("%w: %w", ErrClosed, err)
	}
	return nil
}

func (c *Conn) read() {
	slots := make(chan struct{}, maxRunning)
	scanner := bufio.NewScanner(c.rw)
	scanner.Buffer(make([]byte, 0, 4096), MaxLine)
	var err error
	for err == nil && scanner.Scan() {
		err = c.take(scanner.Bytes(), slots)
	}
	if err == nil {
		err = scanner.Err()
	}
	if err == nil {
		err = io.EOF
	}
	c.end(err)
	c.running.Wait()
	close(c.done)
}

func (c *Conn) take(line []byte, slots chan struct{}) error {
	var m message
	if err := strict.NewerJSON(line, &m); err != nil {
		code := CodeParse
		if json.Valid(line) { // such as a batch, which is not spoken here
			code = CodeInvalidRequest
		}
		return c.mistake(nil, Errorf(code, "not a JSON-RPC message: %s", err))
	}
	switch {
	case len(m.ID) > 0 && (m.ID[0] == '{' || m.ID[0] == '[' || m.ID[0] == 't' || m.ID[0] == 'f'):
		return c.mistake(nil, Errorf(CodeInvalidRequest, "an id must be a string, a number or null"))
	case m.Method != "" && m.ID == nil:
		defect.Contain("a notification", func() error { //nolint:errcheck // nobody waits for an answer
			_, err := c.handler(c.ctx, c, m.Method, m.Params)
			return err
		})
	case m.Method != "":
		select {
		case slots <- struct{}{}:
		case <-c.ctx.Done():
			return ErrClosed
		}
		c.running.Go(func() {
			defer func() { <-slots }()
			c.answer(m)
		})
	case m.Result != nil || m.Error != nil:
		c.mu.Lock()
		waiting := c.waiting[string(m.ID)]
		delete(c.waiting, string(m.ID))
		c.mu.Unlock()
		if waiting != nil { // else the caller has stopped waiting
			waiting <- m
		}
	default:
		return c.mistake(m.ID, Errorf(CodeInvalidRequest, "neither method nor result"))
	}
	return nil
}

// mistake answers an invalid line, as JSON-RPC 2.0, section 5, requires; it returns an
// error once there were too many.
func (c *Conn) mistake(id json.RawMessage, e *Error) error {
	if c.mistakes++; c.mistakes > maxMistakes {
		return fmt.Errorf("%d lines that are not JSON-RPC, the last: %w", c.mistakes, e)
	}
	if id == nil {
		id = json.RawMessage("null")
	}
	return c.write(message{ID: id, Error: e})
}

func (c *Conn) answer(m message) {
	var result any
	err := defect.Contain("the answer to a call", func() (err error) {
		result, err = c.handler(c.ctx, c, m.Method, m.Params)
		return err
	})
	if err != nil && c.ctx.Err() != nil {
		return // what a handler says of its own end is no answer to the question
	}
	reply := message{ID: m.ID}
	if err == nil {
		reply.Result, err = json.Marshal(result)
	}
	if err != nil {
		var e *Error
		if !errors.As(err, &e) {
			e = Errorf(CodeFailed, "%s", err)
		}
		reply.Error, reply.Result = e, nil
	}
	c.write(reply) //nolint:errcheck // the connection ends on a failed write
}

// Decode reads a request's parameters and reports what is wrong with them.
func Decode[T any](params json.RawMessage) (T, error) {
	var v T
	if len(params) == 0 {
		return v, nil
	}
	if err := strict.NewerJSON(params, &v); err != nil {
		return v, Errorf(CodeInvalidParams, "parameters: %s", err)
	}
	return v, nil
}

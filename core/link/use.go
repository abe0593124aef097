package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
)

// This file holds what an admitted bench does over the control channel.

// Apps is the apps on the device.
func (s *Session) Apps() (device.Apps, error) { return apps{s}, nil }

type apps struct{ *Session }

func (a apps) List(ctx context.Context) ([]device.App, error) {
	var list []device.App
	err := a.call(ctx, MethodApps, nil, &list)
	return list, err
}

// refusals maps the error codes of a device to kinds of refusals.
var refusals = map[int]device.RefusalKind{rpc.CodeRefused: device.NotAllowed, rpc.CodeNoRoom: device.NoRoom, rpc.CodeAsleep: device.Sleeps,
	rpc.CodeUnsigned: device.Unsigned, rpc.CodeUnaccepted: device.Unaccepted, rpc.CodeUncovered: device.Uncovered}

func (a apps) Offer(ctx context.Context, manifest []byte, signature developer.Signature) (device.Lacks, error) {
	var l device.Lacks
	err := a.call(ctx, MethodAppOffer, Offer{Manifest: manifest, Signature: signature.Bare, CMS: signature.CMS}, &l)
	if e, ok := errors.AsType[*rpc.Error](err); ok {
		kind := refusals[e.Code]
		if kind == "" {
			kind = device.Unfit
		}
		return l, &device.Refusal{Kind: kind, Text: e.Message}
	}
	return l, err
}

func (a apps) Install(ctx context.Context, digest string) error {
	return a.call(ctx, MethodAppSwitch, AppRef{Digest: digest}, nil)
}

func (a apps) Start(ctx context.Context, id string) (device.Started, error) {
	var started device.Started
	err := a.call(ctx, MethodAppStart, AppRef{ID: id}, &started)
	if e, ok := errors.AsType[*rpc.Error](err); ok && (e.Code == rpc.CodeUnaccepted || e.Code == rpc.CodeAsleep || e.Code == rpc.CodeUncovered) {
		return started, &device.Refusal{Kind: refusals[e.Code], Text: e.Message}
	}
	return started, err
}

func (a apps) Stop(ctx context.Context, id string) error {
	return a.call(ctx, MethodAppStop, AppRef{ID: id}, nil)
}

func (a apps) Remove(ctx context.Context, id string) error {
	return a.call(ctx, MethodAppRemove, AppRef{ID: id}, nil)
}

// Statements is the grants and debug tokens on the device.
func (s *Session) Statements() (device.Statements, error) { return statements{s}, nil }

type statements struct{ *Session }

func (s statements) List(ctx context.Context) ([]string, error) {
	var list []string
	err := s.call(ctx, MethodStatements, nil, &list)
	if e, ok := errors.AsType[*rpc.Error](err); ok && e.Code == rpc.CodeMethodNotFound {
		err = &problem.Problem{Kind: problem.Unsupported, Text: "The device does not use grants or debug tokens.", Remedy: "It does not need any."}
	}
	return list, err
}

func (s statements) Put(ctx context.Context, text string) error {
	return refusal(s.call(ctx, MethodPut, StatementRef{Text: text}, nil))
}

func (s statements) Drop(ctx context.Context, id string) error {
	return s.call(ctx, MethodDrop, StatementRef{ID: id}, nil)
}

func (s statements) Withdrawn(ctx context.Context, list string) error {
	return refusal(s.call(ctx, MethodStatus, StatementRef{Text: list}, nil))
}

// Wireless switches whether the device is reached without a cable.
func (s *Session) Wireless() (device.Wireless, error) { return wireless{s}, nil }

type wireless struct{ *Session }

func (w wireless) Set(ctx context.Context, on bool) error {
	return refusal(w.call(ctx, MethodWireless, Wireless{On: on}, nil))
}

// refusal turns the answer of a device that refuses something into a [device.Refusal].
func refusal(err error) error {
	if e, ok := errors.AsType[*rpc.Error](err); ok && refusals[e.Code] != "" {
		return &device.Refusal{Kind: refusals[e.Code], Text: e.Message}
	}
	return err
}

// Log is the log of the device and its apps.
func (s *Session) Log() (device.Log, error) { return deviceLog{s}, nil }

type deviceLog struct{ *Session }

// Follow uses a channel of its own, so that a slow reader holds back only this log.
func (l deviceLog) Follow(ctx context.Context, from device.LogFrom, take func(device.Line) bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines := make(chan device.Line)
	return l.follow(ctx, MethodLogFollow, from, func(method string, params json.RawMessage) {
		if line, ok := lineOf(method, params); ok {
			select {
			case lines <- line:
			case <-ctx.Done():
			}
		}
	}, func(ended <-chan error) error {
		defer cancel() // a line that comes after the last one that is wanted holds nobody up
		for {
			select {
			case line := <-lines:
				if !take(line) {
					return nil
				}
			case err := <-ended:
				return err
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
	})
}

// mostLine is how much of a line of the log is taken, in bytes.
const mostLine = 4 << 10

// lineOf reads a line of the log. The end of an app is a line without text.
func lineOf(method string, params json.RawMessage) (device.Line, bool) {
	switch method {
	case MethodLog:
		line, err := rpc.Decode[device.Line](params)
		line.Ended, line.Text = nil, plain.CutTelling(line.Text, mostLine)
		return line, err == nil
	case MethodAppEnded:
		e, err := rpc.Decode[AppEnded](params)
		return device.Line{Seq: e.Seq, At: e.At, App: e.App, Ended: &device.Ended{Code: e.Code, Reason: e.Reason}}, err == nil
	}
	return device.Line{}, false
}

// follow opens a control channel, calls a long-running method, and passes its notifications to
// notify until read returns. read receives the result of the call.
func (s *Session) follow(ctx context.Context, method string, params any, notify func(string, json.RawMessage), read func(ended <-chan error) error) error {
	c, err := s.control(ctx, func(_ context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
		notify(method, params)
		return nil, nil
	})
	if err != nil {
		return err
	}
	calling, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	var call sync.WaitGroup
	call.Go(func() {
		err := s.answer(c.Call(calling, method, params, nil))
		if err == nil {
			err = fmt.Errorf("the device has ended %s", method)
		}
		if !errors.Is(err, device.ErrNotAdmitted) {
			err = s.lost(err)
		}
		ended <- err
	})
	err = read(ended)
	cancel()
	c.Close()
	call.Wait()
	return err
}

// Facts is what the device tells of itself.
func (s *Session) Facts() (device.Facts, error) { return facts{s}, nil }

type facts struct{ *Session }

// maxTold bounds how many different keys a device may report before they are read, far more
// than any sheet has.
const maxTold = 1024

// allWithin is how long is waited until a device has told everything once.
const allWithin = 2 * time.Second

// Follow merges the reports about a key while take is running. What is taken first is all that
// the device knows of itself, or what it has told of that in two seconds.
func (f facts) Follow(ctx context.Context, take func([]device.Fact)) error {
	var mu sync.Mutex
	var told []device.Fact
	at := map[string]int{}
	more, all, flood := make(chan struct{}, 1), make(chan struct{}), make(chan struct{})
	var toldAll, flooded sync.Once
	return f.follow(ctx, MethodFactsFollow, nil, func(method string, params json.RawMessage) {
		if method == MethodFactsAll {
			toldAll.Do(func() { close(all) })
			return
		}
		one, err := rpc.Decode[device.Fact](params)
		if err != nil || method != MethodFact {
			return
		}
		mu.Lock()
		if i, ok := at[one.Key]; ok {
			told[i] = one
		} else if len(told) < maxTold {
			at[one.Key] = len(told)
			told = append(told, one)
		} else {
			flooded.Do(func() { close(flood) })
		}
		mu.Unlock()
		select {
		case more <- struct{}{}:
		default:
		}
	}, func(ended <-chan error) error {
		late := time.NewTimer(allWithin)
		defer late.Stop()
		ready := (<-chan struct{})(nil)
		for {
			whole := false
			select {
			case <-all:
				all, ready, whole = nil, more, true
			case <-late.C:
				ready = more
			case <-ready:
			case <-flood:
				return fmt.Errorf("the device reports more than %d different facts", maxTold)
			case err := <-ended:
				return err
			case <-ctx.Done():
				return context.Cause(ctx)
			}
			if ready == nil {
				continue
			}
			mu.Lock()
			batch := told
			told, at = nil, map[string]int{}
			mu.Unlock()
			if len(batch) > 0 || whole { // that it has nothing to tell is news, too
				take(batch)
			}
		}
	})
}

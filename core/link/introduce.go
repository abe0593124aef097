package link

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
)

// This file holds the bench's side of an introduction (docs/formats/introduction.md).

// Meeting is an introduction on the bench's side. It ends with its session; the bench ends
// that, too, if the person gives up.
type Meeting struct {
	Device introduction.Description // what the device claims to be
	Waits  time.Duration            // for how long it waits for the person

	session *Session
	words   introduction.Words
}

// Done is closed when the device has ended the introduction, or the session has ended.
func (m *Meeting) Done() <-chan struct{} { return m.session.visit.conn.Done() }

// longestMeeting bounds how long a device is believed to wait.
const longestMeeting = 10 * time.Minute

// ErrWords is the error for words that the person has typed and that the device cannot have shown.
var ErrWords = errors.New("these are not the words that the device should show")

// ErrBusy is the error for a device on which another question or introduction is.
var ErrBusy error = &problem.Problem{Kind: problem.Blocked, Text: "The device is busy with another bench's question or introduction.", Remedy: "Answer it on the device, then start again."}

// Introduce has the device show three words. name is the bench's.
func (s *Session) Introduce(ctx context.Context, name string) (*Meeting, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, answerWithin, silence("answered the introduction", answerWithin))
	defer cancel()
	nonce := make([]byte, introduction.NonceSize)
	_, _ = rand.Read(nonce) // it never fails
	name = plain.Cut(name, introduction.MostText)
	var b Begun
	if err := s.visit.conn.Call(ctx, MethodBegin, Begin{Version: introduction.Version, Name: name, Commitment: introduction.Commitment(nonce)}, &b); err != nil {
		return nil, refusedIntroduction(err)
	}
	if err := b.Device.Check(); err != nil {
		return nil, fmt.Errorf("the device's description of itself is not valid: %w", err)
	}
	if len(b.Nonce) != introduction.NonceSize {
		return nil, fmt.Errorf("the device sent a nonce of %d bytes instead of %d", len(b.Nonce), introduction.NonceSize)
	}
	if err := s.visit.conn.Call(ctx, MethodReveal, Reveal{Nonce: nonce}, nil); err != nil {
		return nil, refusedIntroduction(err)
	}
	return &Meeting{Device: b.Device, Waits: min(time.Duration(max(0, min(b.Waits, 1e6)))*time.Second, longestMeeting), session: s,
		words: introduction.Exchange{BenchNonce: nonce, DeviceNonce: b.Nonce, SessionID: s.conn.SessionID(), DeviceKey: s.key, BenchKey: s.own,
			Bench: name, Device: b.Device}.Words()}, nil
}

// refusedIntroduction explains why a device does not take part in an introduction.
func refusedIntroduction(err error) error {
	e, ok := errors.AsType[*rpc.Error](err)
	if !ok {
		return ended(err)
	}
	p := &problem.Problem{Kind: problem.Blocked}
	switch e.Code {
	case rpc.CodeBusy:
		return ErrBusy
	case rpc.CodePaused:
		var data paused
		p.Text, p.Remedy = "Three introductions in a row failed, so the device has paused them.", "Start again in a few minutes."
		if json.Unmarshal(e.Data, &data) == nil && data.Seconds > 0 {
			wait := min(time.Duration(min(data.Seconds, 1e6))*time.Second, time.Hour)
			p.Remedy = fmt.Sprintf("Start again in %s.", wait)
		}
	case rpc.CodeClosed:
		p.Text, p.Remedy = "The device does not accept visitors without a cable.", "Switch that on in its settings, then start again."
	default:
		return fmt.Errorf("introduce this bench to the device: %w", err)
	}
	return p
}

// Typed takes what the person has typed. [ErrWords] means that somebody may be between, and
// ends the session. Another error about the words is a mistake in typing, after which the
// person may try again. Then the device asks its owner, and Typed returns the answer.
func (m *Meeting) Typed(ctx context.Context, text string, report func(device.Admittance)) (device.Admittance, error) {
	if _, err := introduction.Parse(text); err != nil {
		return device.Admittance{}, problem.Errorf(problem.Invalid, "%w", err)
	}
	if !m.Right(text) {
		m.session.conn.Close()
		return device.Admittance{}, ErrWords
	}
	return m.session.visit.asking(ctx, report, MethodTyped, nil)
}

// Right reports whether these are the words that the device has to show.
func (m *Meeting) Right(text string) bool {
	typed, err := introduction.Parse(text)
	return err == nil && typed.Equal(m.words)
}

package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/rpc"
)

// visit is what a bench may do before its key is admitted: ask for the state of its admission,
// and make the device ask its owner.
type visit struct {
	session *Session
	conn    *rpc.Conn

	mu     sync.Mutex
	report func(device.Admittance) // of the question that is asked; nil: none is
}

func (s *Session) beginVisit(ctx context.Context) error {
	ch, err := s.open(ctx, channelAdmit, nil)
	if err != nil {
		return err
	}
	s.visit = &visit{session: s}
	s.visit.conn = rpc.New(ch, s.visit.changed)
	return nil
}

// changed handles a new state of the question.
func (v *visit) changed(_ context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
	v.mu.Lock()
	report := v.report
	v.mu.Unlock()
	if a, err := rpc.Decode[device.Admittance](params); method == MethodAdmitChange && err == nil && report != nil {
		report(v.numbered(a))
	}
	return nil, nil
}

// numbered adds the number that this bench is to show.
func (v *visit) numbered(a device.Admittance) device.Admittance {
	if a.State == device.AdmitAsking && a.Wants == device.WantsNumber {
		a.Number = number(v.session.conn.SessionID())
	}
	return a
}

// Admission is the device's consent to this bench.
func (s *Session) Admission() (device.Admission, error) { return s.visit, nil }

// State asks the state of this bench's key.
func (v *visit) State(ctx context.Context) (device.Admittance, error) {
	var a device.Admittance
	err := v.conn.Call(ctx, MethodAdmitState, nil, &a)
	return a, ended(err)
}

// cancelWithin bounds telling the device that a question is cancelled.
const cancelWithin = time.Second

// Ask makes the device ask its owner. There is one question at a time.
func (v *visit) Ask(ctx context.Context, who device.Visitor, report func(device.Admittance)) (device.Admittance, error) {
	return v.asking(ctx, report, MethodAdmitAsk, who)
}

// asking calls a method that makes the device ask its owner, and reports each state of the question.
func (v *visit) asking(ctx context.Context, report func(device.Admittance), method string, params any) (device.Admittance, error) {
	var last device.Admittance
	v.mu.Lock()
	if v.report != nil {
		v.mu.Unlock()
		return last, fmt.Errorf("this bench has already asked, and the question stands on the device's screen")
	}
	v.report = report
	v.mu.Unlock()
	cancelled := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(cancelled)
		short, cancel := context.WithTimeout(context.WithoutCancel(ctx), cancelWithin)
		defer cancel()
		v.conn.Call(short, MethodAdmitCancel, nil, nil) //nolint:errcheck // the device forgets it with the session
	})
	err := v.conn.Call(ctx, method, params, &last)
	if !stop() {
		<-cancelled
	}
	v.mu.Lock()
	v.report = nil
	v.mu.Unlock()
	return last, ended(err)
}

// ended turns the end of the channel into [device.ErrEnded], since a visitor can do nothing
// without it.
func ended(err error) error {
	if errors.Is(err, rpc.ErrClosed) {
		return device.ErrEnded
	}
	return err
}

// Withdraw withdraws this bench's admission.
func (v *visit) Withdraw(ctx context.Context) error {
	return v.session.call(ctx, MethodAdmitWithdraw, nil, nil)
}

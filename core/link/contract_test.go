package link_test

import (
	"context"
	"encoding/json"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/device/devicetest"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rpc"
)

// telling is a fake device that tells facts and log lines.
type telling struct{ *fake }

func (d telling) Control(ctx context.Context, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	switch method {
	case link.MethodFactsFollow:
		for n := range 200 {
			if err := notify(link.MethodFact, device.Fact{Key: "device.battery", Value: json.RawMessage([]byte{byte('0' + n%10)})}); err != nil {
				return nil, err
			}
		}
		notify(link.MethodFact, device.Fact{Key: "device.release", Value: json.RawMessage(`"12"`)})
		notify(link.MethodFactsAll, nil)
		<-ctx.Done()
		return nil, ctx.Err()
	case link.MethodLogFollow:
		for n := range uint64(5000) {
			if err := notify(link.MethodLog, device.Line{Seq: n + 1, App: "fellgate/callout", Text: "line"}); err != nil {
				return nil, err
			}
		}
		notify(link.MethodAppEnded, link.AppEnded{Seq: 5000, App: "fellgate/callout", Code: 3, Reason: device.Crashed})
		<-ctx.Done()
		return nil, ctx.Err()
	case link.MethodApps:
		return []device.App{{ID: "fellgate/callout"}}, nil
	case link.MethodFind:
		return nil, nil
	}
	return nil, rpc.Errorf(rpc.CodeFailed, "not here: %s", method)
}

// hush is a connection that can be made to swallow all that comes, while it stays
// up.
type hush struct {
	net.Conn
	silent atomic.Bool
}

func (h *hush) Read(p []byte) (int, error) {
	for {
		n, err := h.Conn.Read(p)
		if err != nil || !h.silent.Load() {
			return n, err
		}
	}
}

// linked is a session of an admitted bench with a fake device, and what makes that
// silent.
func linked(t *testing.T) (*link.Session, func()) {
	t.Helper()
	f := &fake{admitted: map[string]bool{}, answer: make(chan bool, 1)}
	return linkedTo(t, telling{f}, f.answer)
}

// linkedTo is linked with a device that answers a question once it has the answer.
func linkedTo(t *testing.T, f link.Device, answer chan<- bool) (*link.Session, func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	key, bench := signer(t), signer(t)
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan struct{})
	go func() {
		defer close(served)
		c, err := l.Accept()
		if err == nil {
			link.Serve(ctx, c, key, f)
		}
	}()
	t.Cleanup(func() { l.Close(); cancel(); <-served })
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	h := &hush{Conn: c}
	s, err := link.Dial(t.Context(), h, bench, device.Pinned(""))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	answer <- true
	a, err := admissionOf(s).Ask(t.Context(), device.Visitor{}, func(device.Admittance) {})
	require.NoError(t, err)
	require.Equal(t, device.Admitted, a.State)
	return s, func() { h.silent.Store(true) }
}

func TestALinkKeepsToTheContractOfSessions(t *testing.T) {
	devicetest.Test(t, func(t *testing.T) devicetest.Rig {
		s, silence := linked(t)
		return devicetest.Rig{Session: s, Silence: silence}
	})
}

func TestWhoHasReadEnoughOfALogIsNotHeldUpByMoreLines(t *testing.T) {
	s, _ := linked(t)
	log, err := s.Log()
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	began := time.Now()
	require.NoError(t, log.Follow(ctx, device.LogFrom{}, func(device.Line) bool { return false }))
	require.Less(t, time.Since(began), 5*time.Second)
}

func TestNoLineOfALogIsLostHoweverSlowlyItIsRead(t *testing.T) {
	s, _ := linked(t)
	log, err := s.Log()
	require.NoError(t, err)
	var seen uint64
	var ended *device.Ended
	require.NoError(t, log.Follow(t.Context(), device.LogFrom{}, func(l device.Line) bool {
		if ended = l.Ended; ended != nil {
			return false
		}
		seen++
		require.Equal(t, seen, l.Seq)
		if seen%500 == 0 {
			time.Sleep(2 * time.Millisecond)
		}
		return true
	}))
	require.EqualValues(t, 5000, seen)
	require.Equal(t, device.Ended{Code: 3, Reason: device.Crashed}, *ended)
}

func TestFactsThatCameMeanwhileAreMergedByKeyAndTheLastIsKept(t *testing.T) {
	s, _ := linked(t)
	facts, err := s.Facts()
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	last := map[string]string{}
	calls := 0
	facts.Follow(ctx, func(batch []device.Fact) {
		if calls++; calls == 1 {
			time.Sleep(100 * time.Millisecond) // all else comes meanwhile
		}
		for _, f := range batch {
			last[f.Key] = string(f.Value)
		}
		if last["device.release"] != "" {
			cancel()
		}
	})
	require.Equal(t, map[string]string{"device.battery": "9", "device.release": `"12"`}, last)
	require.LessOrEqual(t, calls, 5)
}

func TestADeviceThatNeverConfirmsAChannelHoldsNobody(t *testing.T) {
	s, silence := linked(t)
	silence()
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	screen, err := s.Screen()
	require.NoError(t, err)
	_, err = screen.Open(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	closed := make(chan struct{})
	go func() { s.Close(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(5 * time.Second):
		require.Fail(t, "closing hangs")
	}
	_, err = s.Describe(t.Context())
	require.ErrorIs(t, err, device.ErrEnded)
}

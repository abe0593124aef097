package rpc_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/rpc"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func pair(t *testing.T, a, b rpc.Handler) (*rpc.Conn, *rpc.Conn) {
	t.Helper()
	x, y := net.Pipe()
	one, two := rpc.New(x, a), rpc.New(y, b)
	t.Cleanup(func() { one.Close(); two.Close() })
	return one, two
}

func answering(_ context.Context, _ *rpc.Conn, method string, params json.RawMessage) (any, error) {
	switch method {
	case "double":
		n, err := rpc.Decode[int](params)
		return 2 * n, err
	case "fail":
		return nil, errors.New("the cable is out")
	case "refuse":
		return nil, rpc.Errorf(rpc.CodeRefused, "not for %s", "you")
	}
	return rpc.NoMethod(nil, nil, method, params) //nolint:staticcheck // neither is looked at
}

func TestCallsAreAnsweredOrSayWhyNot(t *testing.T) {
	one, _ := pair(t, rpc.NoMethod, answering)
	var n int
	require.NoError(t, one.Call(t.Context(), "double", 21, &n))
	require.Equal(t, 42, n)
	for method, want := range map[string]struct {
		code int
		text string
	}{"fail": {rpc.CodeFailed, "the cable is out"}, "refuse": {rpc.CodeRefused, "not for you"}, "dance": {rpc.CodeMethodNotFound, `no method "dance"`}} {
		err := one.Call(t.Context(), method, nil, nil)
		e, ok := errors.AsType[*rpc.Error](err)
		require.True(t, ok, method)
		require.Equal(t, want.code, e.Code)
		require.Contains(t, e.Message, want.text)
	}
	e, ok := errors.AsType[*rpc.Error](one.Call(t.Context(), "double", "x", nil))
	require.True(t, ok)
	require.Equal(t, rpc.CodeInvalidParams, e.Code)
}

func TestNotificationsComeInOrder(t *testing.T) {
	got := make(chan int, 100)
	one, _ := pair(t, rpc.NoMethod, func(_ context.Context, _ *rpc.Conn, _ string, params json.RawMessage) (any, error) {
		n, err := rpc.Decode[int](params)
		got <- n
		return nil, err
	})
	for i := range 100 {
		require.NoError(t, one.Notify("n", i))
	}
	for i := range 100 {
		require.Equal(t, i, <-got)
	}
}

func TestACallEndsWithItsContextAndWithTheConnection(t *testing.T) {
	waiting := func(ctx context.Context, _ *rpc.Conn, _ string, _ json.RawMessage) (any, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	one, two := pair(t, rpc.NoMethod, waiting)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, one.Call(ctx, "wait", nil, nil), context.DeadlineExceeded)
	go func() {
		time.Sleep(10 * time.Millisecond)
		two.Close()
	}()
	require.ErrorIs(t, one.Call(t.Context(), "wait", nil, nil), rpc.ErrClosed)
	<-one.Done()
	require.ErrorIs(t, one.Call(t.Context(), "wait", nil, nil), rpc.ErrClosed)
}

func TestWhatIsNoJSONRPCEndsTheConnection(t *testing.T) {
	for name, line := range map[string]string{
		"not JSON": "hello\n", "an empty object": "{}\n", "a list": "[]\n", "a line without end": strings.Repeat("x", rpc.MaxLine+1),
	} {
		t.Run(name, func(t *testing.T) {
			x, y := net.Pipe()
			c := rpc.New(x, rpc.NoMethod)
			go y.Write([]byte(line))
			<-c.Done()
			require.Error(t, c.Err())
			y.Close()
		})
	}
}

func TestAMessageOverTheBoundIsNotSent(t *testing.T) {
	one, _ := pair(t, rpc.NoMethod, answering)
	require.ErrorContains(t, one.Notify("n", strings.Repeat("x", rpc.MaxLine)), "over the bound")
	var n int
	require.NoError(t, one.Call(t.Context(), "double", 1, &n), "and the connection goes on")
}

type once struct {
	io.Reader
	io.Writer
}

func (once) Close() error { return nil }

func FuzzLines(f *testing.F) {
	f.Add([]byte(`{"jsonrpc":"2.0","id":1,"method":"double","params":3}` + "\n"))
	f.Add([]byte(`{"jsonrpc":"2.0","id":1,"result":3}` + "\n" + `{"id":18446744073709551615,"error":{"code":1}}` + "\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		var out bytes.Buffer
		c := rpc.New(once{bytes.NewReader(in), &out}, answering)
		<-c.Done()
		for line := range bytes.Lines(out.Bytes()) {
			require.True(t, json.Valid(line), fmt.Sprintf("%q", line))
		}
	})
}

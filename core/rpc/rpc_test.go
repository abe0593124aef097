package rpc_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"testing/synctest"
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
	case "panic":
		panic("no such slice")
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
	}{"panic": {rpc.CodeFailed, "an error in the program ended the answer to a call: no such slice"}, "fail": {rpc.CodeFailed, "the cable is out"}, "refuse": {rpc.CodeRefused, "not for you"}, "dance": {rpc.CodeMethodNotFound, `no method "dance"`}} {
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

// ask writes a line and reads the answer to it.
func ask(t *testing.T, y net.Conn, r *bufio.Reader, line string) string {
	t.Helper()
	_, err := y.Write([]byte(line + "\n"))
	require.NoError(t, err)
	answer, err := r.ReadString('\n')
	require.NoError(t, err)
	return strings.TrimSpace(answer)
}

func TestEveryLineIsAnsweredUnderItsOwnID(t *testing.T) {
	x, y := net.Pipe()
	c := rpc.New(x, answering)
	defer c.Close()
	defer y.Close()
	r := bufio.NewReader(y)
	for name, line := range map[string]struct{ sent, answer string }{
		"a number":         {`{"jsonrpc":"2.0","id":7,"method":"double","params":2}`, `{"jsonrpc":"2.0","id":7,"result":4}`},
		"a text":           {`{"jsonrpc":"2.0","id":"a-7","method":"double","params":2}`, `{"jsonrpc":"2.0","id":"a-7","result":4}`},
		"null":             {`{"jsonrpc":"2.0","id":null,"method":"double","params":2}`, `{"jsonrpc":"2.0","id":null,"result":4}`},
		"not JSON":         {`hello`, `{"jsonrpc":"2.0","id":null,"error":{"code":-32700,`},
		"an empty object":  {`{}`, `{"jsonrpc":"2.0","id":null,"error":{"code":-32600,`},
		"a batch":          {`[]`, `{"jsonrpc":"2.0","id":null,"error":{"code":-32600,`},
		"an object for id": {`{"id":{},"method":"double"}`, `{"jsonrpc":"2.0","id":null,"error":{"code":-32600,`},
		"only an id":       {`{"id":3}`, `{"jsonrpc":"2.0","id":3,"error":{"code":-32600,`},
	} {
		t.Run(name, func(t *testing.T) { require.True(t, strings.HasPrefix(ask(t, y, r, line.sent), line.answer)) })
	}
	require.Equal(t, `{"jsonrpc":"2.0","id":9,"result":4}`, ask(t, y, r, `{"id":9,"method":"double","params":2}`), "and it goes on")
}

func TestManyMistakesOrALineWithoutEndEndTheConnection(t *testing.T) {
	for name, sent := range map[string]string{"mistakes": strings.Repeat("hello\n", 40), "no end": strings.Repeat("x", rpc.MaxLine+1)} {
		t.Run(name, func(t *testing.T) {
			x, y := net.Pipe()
			c := rpc.New(x, rpc.NoMethod)
			go io.Copy(io.Discard, y)
			go y.Write([]byte(sent))
			<-c.Done()
			require.Error(t, c.Err())
			y.Close()
		})
	}
}

func TestAnotherSideThatTakesNothingHoldsNobody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, y := net.Pipe()
		defer y.Close()
		c := rpc.New(x, rpc.NoMethod)
		began := time.Now()
		require.ErrorIs(t, c.Call(t.Context(), "double", 1, nil), rpc.ErrClosed)
		require.LessOrEqual(t, time.Since(began), 15*time.Second)
		<-c.Done()
	})
}

func TestAMessageOverTheBoundIsNotSent(t *testing.T) {
	one, _ := pair(t, rpc.NoMethod, answering)
	require.ErrorContains(t, one.Notify("n", strings.Repeat("x", rpc.MaxLine)), "exceeds the limit")
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

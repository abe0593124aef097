package client_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// bench answers on a Unix socket with a handler.
func bench(t *testing.T, h http.HandlerFunc) *client.Client {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	s := &http.Server{Handler: h}
	go s.Serve(l)
	c := client.New(socket)
	t.Cleanup(func() { c.Close(); s.Close() })
	return c
}

func TestProblemsComeBackWithWhatToDo(t *testing.T) {
	c := bench(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(409)
		fmt.Fprint(w, `{"status":409,"title":"Conflict","detail":"heron-2 is busy.","kind":"blocked","gate":"mode","remedy":"Wait."}`)
	})
	_, err := c.Ask(t.Context(), "heron-2")
	p, ok := errors.AsType[*client.Problem](err)
	require.True(t, ok)
	require.Equal(t, "blocked", p.Kind)
	require.Equal(t, "heron-2 is busy. Wait.", p.Error())
}

func TestAnAnswerThatIsNoProblemIsStillAnError(t *testing.T) {
	c := bench(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "out of paper", 500) })
	_, err := c.Bench(t.Context())
	require.ErrorContains(t, err, "out of paper")
	c = bench(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "hello") })
	_, err = c.Bench(t.Context())
	require.ErrorContains(t, err, "decode the bench's answer")
}

func TestABenchThatIsNotThereIsUnreachable(t *testing.T) {
	c := client.New(filepath.Join(t.TempDir(), "none"))
	_, err := c.Devices(t.Context(), "")
	require.ErrorIs(t, err, client.ErrUnreachable)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = c.Devices(ctx, "")
	require.ErrorIs(t, err, context.Canceled)
}

func TestNamesAreEscapedInAddresses(t *testing.T) {
	paths := make(chan string, 1)
	c := bench(t, func(w http.ResponseWriter, r *http.Request) {
		paths <- r.URL.EscapedPath() + "?" + r.URL.RawQuery
		fmt.Fprint(w, `{}`)
	})
	_, err := c.Why(t.Context(), "a/../b?c", "x&y=z")
	require.NoError(t, err)
	require.Equal(t, "/api/v1/devices/a%2F..%2Fb%3Fc/why?app=x%26y%3Dz", <-paths)
}

func TestEventsAreFollowedUntilTheirEnd(t *testing.T) {
	c := bench(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "41", r.URL.Query().Get("after"))
		fmt.Fprint(w, ": hello\n\nid: 42\ndata: {\"type\":\"device.changed\",\"subject\":\"heron-2\"}\n\n")
		w.(http.Flusher).Flush()
		if r.URL.Query().Get("wait") == "" {
			return
		}
	})
	var got []client.Event
	require.NoError(t, c.Events(t.Context(), 41, func(e client.Event) { got = append(got, e) }))
	require.Equal(t, []client.Event{{Type: "device.changed", Subject: "heron-2"}}, got)

	c = bench(t, func(w http.ResponseWriter, r *http.Request) {
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, c.Log(ctx, "heron-2", "", 0, func(client.Line) {}), context.DeadlineExceeded)
}

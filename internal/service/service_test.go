package service_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/sheets"
)

func config(dir string) service.Config {
	return service.Config{State: dir, Sheets: sheets.Files, Log: slog.New(slog.DiscardHandler), Development: true,
		Console: fstest.MapFS{"index.html": {Data: []byte("<title>Early Bench</title>")}, "assets/x.js": {Data: []byte("1")}}}
}

// run runs a bench until the test ends, or end is called.
func run(t *testing.T, cfg service.Config) (at service.Addresses, end func() error) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	started := make(chan service.Addresses, 1)
	ended := make(chan error, 1)
	go func() { ended <- service.Run(ctx, cfg, func(a service.Addresses) { started <- a }) }()
	var once error
	done := false
	end = func() error {
		if !done {
			done = true
			cancel()
			once = <-ended
		}
		return once
	}
	t.Cleanup(func() { require.NoError(t, end()) })
	select {
	case at = <-started:
	case err := <-ended:
		done = true
		require.NoError(t, err)
	case <-time.After(20 * time.Second):
		require.Fail(t, "it does not start")
	}
	return at, end
}

func TestABenchKeepsItsIdNameAndKey(t *testing.T) {
	dir := t.TempDir()
	cfg := config(dir)
	cfg.Name = "moor-desk"
	at, end := run(t, cfg)
	api := client.New(at.Socket)
	first, err := api.Bench(t.Context())
	require.NoError(t, err)
	require.Equal(t, "moor-desk", first.Name)
	require.Regexp(t, "^SHA256:", first.Fingerprint)
	api.Close()
	require.NoError(t, end())

	cfg.Name = ""
	at, _ = run(t, cfg)
	again, err := client.New(at.Socket).Bench(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{first.ID, first.Name, first.Fingerprint}, []string{again.ID, again.Name, again.Fingerprint})
}

func TestACallerThatStaysConnectedDoesNotKeepTheServiceFromEnding(t *testing.T) {
	at, end := run(t, config(t.TempDir()))
	for _, socket := range []string{at.Development, at.Socket} {
		c, err := net.Dial("unix", socket)
		require.NoError(t, err)
		defer c.Close()
	}
	ended := make(chan error, 1)
	go func() { ended <- end() }()
	select {
	case err := <-ended:
		require.NoError(t, err)
	case <-time.After(20 * time.Second):
		require.Fail(t, "it does not end")
	}
}

func TestOneStateHasOneBenchAndOnePortOneListener(t *testing.T) {
	dir := t.TempDir()
	at, _ := run(t, config(dir))
	err := service.Run(t.Context(), config(dir), nil)
	_, held := errors.AsType[*state.Held](err)
	require.True(t, held, "%v", err)

	var port int
	_, err = fmt.Sscanf(at.Service, "http://127.0.0.1:%d", &port)
	require.NoError(t, err)
	other := config(t.TempDir())
	other.Port = port
	err = service.Run(t.Context(), other, nil)
	taken, ok := errors.AsType[*service.PortTaken](err)
	require.True(t, ok, "%v", err)
	require.Equal(t, port, taken.Port)
	require.Contains(t, taken.By, "service.test (process ")
	require.Empty(t, service.Holder(1), "nobody")
}

func TestTheDevelopmentSocketMovesTheBenchsClock(t *testing.T) {
	at, _ := run(t, config(t.TempDir()))
	c, err := net.Dial("unix", at.Development)
	require.NoError(t, err)
	conn := rpc.New(c, rpc.NoMethod)
	defer conn.Close()
	require.NoError(t, conn.Call(t.Context(), "clock.move", map[string]string{"by": "26h"}, nil))
	require.Error(t, conn.Call(t.Context(), "clock.move", map[string]string{"by": "soon"}, nil))
	require.Error(t, conn.Call(t.Context(), "dance", nil, nil))
	b, err := client.New(at.Socket).Bench(t.Context())
	require.NoError(t, err)
	require.InDelta(t, 26*time.Hour, time.Until(b.Now), float64(time.Minute))
}

func TestTheConsoleIsServedWithItsPages(t *testing.T) {
	at, _ := run(t, config(t.TempDir()))
	get := func(path string) (int, string, string) {
		req, err := http.NewRequest("GET", at.Service+path, nil)
		require.NoError(t, err)
		req.Host, _, _ = strings.Cut(strings.TrimPrefix(at.SignIn, "http://"), "/#")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		raw, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(raw), res.Header.Get("Cache-Control")
	}
	for _, page := range []string{"/", "/devices/heron-2", "/../../etc/passwd", "/%2e%2e/x"} {
		status, body, cache := get(page)
		require.Equal(t, 200, status, page)
		require.Contains(t, body, "<title>Early Bench</title>", page)
		require.Equal(t, "no-cache", cache)
	}
	status, _, cache := get("/assets/x.js")
	require.Equal(t, 200, status)
	require.Contains(t, cache, "immutable")
	status, _, _ = get("/assets/none.js")
	require.Equal(t, 404, status)
	status, body, _ := get("/api/nothing")
	require.Equal(t, 401, status, body)
}

func TestABenchThatCannotStartSaysWhy(t *testing.T) {
	cfg := config(t.TempDir())
	cfg.Sheets = fstest.MapFS{"x/x.yaml": {Data: []byte("colour: red")}}
	require.ErrorContains(t, service.Run(t.Context(), cfg, nil), "the shipped prep sheets have errors:\nx/x.yaml:1:1")

	cfg = config(t.TempDir())
	require.NoError(t, os.WriteFile(filepath.Join(cfg.State, "bench.db"), []byte("this is no database, but long enough to be looked at"), 0o600))
	require.ErrorContains(t, service.Run(t.Context(), cfg, nil), filepath.Join(cfg.State, "bench.db")+" is damaged")

	cfg = config(t.TempDir())
	require.NoError(t, os.WriteFile(filepath.Join(cfg.State, "bench.key"), nil, 0o600))
	require.ErrorContains(t, service.Run(t.Context(), cfg, nil), "bench.key")
}

package adapter_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/internal/adapters"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/fence"
)

// hello is what a well-behaved adapter answers first.
const hello = `printf '{"jsonrpc":"2.0","id":1,"result":{"name":"hostile","version":"1","facts":[{"key":"device.battery","type":"int"}],"actions":[%s]}}\n' "$ACTIONS"`

// fits is that it recognises whatever it is shown.
const fits = `printf '{"jsonrpc":"2.0","id":2,"result":{"fit":100,"model":"reed-2","serial":"RD-9"}}\n'`

// hostiles are adapters that break the rules, each with what a bench, or the checker, must say of it.
var hostiles = map[string]struct {
	script  string
	bench   string // in the trouble or the log
	checker string
}{
	"that ends at once":          {"exit 3", "exit status 3", "exit status 3"},
	"that is killed":             {"kill -9 $$", "killed", "killed"},
	"that answers nonsense":      {"while :; do echo nonsense; done", "the connection has ended", "the connection has ended"},
	"whose lines do not end":     {"cat /dev/zero | tr '\\0' x", "the connection has ended", "the connection has ended"},
	"that lies of its types":     {"read x\nprintf '{\"jsonrpc\":\"2.0\",\"id\":1,\"result\":{\"facts\":\"many\",\"actions\":7}}\\n'; sleep 60", "hello", "hello"},
	"that declares what is none": {"read x\nACTIONS='{\"name\":\"FORMAT C:\"}'\n" + hello + "; sleep 60", "action", "action"},
	"with a schema of elsewhere": {"read x\nACTIONS='{\"name\":\"a\",\"args\":{\"$ref\":\"http://127.0.0.1:1/x\"}}'\n" + hello + "; sleep 60", "is not looked up", "is not looked up"},
	"that fits too well":         {"read x\nACTIONS=\n" + hello + "\nread x\nprintf '{\"jsonrpc\":\"2.0\",\"id\":2,\"result\":{\"fit\":1000}}\\n'; sleep 60", "fits with 1000", ""},
	"that calls what is not":     {"read x\nACTIONS=\n" + hello + "\nprintf '{\"jsonrpc\":\"2.0\",\"id\":9,\"method\":\"safe.open\",\"params\":{}}\\n'\nread x\n" + fits + "; sleep 60", "not a method of a bench", ""},
	"that tells other facts":     {"read x\nACTIONS=\n" + hello + "\nread x\n" + fits + "\nread x\nprintf '{\"jsonrpc\":\"2.0\",\"method\":\"fact\",\"params\":{\"device\":\"%s\",\"key\":\"grant.state\",\"value\":\"good\"}}\\n' \"$LINE\"; sleep 60", "has not declared", ""},
}

// runs reports whether a process runs whose command line contains a text.
func runs(text string) bool {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range all {
		if raw, err := os.ReadFile(name); err == nil && strings.Contains(strings.ReplaceAll(string(raw), "\x00", " "), text) {
			return true
		}
	}
	return false
}

// hostile is an adapter of a script.
func hostile(t *testing.T, script, path string) string {
	t.Helper()
	dir := example(t, "reed-sh", path)
	text := "#!/bin/sh\nLINE=" + path + "\n" + script + "\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "adapter.sh"), []byte(text), 0o700)) //nolint:gosec // a program
	return dir
}

func TestAHostileAdapterHarmsNothingElseAndIsEnded(t *testing.T) {
	path, _ := line(t, "RD-0007")
	b := benchtest.New(t)
	honest, _ := line(t, "RD-0001")
	added(t, b, example(t, "reed-py", honest))
	b.Eventually("the honest one speaks for its board", func() bool { return len(b.Adapters.List()[0].Devices) == 1 })
	for name, h := range hostiles {
		t.Run(name, func(t *testing.T) {
			added(t, b, hostile(t, h.script, path))
			b.Eventually("it is said what it did", func() bool {
				for _, a := range b.Adapters.List() {
					if a.Name == "reed-sh" && strings.Contains(a.Trouble+strings.Join(a.Log, " "), h.bench) {
						return true
					}
				}
				return false
			})
			require.NoError(t, b.Adapters.Drop(t.Context(), "reed-sh"))
			require.False(t, runs(filepath.Join(filepath.Dir(b.Files.Dir), "adapters", "reed-sh")), "nothing of it runs any more")
		})
	}
	b.Eventually("the honest one still speaks for its board", func() bool {
		k, err := b.Rack.Find("reed-1")
		return err == nil && k.Session() != nil && b.Adapters.List()[0].State == adapters.Running
	})
}

func TestTheCheckerFindsEachHostileAdapter(t *testing.T) {
	for name, h := range hostiles {
		if h.checker == "" { // it shows only with time
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path, _ := line(t, "RD-0007")
			report, err := adapter.Check(t.Context(), hostile(t, h.script, path), at(path), start)
			require.NoError(t, err)
			require.Positive(t, report.Wrong())
			require.Contains(t, fmt.Sprintf("%+v", report), h.checker)
		})
	}
}

// TestAnAdapterReachesNoMoreThanItWasGiven tries what an adapter may not do, and writes down what it could.
func TestAnAdapterReachesNoMoreThanItWasGiven(t *testing.T) {
	if fence.Version() < 6 {
		t.Skip("this kernel has no Landlock, or an old one")
	}
	path, _ := line(t, "RD-0007")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("quiet"), 0o644)) //nolint:gosec // everybody may read it, but the adapter
	t.Setenv("A_SECRET", "quiet")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	short, err := os.MkdirTemp("", "s")
	require.NoError(t, err)
	defer os.RemoveAll(short)
	u, err := net.Listen("unix", filepath.Join(short, "u"))
	require.NoError(t, err)
	defer u.Close()
	script := fmt.Sprintf(`#!/usr/bin/env python3
import json, os, socket, subprocess, sys
work = json.loads(sys.stdin.readline())["params"]["work"]
def tries(name, f):
    try:
        f()
        what = "yes"
    except Exception as e:
        what = type(e).__name__
    print(name, what, file=sys.stderr, flush=True)
tries("read", lambda: open(%[1]q).read())
tries("list", lambda: os.listdir("/tmp"))
tries("write", lambda: open(%[1]q, "w"))
tries("own", lambda: open(os.path.join(work, "own"), "w").write("x"))
tries("program", lambda: open(__file__, "a"))
tries("tcp", lambda: socket.create_connection(("127.0.0.1", %[2]d), 2))
tries("unix", lambda: socket.socket(socket.AF_UNIX).connect(%[3]q))
tries("environment", lambda: os.environ["A_SECRET"])
tries("theirs", lambda: open("/proc/%[4]d/environ").read())
tries("signal", lambda: os.kill(%[4]d, 0))
tries("line", lambda: open(%[5]q, "r+b", buffering=0))
subprocess.Popen(["setsid", "sh", "-c", "setsid sleep 4711 & sleep 4712"])
print("done yes", file=sys.stderr, flush=True)
for line in sys.stdin: pass
`, secret, l.Addr().(*net.TCPAddr).Port, u.Addr().String(), os.Getpid(), path)
	dir := example(t, "reed-py", path)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "adapter.py"), []byte(script), 0o600))
	b := benchtest.New(t)
	added(t, b, dir)
	said := func() string { return strings.Join(b.Adapters.List()[0].Log, "\n") }
	b.Eventually("it has tried all", func() bool { return strings.Contains(said(), "done yes") })
	for name, want := range map[string]string{"read": "PermissionError", "list": "PermissionError", "write": "PermissionError", "program": "PermissionError", "tcp": "PermissionError", "unix": "PermissionError",
		"environment": "KeyError", "theirs": "PermissionError", "signal": "PermissionError", "own": "yes", "line": "yes"} {
		require.Contains(t, said(), " "+name+" "+want)
	}
	b.Eventually("it has left children", func() bool { return runs("sleep 4711") && runs("sleep 4712") })
	require.NoError(t, b.Adapters.Drop(t.Context(), "reed-py"))
	require.False(t, runs("sleep 4711") || runs("sleep 4712"), "what it has left is ended with it")
}

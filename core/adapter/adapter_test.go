package adapter_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/device/devicetest"
)

// fake is an adapter that answers each action as do says, or not at all.
type fake struct {
	c      net.Conn
	mu     sync.Mutex
	silent bool
	logs   map[string]json.RawMessage // ids of requests for the log, by job
	do     func(f *fake, id json.RawMessage, action, job string, args json.RawMessage)
}

func (f *fake) send(format string, values ...any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.silent {
		fmt.Fprintf(f.c, format+"\n", values...)
	}
}

func (f *fake) answer(id json.RawMessage, result string) {
	f.send(`{"jsonrpc":"2.0","id":%s,"result":%s}`, id, result)
}

func (f *fake) serve(actions []string) {
	r := bufio.NewScanner(f.c)
	r.Buffer(nil, 1<<20)
	for r.Scan() {
		var m struct {
			ID     json.RawMessage
			Method string
			Params struct {
				Action, Job string
				Args        json.RawMessage
			}
		}
		if json.Unmarshal(r.Bytes(), &m) != nil {
			return
		}
		switch m.Method {
		case adapter.MethodHello:
			var list []string
			for _, a := range actions {
				list = append(list, fmt.Sprintf(`{"name":%q}`, a))
			}
			f.answer(m.ID, fmt.Sprintf(`{"name":"fake","version":"1","facts":[{"key":"device.battery","type":"int"},{"key":"button","type":"bool"}],"actions":[%s]}`, strings.Join(list, ",")))
		case adapter.MethodFacts:
			f.send(`{"jsonrpc":"2.0","method":"fact","params":{"device":"d","key":"device.battery","value":50}}`)
		case adapter.MethodStop:
			if id, ok := f.logs[m.Params.Job]; ok {
				f.answer(id, "null")
			}
		case adapter.MethodAct:
			if f.do != nil {
				f.do(f, m.ID, m.Params.Action, m.Params.Job, m.Params.Args)
			}
		}
	}
}

// begun is an adapter that does what do says.
func begun(t *testing.T, actions []string, do func(f *fake, id json.RawMessage, action, job string, args json.RawMessage)) (*adapter.Adapter, *fake) {
	t.Helper()
	here, there := net.Pipe()
	f := &fake{c: there, do: do, logs: map[string]json.RawMessage{}}
	done := make(chan struct{})
	go func() { defer close(done); f.serve(actions) }()
	a, err := adapter.Begin(t.Context(), here, adapter.Hello{Bench: "moor-desk", Work: t.TempDir(), Given: t.TempDir()}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { a.Close(); there.Close(); <-done })
	return a, f
}

var all = []string{"app.list", "app.install", "app.start", "app.stop", "app.remove", "log", "screen", "port", "find", "restart"}

// obliging answers everything as a good adapter would.
func obliging(f *fake, id json.RawMessage, action, job string, _ json.RawMessage) {
	switch action {
	case "app.list":
		f.answer(id, `[]`)
	case "log":
		f.logs[job] = id
		for n := range 5 {
			f.send(`{"jsonrpc":"2.0","method":"line","params":{"job":%q,"seq":%d,"app":"fellgate/rain","text":"dry"}}`, job, n+1)
		}
	case "app.install", "app.start":
		f.send(`{"jsonrpc":"2.0","id":%s,"error":{"code":1,"message":"there is no such app","data":{"kind":"failed"}}}`, id)
	default:
		f.answer(id, "null")
	}
}

func TestASessionOfAnAdapterFulfilsTheContract(t *testing.T) {
	devicetest.Test(t, func(t *testing.T) devicetest.Rig {
		a, f := begun(t, all, obliging)
		return devicetest.Rig{Session: a.Open("d"), Silence: func() { f.mu.Lock(); f.silent = true; f.mu.Unlock() }}
	})
}

func TestWhatAnAdapterHasNotIsSaid(t *testing.T) {
	a, _ := begun(t, nil, obliging)
	s := a.Open("d")
	defer s.Close()
	_, err := s.Apps()
	require.ErrorContains(t, err, "The list of apps is not available over the way adapter fake.")
	_, err = s.Screen()
	require.ErrorContains(t, err, "adapter fake")
}

func TestAnAdapterHasAPersonAskedUntilAFactHasChanged(t *testing.T) {
	a, _ := begun(t, []string{"restart"}, func(f *fake, id json.RawMessage, _, job string, _ json.RawMessage) {
		f.send(`{"jsonrpc":"2.0","id":77,"method":"ask","params":{"job":%q,"text":"Hold the button.","fact":"button"}}`, job)
		go func() {
			time.Sleep(50 * time.Millisecond)
			f.send(`{"jsonrpc":"2.0","method":"fact","params":{"device":"d","key":"button","value":true}}`)
			f.answer(id, "null")
		}()
	})
	s := a.Open("d")
	defer s.Close()
	var mu sync.Mutex
	var asked []string
	ctx := device.WithAsking(t.Context(), func(text string) { mu.Lock(); asked = append(asked, text); mu.Unlock() })
	require.NoError(t, s.Restart(ctx))
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(asked) == 2 && asked[1] == "" }, 5*time.Second, 10*time.Millisecond)
	require.Equal(t, "Hold the button.", asked[0])
}

func TestAnAdapterThatSaysNothingUntilItsDeadlineIsEnded(t *testing.T) {
	a, _ := begun(t, []string{"restart"}, nil)
	err := a.Do(t.Context(), "d", "restart", struct{}{}, nil, 100*time.Millisecond, nil)
	require.ErrorContains(t, err, "did not answer restart within 100ms, and was stopped")
	select {
	case <-a.Done():
	case <-time.After(5 * time.Second):
		require.Fail(t, "it goes on")
	}
	require.ErrorContains(t, a.Err(), "did not answer")
}

func TestAnAdapterThatDoesNotStopIsEnded(t *testing.T) {
	a, _ := begun(t, []string{"restart"}, nil)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, a.Do(ctx, "d", "restart", struct{}{}, nil, time.Minute, nil), context.DeadlineExceeded)
	require.Eventually(t, func() bool { return a.Err() != nil }, 5*time.Second, 10*time.Millisecond)
}

func TestActionsOfItsOwnAreDoneAsTheirSchemaSays(t *testing.T) {
	got := ""
	a, _ := begun(t, []string{"app.list", "lamp.blink"}, func(f *fake, id json.RawMessage, action, _ string, args json.RawMessage) {
		got = action + string(args)
		f.answer(id, `{"blinked":3}`)
	})
	a.Actions[1].Args = json.RawMessage(`{"type":"object","properties":{"times":{"type":"integer","maximum":9}},"required":["times"],"additionalProperties":false}`)
	s := a.Open("d")
	defer s.Close()
	actions, err := s.Actions()
	require.NoError(t, err)
	require.Len(t, actions.List(), 1, "those that mean the same everywhere have commands of their own")
	result, err := actions.Do(t.Context(), "lamp.blink", json.RawMessage(`{"times":3}`))
	require.NoError(t, err)
	require.JSONEq(t, `{"blinked":3}`, string(result))
	require.Equal(t, `lamp.blink{"times":3}`, got)
	for args, want := range map[string]string{`{"times":10}`: "times", `{}`: "times", `{"times":1,"more":1}`: "more", `[]`: "object", `{"times":`: "not JSON"} {
		_, err := actions.Do(t.Context(), "lamp.blink", json.RawMessage(args))
		require.ErrorContains(t, err, want, args)
		require.NotContains(t, err.Error(), "file:", args)
	}
	_, err = actions.Do(t.Context(), "app.list", nil)
	require.ErrorContains(t, err, "it has lamp.blink")
}

func TestAnErrorOfAnAdapterIsASentence(t *testing.T) {
	a, _ := begun(t, []string{"restart"}, func(f *fake, id json.RawMessage, _, _ string, _ json.RawMessage) {
		f.send(`{"jsonrpc":"2.0","id":%s,"error":{"code":1,"message":"the lid is open\u001b[2J","data":{"kind":"blocked","gate":"mode","remedy":"Shut it.","done":"nothing"}}}`, id)
	})
	s := a.Open("d")
	defer s.Close()
	err := s.Restart(t.Context())
	require.ErrorContains(t, err, "the lid is open")
	require.NotContains(t, err.Error(), "\x1b")
}

func TestAStreamIsOpenedByAKeyOnThisComputer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	got := make(chan string, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		line, _ := bufio.NewReader(c).ReadString('\n')
		io.WriteString(c, "RFB 003.008\n")
		got <- line
	}()
	key := "0123456789abcdef"
	a, _ := begun(t, []string{"screen", "port"}, func(f *fake, id json.RawMessage, action, _ string, _ json.RawMessage) {
		if action == "port" {
			f.answer(id, `{"port":22,"key":"short"}`)
			return
		}
		f.answer(id, fmt.Sprintf(`{"port":%d,"key":%q}`, port, key))
	})
	s := a.Open("d")
	defer s.Close()
	screen, err := s.Screen()
	require.NoError(t, err)
	c, err := screen.Open(t.Context())
	require.NoError(t, err)
	defer c.Close()
	require.Equal(t, key+"\n", <-got)
	ports, err := s.Ports()
	require.NoError(t, err)
	_, err = ports.Dial(t.Context(), "debug")
	require.ErrorContains(t, err, "at port 22 with a key of 5 characters")
}

func TestAnAdapterThatIsGoneEndsItsSessions(t *testing.T) {
	a, f := begun(t, all, obliging)
	s := a.Open("d")
	f.c.Close()
	select {
	case <-s.Done():
	case <-time.After(5 * time.Second):
		require.Fail(t, "the session goes on")
	}
	require.ErrorIs(t, s.Find(t.Context(), "x"), device.ErrEnded)
}

func TestManifestsThatWantTooMuchAreRefused(t *testing.T) {
	good := "adapter: reed\ncommand: [./a]\nsheet: reed.yaml\n"
	m, err := adapter.ParseManifest([]byte(good))
	require.NoError(t, err)
	require.Equal(t, "reed", m.Adapter)
	for text, want := range map[string]string{
		"adapter: ../reed\ncommand: [./a]\nsheet: a\n":  "adapter",
		"adapter: reed\nsheet: a\n":                     "command is missing",
		"adapter: reed\ncommand: [../a]\nsheet: a\n":    "is outside",
		"adapter: reed\ncommand: [/bin/sh]\nsheet: a\n": "is outside",
		"adapter: reed\ncommand: [a]\nsheet: ../a\n":    "sheet",
		good + "rights: {files: [relative]}\n":          "not an absolute path",
		good + "rights: {files: [/dev/../etc]}\n":       "not an absolute path",
		good + "rights: {files: ['/dev/[']}\n":          "not an absolute path",
		good + "rights: {connect: [0]}\n":               "is not a port",
		good + "root: true\n":                           "root",
	} {
		_, err := adapter.ParseManifest([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

// FuzzAdapter has an adapter say anything.
func FuzzAdapter(f *testing.F) {
	f.Add(`{"jsonrpc":"2.0","id":1,"result":{"name":"x","facts":[{"key":"a","type":"int"}],"actions":[{"name":"log","args":{"type":"object"}}]}}` + "\n" +
		`{"jsonrpc":"2.0","method":"fact","params":{"device":"d","key":"a","value":1}}` + "\n" + `{"jsonrpc":"2.0","id":2,"method":"ask","params":{"job":"1"}}` + "\n")
	f.Add(`{"jsonrpc":"2.0","method":"line","params":{"job":"1","seq":1,"text":"x","ended":{"code":1,"reason":"y"}}}` + "\n")
	f.Fuzz(func(t *testing.T, said string) {
		here, there := net.Pipe()
		go io.Copy(io.Discard, there)
		go func() {
			io.WriteString(there, said)
			there.Close()
		}()
		a, err := adapter.Begin(t.Context(), here, adapter.Hello{Given: "/nowhere"}, nil)
		if err != nil {
			return
		}
		s := a.Open("d")
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		defer cancel()
		if log, err := s.Log(); err == nil {
			log.Follow(ctx, device.LogFrom{}, func(device.Line) bool { return true })
		}
		s.Close()
		a.Close()
	})
}

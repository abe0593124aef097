package test

import (
	"bufio"
	"context"
	"encoding/json"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/go-dap"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// debugging is a client of the Debug Adapter Protocol, of a package that knows nothing of benches.
type debugging struct {
	t    *testing.T
	conn net.Conn
	r    *bufio.Reader
	seq  int
}

func (d *debugging) asks(command string, fill func(dap.Request) dap.Message) dap.Message {
	d.t.Helper()
	d.seq++
	require.NoError(d.t, dap.WriteProtocolMessage(d.conn, fill(dap.Request{ProtocolMessage: dap.ProtocolMessage{Seq: d.seq, Type: "request"}, Command: command})))
	for {
		require.NoError(d.t, d.conn.SetReadDeadline(time.Now().Add(10*time.Second)))
		m, err := dap.ReadProtocolMessage(d.r)
		require.NoError(d.t, err, command)
		if answer, ok := m.(dap.ResponseMessage); ok && answer.GetResponse().RequestSeq == d.seq {
			return m
		}
	}
}

// A debugger reaches the debug port of an app on a borrowed device, through the bench's command alone.
func TestADebuggerReachesAnAppOnABorrowedDevice(t *testing.T) {
	d := startWith(t, t.TempDir())
	d.eventually("the far rack is seen", func() bool { return strings.Contains(d.ok("rack", "--peers"), "heron-9") })
	d.ok("loan", "start", "heron-9", "--from", "harbour-desk", "--for", "1h")
	d.waits("heron-9", "linked", "open")
	none := d.run("port", "heron-9", "debug")
	require.Equal(t, 1, none.code)
	require.Contains(t, none.err, `No app that runs has a port "debug" open`)
	d.ok("try", "demo/apps/callout", "heron-9")
	other := d.run("port", "heron-9", "callout:trace")
	require.Contains(t, other.err, "there are fellgate/callout:debug")

	port := d.command(context.Background(), "port", "heron-9", "debug", "--json")
	var opened client.OpenedPort
	d.eventually("the port is open", func() bool { return json.Unmarshal([]byte(port.out.String()), &opened) == nil })
	conn, err := net.Dial("tcp", opened.Address)
	require.NoError(t, err)
	defer conn.Close()
	c := &debugging{t: t, conn: conn, r: bufio.NewReader(conn)}
	hello := c.asks("initialize", func(r dap.Request) dap.Message {
		return &dap.InitializeRequest{Request: r, Arguments: dap.InitializeRequestArguments{ClientID: "test", AdapterID: "callout", LinesStartAt1: true, ColumnsStartAt1: true}}
	})
	require.True(t, hello.(*dap.InitializeResponse).Body.SupportsConfigurationDoneRequest)
	c.asks("attach", func(r dap.Request) dap.Message {
		return &dap.AttachRequest{Request: r, Arguments: json.RawMessage("{}")}
	})
	c.asks("configurationDone", func(r dap.Request) dap.Message { return &dap.ConfigurationDoneRequest{Request: r} })
	threads := c.asks("threads", func(r dap.Request) dap.Message { return &dap.ThreadsRequest{Request: r} })
	require.Equal(t, "callout", threads.(*dap.ThreadsResponse).Body.Threads[0].Name)
	frames := c.asks("stackTrace", func(r dap.Request) dap.Message {
		return &dap.StackTraceRequest{Request: r, Arguments: dap.StackTraceArguments{ThreadId: 1}}
	})
	require.Equal(t, "main.main", frames.(*dap.StackTraceResponse).Body.StackFrames[0].Name)
	variables := c.asks("variables", func(r dap.Request) dap.Message {
		return &dap.VariablesRequest{Request: r, Arguments: dap.VariablesArguments{VariablesReference: 1}}
	})
	require.NotEmpty(t, variables.(*dap.VariablesResponse).Body.Variables)
	refused := c.asks("setBreakpoints", func(r dap.Request) dap.Message { return &dap.SetBreakpointsRequest{Request: r} })
	require.False(t, refused.(dap.ResponseMessage).GetResponse().Success, "it sets none, and says so")

	// The app's end is the connection's.
	d.ok("app", "stop", "fellgate/callout", "heron-9")
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
	_, err = c.r.ReadByte()
	require.Error(t, err)
	require.NotErrorIs(t, err, os.ErrDeadlineExceeded)
	require.NoError(t, port.cmd.Process.Signal(os.Interrupt))
	require.Zero(t, port.wait().code)
}

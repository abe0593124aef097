package test

import (
	"bytes"
	"context"
	"encoding/json"
	"image/png"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
)

// unrecognisedHost answers the host protocol with one device that nobody knows, whose
// interface says something.
func unrecognisedHost(t *testing.T, says string) (address string, unplug func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	pulled := make(chan struct{})
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			rpc.New(c, func(ctx context.Context, conn *rpc.Conn, method string, params json.RawMessage) (any, error) {
				switch method {
				case hostlink.MethodHello:
					return hostlink.Hello{Name: "attic", Version: 1}, nil
				case hostlink.MethodWatch:
					go func() {
						<-pulled
						conn.Notify(hostlink.MethodBus, hostlink.Bus{})
					}()
					return hostlink.Bus{Devices: []hostlink.Device{{BusID: "2-2", Port: "port 2", USB: "f3e1:0102", Run: "r",
						Interfaces: []hostlink.Interface{{Class: "ff/00/00", Name: says}}}}}, nil
				}
				return rpc.NoMethod(ctx, conn, method, params)
			})
		}
	}()
	return l.Addr().String(), func() { close(pulled) }
}

func TestWhatNoSheetFitsIsShownWithWhatWasSeenOfIt(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2 waits for you")
	at, unplug := unrecognisedHost(t, "slate-sync\x1b[31m<b>")
	d.ok("host", "add", "attic", "--usbip", d.at.Hub, "--control", at)
	b.sees("f3e1:0102 on port 2 of attic: ff/00/00 slate-sync[31m<b>")
	b.sees("No prep sheet fits it")
	rack := d.ok("rack")
	require.Contains(t, rack, "f3e1:0102 on port 2 of attic")
	require.NotContains(t, rack, "\x1b", "what it calls itself steers no terminal")
	unplug()
	d.eventually("it has gone", func() bool { return !strings.Contains(d.ok("rack"), "f3e1") })
}

func TestAStandInsScreenIsWrittenAsAPicture(t *testing.T) {
	d := startDemo(t)
	file := filepath.Join(t.TempDir(), "screen.png")
	d.ok("standin", "screen", "heron-2", "--png", file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	config, err := png.DecodeConfig(bytes.NewReader(raw))
	require.NoError(t, err)
	require.Equal(t, 552, config.Width)
}

package test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/standin/host"
	"earlybench.invalid/earlybench/standin/hub"
	"earlybench.invalid/earlybench/test/hostile"
)

// TestTheBenchHoldsAgainstHostileDevices connects a device for each attack, all at once and beside an honest
// one, to a bench of its own, and gives each the commands that a person would.
func TestTheBenchHoldsAgainstHostileDevices(t *testing.T) {
	collecting(t)
	attacks := hostile.Attacks()
	require.GreaterOrEqual(t, len(attacks), 30)
	d := startBench(t, t.TempDir())
	key := filepath.Join(t.TempDir(), "unlock.key")
	d.ok("safe", "make", "--key-file", key)
	require.NoError(t, d.api.PermitSafe(t.Context(), client.SafePermit{Item: "development", App: "fellgate/callout", Purpose: "sign an app", For: 3600, Proof: client.SafeOpening{KeyFile: key}}))
	h, err := host.New(host.Config{Address: "127.0.0.1:0", Name: "loft", Dir: t.TempDir(), Common: []string{"06/01/01", "ff/00/00"}})
	require.NoError(t, err)
	ctx, end := context.WithCancel(context.Background())
	defer end()
	bus, err := hub.Start(ctx, hub.Config{Address: "127.0.0.1:0", Driver: h.Driver})
	require.NoError(t, err)
	defer bus.Close()
	require.NoError(t, h.Serve(ctx, bus))
	defer h.Close()
	plug := func(i int, b hostile.Behaviour) {
		k, err := hostile.New(fmt.Sprint("device-", i), fmt.Sprintf("HH3 %04d", i), b)
		require.NoError(t, err)
		bus.Attach(k)
		require.NoError(t, bus.Plug(k.Name()))
	}
	plug(0, hostile.Behaviour{})
	for i, a := range attacks {
		plug(i+1, a.Behaviour)
	}
	d.ok("host", "add", "loft", "--usbip", bus.Address(), "--control", h.Address())
	handles := map[string]string{} // by serial
	d.eventually("all are on the rack", func() bool {
		devices, err := d.api.Devices(t.Context(), "")
		require.NoError(t, err)
		for _, k := range devices {
			handles[k.Serial] = k.Handle
		}
		return len(devices) == len(attacks)+1
	})
	d.ok("project", "add", benchtest.SmallApp(t, true))
	d.waits(handles["HH3 0000"], "linked", "open")
	time.Sleep(2 * time.Second)
	service := d.cmd.Process.Pid
	_, before := memory(t, service)
	var group sync.WaitGroup
	turn := make(chan struct{}, 16)
	for i, a := range attacks {
		handle := handles[fmt.Sprintf("HH3 %04d", i+1)]
		group.Go(func() {
			turn <- struct{}{}
			defer func() { <-turn }()
			for _, ask := range a.Asks {
				began := time.Now()
				all, says := "", regexp.MustCompile(ask.Says)
				for soon := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) { // a link that fails again and again stands now and then
					r := d.run(strings.Fields(strings.ReplaceAll(ask.Command, "@", handle))...)
					if all = r.out + r.err; says.MatchString(all) || time.Now().After(soon) {
						break
					}
				}
				require.Less(t, time.Since(began), time.Minute, "%s: %s", a.Name, ask.Command)
				require.Regexp(t, says, all, "%s: %s", a.Name, ask.Command)
				require.NotRegexp(t, steers, all, "%s: %s", a.Name, ask.Command)
			}
		})
	}
	worst := time.Duration(0)
	done := make(chan struct{})
	go func() { group.Wait(); close(done) }()
	for busy := true; busy; {
		select {
		case <-done:
			busy = false
		case <-time.After(50 * time.Millisecond):
			began := time.Now()
			_, err := d.api.Bench(t.Context())
			require.NoError(t, err)
			worst = max(worst, time.Since(began))
		}
	}
	honest := d.device(handles["HH3 0000"])
	require.Equal(t, "open", honest.Gates["linked"], "the honest one is as it was: %+v\n%s\n%s", honest, d.run("rack").out, d.out.String())
	require.Contains(t, d.run("host", "check").out, "The program itself has had no errors")
	resident, files := memory(t, service)
	row(t, "hostile devices at once", len(attacks), "the owner is answered within %s; %d MB of memory; %d files open, %d before", worst.Round(time.Millisecond), resident>>20, files, before)
	require.Less(t, worst, 2*time.Second)
	require.Less(t, resident, int64(160<<20), "of 57 links at once")
	require.Less(t, files, before+20)
	size, err := os.Stat(filepath.Join(d.state, "bench.db"))
	require.NoError(t, err)
	require.Less(t, size.Size(), int64(64<<20))
}

// steers finds what controls a terminal or turns the direction of a text.
var steers = regexp.MustCompile("[\x00-\x08\x0b-\x1f\x7f\u0080-\u009f\u202a-\u202e\u2066-\u2069]")

// What a host says is bounded, and passes on nothing that controls a terminal.
func TestTheBenchHoldsAgainstHostileHosts(t *testing.T) {
	collecting(t)
	d := startBench(t, t.TempDir())
	n := 0
	for what, b := range hostile.Hosts {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(hostile.ServeHost(l, b))
		n++
		name := fmt.Sprint("crag-", n)
		d.run("host", "add", name, "--usbip", "127.0.0.1:1", "--control", l.Addr().String())
		for _, args := range [][]string{{"host"}, {"host", "tree", name}, {"rack"}, {"rack", "--json"}, {"round"}, {"host", "check"}, {"link"}} {
			r := d.run(args...)
			require.NotRegexp(t, steers, r.out+r.err, "%s: %v", what, args)
			if len(b.Devices) > 1000 && args[0] == "host" && len(args) == 1 {
				require.Contains(t, r.out+r.err, "more than a host can have", what)
			}
		}
	}
	_, err := d.api.Bench(t.Context())
	require.NoError(t, err)
	bytes, _ := memory(t, d.cmd.Process.Pid)
	require.Less(t, bytes, int64(120<<20))
}

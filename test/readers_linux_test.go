package test

import (
	"bufio"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// p99 is the time within which 99 of 100 writes are answered.
func (d *demo) p99(n int) time.Duration {
	d.t.Helper()
	var took []time.Duration
	for i := range n {
		began := time.Now()
		require.NoError(d.t, d.api.TellFact(d.t.Context(), "watch-1", "mode.loose", []string{"yes", "no"}[i%2]))
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return took[n*99/100]
}

// bound is far above what it takes alone on a computer (docs/benchmarks.md), and far below what one query
// for each reader took.
const bound = 150 * time.Millisecond

// Five hundred readers of the events, and as many that read nothing, hold nobody up, and cost no
// connection to the database each.
func TestManyReadersOfTheEventsHoldNobodyUp(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	pid := processOf(t, d.cmd.Process.Pid, "serve")
	_, err := d.api.AddDevice(t.Context(), client.NewDevice{Model: "Kittiwake", Handle: "watch-1"})
	require.NoError(t, err)
	made, err := d.api.AddAccess(t.Context(), client.NewAccess{Name: "readers", Rights: []string{"look"}, For: "1h"})
	require.NoError(t, err)
	alone := d.p99(200)
	host := strings.TrimPrefix(d.at.Service, "http://")
	follow := func(n int, read bool) {
		for range n {
			c, err := net.Dial("tcp", host)
			require.NoError(t, err)
			t.Cleanup(func() { c.Close() })
			fmt.Fprintf(c, "GET /api/v1/events HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\n\r\n", host, made.Secret)
			b := bufio.NewReader(c)
			line, err := b.ReadString('\n')
			require.NoError(t, err)
			require.Contains(t, line, " 200 ")
			if read {
				go func() {
					for {
						if _, err := b.ReadString('\n'); err != nil {
							return
						}
					}
				}()
			}
		}
	}
	follow(500, true)
	with := d.p99(200)
	_, files := memory(t, pid)
	row(t, "readers of the events", 500, "p99 of a write %s, alone %s; %d files open", with.Round(100*time.Microsecond), alone.Round(100*time.Microsecond), files)
	require.Less(t, with-alone, bound)
	require.Less(t, files, 500+120)
	follow(90, false)
	deaf := d.p99(200)
	t.Logf("with 90 deaf ones beside: %s", deaf)
	require.Less(t, deaf-alone, bound)
}

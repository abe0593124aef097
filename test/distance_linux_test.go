package test

import (
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// within does something in a network namespace: the sockets that are made in it stay there.
func (n *networks) within(ns string, f func() error) error {
	file, err := os.Open(filepath.Join("/run/netns", ns))
	if err != nil {
		return err
	}
	defer file.Close()
	done := make(chan error, 1)
	go func() { // its thread ends with it, since that is in another namespace then
		runtime.LockOSThread()
		if err := unix.Setns(int(file.Fd()), unix.CLONE_NEWNET); err != nil {
			done <- err
			return
		}
		done <- f()
	}()
	return <-done
}

// delays passes connections at an address of a namespace on to another one, each way so much later (a [time.Duration]), and
// returns the address.
func (n *networks) delays(ns, to string, delay *atomic.Int64) string {
	n.t.Helper()
	var l net.Listener
	require.NoError(n.t, n.within(ns, func() (err error) { l, err = net.Listen("tcp", "127.0.0.1:0"); return err }))
	n.t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			var far net.Conn
			err = n.within(ns, func() (err error) { far, err = net.DialTimeout("tcp", to, 5*time.Second); return err })
			if err != nil {
				c.Close()
				continue
			}
			for _, x := range [][2]net.Conn{{far, c}, {c, far}} {
				go func() {
					defer c.Close()
					defer far.Close()
					benchtest.LongLine(x[0], x[1], func() time.Duration { return time.Duration(delay.Load()) }, 0)
				}()
			}
		}
	}()
	return l.Addr().String()
}

// Two benches in networks of their own, which the kernel's token bucket holds to 20 Mbit/s, with a delay between them: from the
// loan to the tried app, and what it says without a gap.
func TestABorrowedDeviceIsTriedOverALongLineBetweenNetworks(t *testing.T) {
	n := newNetworks(t)
	for _, port := range []string{n.benchPort, n.devPort} {
		out, err := n.in(n.mid, "tc", "qdisc", "add", "dev", port, "root", "tbf", "rate", "20mbit", "burst", "64kb", "latency", "200ms").CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	const harbourAt = "10.77.1.2:7421"
	h := n.servesIn(n.devs, t.TempDir(), "harbour-desk", "--no-announcements", "--peers", harbourAt)
	own, err := h.api.Bench(t.Context())
	require.NoError(t, err)
	at := n.devices(standin.Entry{Name: "heron-9", Body: "halden", Model: "H4", Serial: "HH4 0900 0001", Begin: &body.Beginning{Opened: true,
		Settings: map[string]string{"computers": "debug and install"}, Admits: map[string]string{own.Fingerprint: own.Name}}})
	require.NoError(t, h.api.AddHost(t.Context(), client.Host{Name: "quay", USBIP: at.Hub, Control: at.Host}))
	handle := ""
	h.eventually("the lender has it", func() bool {
		all, err := h.api.Devices(t.Context(), "")
		if err != nil || len(all) != 1 || all[0].Gates["linked"] != "open" {
			return false
		}
		handle = all[0].Handle
		return true
	})

	key := filepath.Join(t.TempDir(), "unlock.key")
	d := n.servesIn(n.bench, t.TempDir(), "moor-desk", "--no-announcements", "--safe-key", key)
	d.eventually("the safe is open", func() bool { s, err := d.api.Safe(t.Context()); return err == nil && s.State == "open" })
	d.ok("project", "add", benchtest.SmallApp(t, true))
	require.NoError(t, d.api.PermitSafe(t.Context(), client.SafePermit{Item: "development", App: "fellgate/callout", Purpose: "sign an app", For: 3600, Proof: client.SafeOpening{KeyFile: key}}))
	invitation := filepath.Join(t.TempDir(), "harbour.invitation")
	h.ok("peer", "invite", "--out", invitation, "--may", "use")
	raw, err := os.ReadFile(invitation)
	require.NoError(t, err)

	var far atomic.Int64
	through := n.delays(n.bench, harbourAt, &far)
	require.NoError(t, os.WriteFile(invitation, []byte(strings.ReplaceAll(string(raw), harbourAt, through)), 0o600))
	d.ok("peer", "add", invitation)
	for _, delay := range []time.Duration{5 * time.Millisecond, 50 * time.Millisecond, 200 * time.Millisecond} {
		far.Store(int64(delay))
		d.eventually("the far rack is seen", func() bool { return strings.Contains(d.ok("rack", "--peers"), handle) })
		began := time.Now()
		d.ok("loan", "start", handle, "--from", "harbour-desk", "--for", "1h")
		d.waits(handle, "linked", "open")
		linked := time.Since(began)
		require.Contains(t, d.ok("try", "fellgate/callout", handle), "passed")
		tried := time.Since(began)
		d.ok("loan", "end", handle)
		h.eventually("it is clean", func() bool { return strings.Contains(h.ok("loan"), "It was returned") })
		t.Logf("soak: %v each way, 20 Mbit/s %8d  linked after %v, tried after %v", delay, 1, linked.Round(10*time.Millisecond), tried.Round(10*time.Millisecond))
	}
}

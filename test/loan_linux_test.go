package test

import (
	"context"
	"encoding/json"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// harbour is the other bench of a demo.
func (d *demo) harbour() *demo {
	d.t.Helper()
	require.NotEmpty(d.t, d.at.HarbourSocket)
	h := &demo{t: d.t, bin: d.bin, state: filepath.Join(d.state, "harbour-desk"), out: d.out, api: client.New(d.at.HarbourSocket)}
	h.at.Standin = d.at.HarbourStandin
	d.t.Cleanup(h.api.Close)
	return h
}

// process is the id of the process of the bench with a state directory.
func process(t *testing.T, state string) int {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, name := range all {
		raw, err := os.ReadFile(name)
		if err == nil && strings.Contains(string(raw), "\x00serve\x00") && strings.Contains(string(raw), "\x00--state\x00"+state+"\x00") {
			pid, err := strconv.Atoi(strings.Split(name, "/")[2])
			require.NoError(t, err)
			return pid
		}
	}
	require.Fail(t, "no process runs the bench", state)
	return 0
}

// From the far rack to tried and returned, and what passes through the lender is not in its memory.
func TestADeviceOfAnotherBenchIsBorrowedByCommands(t *testing.T) {
	d := startWith(t, t.TempDir())
	h := d.harbour()
	d.eventually("the far rack is seen", func() bool { return strings.Contains(d.ok("rack", "--peers"), "heron-9") })
	require.Regexp(t, `whimbrel-9 .*harbour-desk +use +free`, d.ok("rack", "--peers"))
	require.NotContains(t, d.ok("rack"), "heron-9")
	require.Contains(t, d.ok("loan", "start", "heron-9", "--from", "harbour-desk", "--for", "2h"), "heron-9 of harbour-desk is yours until")
	d.waits("heron-9", "linked", "open")
	require.Regexp(t, `heron-9 .*ready: borrowed until`, d.ok("rack"))
	require.Regexp(t, `heron-9 +remote +heron-9 of harbour-desk +linked`, d.ok("link"))
	require.Regexp(t, `heron-9 +lent to moor-desk +use`, h.ok("loan"))
	require.Regexp(t, `heron-9 .*lent to moor-desk`, h.ok("rack"))
	r := h.run("run", "demo/apps/callout", "heron-9")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.out+r.err, "lent to moor-desk")

	secret := "quiet-" + filepath.Base(t.TempDir()) + fmt.Sprint(os.Getpid())
	pid := process(t, h.state)
	require.False(t, benchtest.Holds(t, pid, secret))
	for range 20 {
		d.run("app", "remove", "fellgate/"+secret, "heron-9")
	}
	require.False(t, benchtest.Holds(t, pid, "fellgate/"+secret+"\"}"), "what is asked of the device is not in the lender's memory")
	h.run("app", "remove", "fellgate/"+secret+"-own", "whimbrel-9")
	require.True(t, benchtest.Holds(t, pid, "fellgate/"+secret+"-own"), "what the lender asks itself is there")

	require.Contains(t, d.ok("try", "demo/apps/callout", "heron-9"), "passed")
	require.Contains(t, d.ok("log", "heron-9", "--for", "500ms"), "callout ready")
	d.ok("loan", "extend", "heron-9", "--for", "3h")
	require.Contains(t, d.ok("loan", "end", "heron-9"), "borrowed from harbour-desk")
	h.eventually("it is back, and clean", func() bool {
		var all client.List[client.Loan]
		h.json(&all, "loan")
		return all.Items[0].State == "ended" && all.Items[0].NotBack == ""
	})
	require.NotContains(t, h.ok("rack", "show", "heron-9"), "callout")
	d.eventually("it is off this rack", func() bool { return !strings.Contains(d.ok("rack"), "heron-9") })
	require.Regexp(t, `peer/moor-desk +return-device +heron-9, \d+ bytes in`, h.ok("audit"))
}

// Two benches that were started by hand become peers by three words, in two terminals.
func TestTwoBenchesBecomePeersByCommands(t *testing.T) {
	bin, err := program()
	require.NoError(t, err)
	start := func(name string, more ...string) *demo {
		b := &demo{t: t, bin: bin, state: t.TempDir(), out: &shared{}}
		b.cmd = exec.Command(bin, append([]string{"serve", "--supervised", "--own-usb=false", "--no-announcements", "--state", b.state, "--port", "0", "--name", name}, more...)...)
		in, err := b.cmd.StdinPipe()
		require.NoError(t, err)
		out, err := b.cmd.StdoutPipe()
		require.NoError(t, err)
		b.cmd.Stderr = b.out
		require.NoError(t, b.cmd.Start())
		t.Cleanup(func() { in.Close(); b.cmd.Wait() })
		var at struct{ Peers string }
		require.NoError(t, json.NewDecoder(out).Decode(&at))
		b.at.Service = at.Peers
		return b
	}
	harbour, moor := start("harbour-desk", "--peers", "127.0.0.1:0"), start("moor-desk")
	require.Contains(t, moor.run("peer", "invite", "--out", "x").err, "serve --peers HOST:PORT")
	require.Contains(t, moor.run("peer", "add", "127.0.0.1:1").err, "connection refused")
	r := moor.run("peer", "add", harbour.at.Service)
	require.Equal(t, 0, r.code, "%s", r.err)
	require.Contains(t, r.err, "It shows three words")
	shown := harbour.ok("peer")
	require.Contains(t, shown, "moor-desk wants to become a peer")
	words := strings.Fields(shown[strings.LastIndex(shown, ":")+1:])
	require.Len(t, words, 3)
	typing := moor.command(t.Context(), append([]string{"peer", "words"}, words...)...)
	harbour.eventually("its owner is asked", func() bool { return strings.Contains(harbour.ok("peer"), "Accept it: earlybench peer accept") })
	_, key, _ := strings.Cut(harbour.ok("peer"), "peer accept ")
	harbour.ok("peer", "accept", strings.TrimSuffix(strings.Fields(key)[0], ";"))
	r = typing.wait()
	require.Equal(t, 0, r.code, "%s", r.err)
	require.Contains(t, r.out, "harbour-desk is now a peer")
	harbour.eventually("both are connected", func() bool {
		return strings.Contains(harbour.ok("peer"), "connected") && !strings.Contains(harbour.ok("peer"), "not connected")
	})
	check := moor.ok("peer", "check", "harbour-desk")
	for _, layer := range []string{"route", "key", "version", "known", "connection", "clock"} {
		require.Regexp(t, `. `+layer+` `, check)
	}
	require.Contains(t, harbour.ok("peer", "set", "moor-desk", "--may", "look"), "moor-desk may here: look at all")
	harbour.ok("peer", "drop", "moor-desk")
	r = moor.run("peer", "check", "harbour-desk")
	require.Equal(t, 1, r.code)
	require.Regexp(t, `✗ known +it no longer knows this bench`, r.out)
	require.Contains(t, r.err, "Ask its owner to invite this bench again")
}

// Either bench is killed at random moments of loans that are started, used and ended: nothing is lent twice, nobody
// stays admitted, and both records agree afterwards.
func TestBenchesThatAreKilledAgreeOnTheirLoans(t *testing.T) {
	kills := soaked(t, 2, 20)
	d := startWith(t, t.TempDir())
	h := d.harbour()
	d.eventually("the far rack is seen", func() bool { return strings.Contains(d.ok("rack", "--peers"), "heron-9") })
	active := func(x *demo) (out []client.Loan) {
		all, _ := x.api.Loans(context.Background())
		for _, l := range all {
			if l.State == "active" || l.State == "returning" {
				out = append(out, l)
			}
		}
		return out
	}
	for n := range kills {
		began := d.run("loan", "start", "heron-9", "--from", "harbour-desk", "--for", "1h")
		victim := []*demo{d, h}[mathrand.IntN(2)]
		pid := process(t, victim.state)
		work := d.command(context.Background(), "try", "fellgate/callout", "heron-9")
		time.Sleep(time.Duration(mathrand.IntN(3000)) * time.Millisecond)
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
		work.wait() // well or not
		for _, x := range []*demo{d, h} {
			x.eventually("both answer", func() bool { _, err := x.api.Bench(context.Background()); return err == nil })
		}
		require.LessOrEqual(t, len(active(h)), 1, "kill %d: lent to nobody or to one; the loan was answered with %d", n, began.code)
		d.eventually("both agree that it is lent, or not", func() bool { return len(active(d)) == len(active(h)) })
		d.run("loan", "end", "heron-9")
		d.eventually("both agree that it is back", func() bool { return len(active(d))+len(active(h)) == 0 })
		h.eventually("the device lets nobody in but its own bench", func() bool { return strings.Contains(h.ok("rack", "--where", `device.handle == "heron-9"`), "ready") })
		var all client.List[client.Loan]
		h.json(&all, "loan", "--limit", "1")
		require.True(t, len(all.Items) == 0 || all.Items[0].NotBack == "", "admission, apps and files are off, as the device tells: %+v", all.Items)
	}
	t.Logf("soak: benches killed in loans %8d  both agreed each time", kills)
}

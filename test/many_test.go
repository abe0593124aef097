package test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestSeveralDevicesArePreparedIndependentlyAndEndWithATable(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	r := d.run("prep", "heron-2", "heron-1", "--unattended")
	require.Equal(t, 1, r.code, r.err)
	require.Regexp(t, `✗ +heron-2 +A person is needed at heron-2`, r.out)
	require.Regexp(t, `✓ +heron-1 +ready`, r.out, "the first failure stops nothing")
	require.Contains(t, r.err, "1 of 2 devices is not ready. Repeat for just those: earlybench prep heron-2")

	r = d.run("prep", "--all", "--unattended", "--json")
	require.Equal(t, 1, r.code)
	type event struct {
		Event, Device string
		Error         *struct{ Kind string }
		Devices       []struct {
			Device string
			Ready  bool
		}
	}
	var events []event
	for line := range strings.SplitSeq(strings.TrimSpace(r.out), "\n") {
		var e event
		require.NoError(t, json.Unmarshal([]byte(line), &e), "an event a line: %s", line)
		events = append(events, e)
	}
	last := events[len(events)-1]
	require.Equal(t, "end", last.Event)
	require.Len(t, last.Devices, 1, "those that are not ready")
	require.Equal(t, "heron-2", last.Devices[0].Device)
	require.Equal(t, event{Event: "failed", Device: "heron-2", Error: &struct{ Kind string }{"person"}}, events[len(events)-2])
}

func TestAPersonWhoPullsTheCableInTheMiddleOfAPrepIsLedOn(t *testing.T) {
	d := startDemo(t)
	d.openMode("heron-2")
	d.installDriver()
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	prep := d.command(ctx, "prep", "heron-2", "--plain")
	d.eventually("it asks", func() bool { return strings.Contains(d.ok("standin", "screen", "heron-2"), "This visit") })
	d.ok("standin", "pull", "heron-2")
	d.eventually("plugging it in is the step", func() bool { return strings.Contains(prep.out.String(), "Plug heron-2 in") })
	d.ok("standin", "plug", "heron-2")
	d.touch("heron-2", "This visit")
	r := prep.wait()
	require.Zero(t, r.code, r.out+r.err)
	require.Contains(t, r.out, "heron-2 is ready")
}

func TestAPipelineWaitsUntilDevicesAreReady(t *testing.T) {
	d := startDemo(t)
	d.ok("standin", "pull", "heron-1")
	d.eventually("it has gone", func() bool { return d.device("heron-1").Summary == "unseen" })
	r := d.run("wait", "ready", "heron-1", "heron-2", "--within", "300ms")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, "2 of 2 devices are not ready. Continue with: earlybench prep heron-1 heron-2")

	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	wait := d.command(ctx, "wait", "ready", "heron-1", "--within", "1m")
	time.Sleep(200 * time.Millisecond)
	d.ok("standin", "plug", "heron-1")
	require.Zero(t, wait.wait().code)
}

func TestAnAppIsStoppedAndRemovedAndADeviceIsForgotten(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	d.ok("run", "demo/apps/callout", "heron-1", "--follow=false")
	d.ok("app", "stop", "fellgate/callout", "heron-1")
	d.eventually("it does not run", func() bool {
		return strings.Contains(d.ok("rack", "show", "heron-1"), "fellgate/callout 2.3, installed")
	})
	r := d.run("app", "stop", "fellgate/callout", "heron-1")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "fellgate/callout does not run on heron-1")
	d.ok("app", "remove", "fellgate/callout", "heron-1")
	r = d.run("app", "remove", "fellgate/callout", "heron-1")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "is not on heron-1")

	r = d.run("rack", "drop", "heron-1", "--yes")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, "Pull its cable or switch")
	d.ok("standin", "pull", "heron-1")
	d.eventually("it has gone", func() bool { return d.device("heron-1").Summary == "unseen" })
	require.Equal(t, 6, d.run("rack", "drop", "heron-1").code, "a person is asked")
	d.ok("rack", "drop", "heron-1", "--yes")
	require.NotContains(t, d.ok("rack"), "heron-1")
	d.ok("standin", "plug", "heron-1")
	d.eventually("it is on the rack again", func() bool { return strings.Contains(d.ok("rack"), "heron-1") })
	d.waits("heron-1", "linked", "open") // it is met anew, and lets this bench in
}

// broken is the demo's app with another line to look for in its log.
func (d *demo) broken(line string) string {
	d.t.Helper()
	dir := d.t.TempDir()
	require.NoError(d.t, os.CopyFS(dir, os.DirFS("../demo/apps/callout")))
	path := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(path)
	require.NoError(d.t, err)
	text := strings.NewReplacer("fellgate/callout", "fellgate/broken", "^callout ready: [0-9]+ on the rota", line, "within: 20s", "within: 2s").Replace(string(raw))
	require.NoError(d.t, os.WriteFile(path, []byte(text), 0o600))
	return dir
}

func TestATryoutThatFailsShowsItsLogAndOneThatIsStoppedSaysSo(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	d.permit("fellgate/broken")
	r := d.run("try", d.broken("^never$"), "heron-1")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.out, "fellgate/broken 2.3 on heron-1: failed")
	require.Contains(t, r.out, "The last lines of its log")
	require.Contains(t, r.out, "earlybench tryout show ")
	require.Contains(t, d.ok("why", "heron-1", "--app", "fellgate/broken"), "The last tryout of the app on heron-1 did not pass.")

	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	try := d.command(ctx, "try", "fellgate/broken", "heron-1")
	d.eventually("it has started", func() bool { return strings.Contains(try.err.String(), "start") })
	require.NoError(t, try.cmd.Process.Signal(os.Interrupt))
	r = try.wait()
	require.NotZero(t, r.code)
	require.Contains(t, r.out, "on heron-1: stopped")
	require.NotContains(t, r.out+r.err, "context canceled")
	require.Regexp(t, `fellgate/broken 2.3 +heron-1 +stopped`, d.ok("tryout"))
}

func TestACommandSaysWhichOfItsWordsIsMissing(t *testing.T) {
	d := startDemo(t)
	r := d.run("run", "heron-2")
	require.Equal(t, 2, r.code)
	require.Contains(t, r.err, "heron-2 is a device; name the app before it")
	require.Contains(t, r.err, "fellgate/callout")
	r = d.run("run", "demo/apps/callout", "heron-1", "heron-2", "--for", "2s")
	require.Equal(t, 2, r.code)
	require.Contains(t, r.err, "--for works with one device")
	r = d.run("host", "add", "bad", "--usbip", "127.0.0.1:1", "--control", "127.0.0.1:1")
	require.Equal(t, 4, r.code)
	require.Contains(t, r.err, "Host bad was added, but cannot be reached")
}

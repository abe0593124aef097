package test

import (
	"context"
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// reservations are all of a bench in a state, and none while it does not answer.
func (d *demo) reservations(state string) (out []client.Reservation) {
	all, _ := d.api.Reservations(context.Background())
	for _, r := range all {
		if r.State == state {
			out = append(out, r)
		}
	}
	return out
}

// A night's run with a device of this bench and one of another bench: reserved, borrowed, tried, kept, given back.
func TestACommandHasDevicesOfTwoBenchesToItself(t *testing.T) {
	d := startWith(t, t.TempDir())
	h := d.harbour()
	d.eventually("the far rack is seen", func() bool { return strings.Contains(d.ok("rack", "--peers"), "heron-9") })
	d.waits("heron-1", "linked", "open")
	dir := filepath.Join(t.TempDir(), "out")
	script := `set -e; test "$EARLYBENCH_DEVICES" = "heron-1 heron-9"; test "$EARLYBENCH_DEVICE_2" = heron-9; test -n "$EARLYBENCH_PORT_1_SCREEN"
env -u EARLYBENCH_RESERVATION ` + d.bin + ` try fellgate/callout heron-1 2>&1 || echo refused with $?
` + d.bin + ` try demo/apps/callout $EARLYBENCH_DEVICES`
	r := d.run("with", "--where", `device.handle in ["heron-1", "heron-9"]`, "--count", "2", "--port", "screen", "--within", "1m", "--out", dir, "--", "sh", "-c", script)
	require.Zero(t, r.code, "%s\n%s", r.out, r.err)
	require.Contains(t, r.err, "Reserved: heron-1, heron-9, until ")
	require.Contains(t, r.out, "heron-1 is reserved: by owner/")
	require.Contains(t, r.out, "refused with 3")

	var suites struct {
		Suites []struct {
			Name     string `xml:"name,attr"`
			Tests    int    `xml:"tests,attr"`
			Failures int    `xml:"failures,attr"`
		} `xml:"testsuite"`
	}
	raw, err := os.ReadFile(filepath.Join(dir, "junit.xml"))
	require.NoError(t, err)
	require.NoError(t, xml.Unmarshal(raw, &suites))
	require.Len(t, suites.Suites, 3, "the command and two tryouts")
	for _, s := range suites.Suites {
		require.Zero(t, s.Failures, s.Name)
		require.Positive(t, s.Tests)
	}
	for _, handle := range []string{"heron-1", "heron-9"} {
		log, err := os.ReadFile(filepath.Join(dir, handle, "log.txt"))
		require.NoError(t, err)
		require.Contains(t, string(log), "callout ready")
		picture, err := os.ReadFile(filepath.Join(dir, handle, "screen.png"))
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(string(picture), "\x89PNG"))
	}
	kept, err := filepath.Glob(filepath.Join(dir, "tryouts", "*.json"))
	require.NoError(t, err)
	require.Len(t, kept, 2)
	h.eventually("it is back, and clean", func() bool {
		var all client.List[client.Loan]
		h.json(&all, "loan")
		return len(all.Items) == 1 && all.Items[0].State == "ended" && all.Items[0].NotBack == ""
	})
	require.Contains(t, d.ok("reservation"), "The devices were returned.")

	lost := d.command(context.Background(), "with", "--where", `device.handle == "heron-9"`, "--", "sh", "-c", "echo began; sleep 60")
	d.eventually("it runs", func() bool { return strings.Contains(lost.out.String(), "began") })
	h.ok("loan", "end", "heron-9")
	got := lost.wait()
	require.Equal(t, 7, got.code, got.err)
	require.Contains(t, got.err, "heron-9 was lost: Its lender recalled it.")
	again := d.run("with", "--out", dir, "--", "true")
	require.Equal(t, 2, again.code)
	require.Contains(t, again.err, "is not empty")
}

// The exit code tells a command that failed apart from a device that was lost, and from none that was free.
func TestTheExitCodeOfARunSaysWhatFailed(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	with := func(args ...string) result {
		return d.run(append([]string{"with", "--where", `device.handle == "heron-1"`, "--within", "30s"}, args...)...)
	}
	for _, c := range []struct {
		script string
		code   int
	}{{"exit 0", 0}, {"exit 5", 5}, {"kill -9 $$", 137}} {
		require.Equal(t, c.code, with("--", "sh", "-c", c.script).code, c.script)
	}
	require.Equal(t, 2, with("--", "there-is-no-such-command").code)
	require.Equal(t, 2, d.run("with", "--where", "device.famly == 1", "--", "true").code)
	none := d.run("with", "--where", `device.handle == "heron-7"`, "--within", "1s", "--", "true")
	require.Equal(t, 3, none.code)
	require.Contains(t, none.err, "No devices: No device is available, 1 needed.")
	d.ok("project", "add", "demo/apps/pulse")
	unfit := with("--app", "fellgate/pulse", "--within", "3s", "--", "true")
	require.Equal(t, 3, unfit.code, "%s", unfit.err)
	require.Contains(t, unfit.err, "heron-1 is given back: ")
	unknown := with("--app", "fellgate/nothing", "--", "true")
	require.Equal(t, 1, unknown.code, "%s", unknown.err)
	require.Empty(t, d.reservations("active"))

	t.Run("an access key is enough", func(t *testing.T) {
		t.Setenv("EARLYBENCH_ACCESS", strings.TrimSpace(d.ok("access", "add", "night", "--may", "use", "--for", "1h")))
		r := with("--", "sh", "-c", d.bin+` audit; echo "audit $?"`)
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.out, "audit 5", "what takes a person is refused")

		// A key consents to nothing: a person has, to this app's signature, for this key.
		require.NoError(t, d.api.PermitSafe(t.Context(), client.SafePermit{Item: "development", Actor: "access/night", App: "fellgate/callout", Purpose: "sign an app", For: 3600,
			Proof: client.SafeOpening{KeyFile: filepath.Join(d.state, "demo", "unlock.key")}}))
		dir := filepath.Join(t.TempDir(), "out")
		r = with("--out", dir, "--", "sh", "-c", d.bin+` try fellgate/callout $EARLYBENCH_DEVICES`)
		require.Zero(t, r.code, "%s%s", r.out, r.err)
		raw, err := os.ReadFile(filepath.Join(dir, "junit.xml"))
		require.NoError(t, err)
		require.Contains(t, string(raw), "fellgate/callout")
	})
	require.Contains(t, d.ok("reservation"), "access/night")

	taken := make(chan result, 1)
	go func() { taken <- with("--", "sh", "-c", "sleep 60") }()
	d.eventually("it runs", func() bool { return len(d.reservations("active")) == 1 })
	d.ok("reservation", "end", d.reservations("active")[0].ID)
	r := <-taken
	require.Equal(t, 7, r.code, r.err)
	require.Contains(t, r.err, "The devices were taken back")
}

// A bench that is stopped takes requests and answers none. It takes most of a minute until it counts as lost.
func TestABenchThatAnswersNothingIsToldApartFromAFailedCommand(t *testing.T) {
	if os.Getenv("SOAK") == "" {
		return // make soak does it
	}
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	r := d.command(context.Background(), "with", "--where", `device.handle == "heron-1"`, "--", "sh", "-c", "echo began; sleep 110")
	d.eventually("it runs", func() bool { return strings.Contains(r.out.String(), "began") })
	bench := processOf(t, d.cmd.Process.Pid, "serve")
	require.NoError(t, syscall.Kill(bench, syscall.SIGSTOP))
	got := r.wait()
	require.NoError(t, syscall.Kill(bench, syscall.SIGCONT))
	require.Equal(t, 7, got.code, got.err)
	require.Contains(t, got.err, "The bench does not answer any more.")
	d.eventually("it is over when the bench goes on", func() bool { return len(d.reservations("active")) == 0 })
}

// Runs that are killed: the command, the program that runs it, the bench under it, and the bench for good.
func TestTheDevicesOfKilledRunsAreReturnedWithinAMinute(t *testing.T) {
	d := startWith(t, t.TempDir())
	h := d.harbour()
	d.eventually("the far rack is seen", func() bool { return strings.Contains(d.ok("rack", "--peers"), "heron-9") })
	begin := func() *running {
		t.Helper()
		r := d.command(context.Background(), "with", "--where", `device.handle == "heron-9"`, "--within", "1m", "--", "sh", "-c", "echo began; sleep 600")
		d.eventually("it runs", func() bool { return strings.Contains(r.out.String(), "began") })
		return r
	}
	returned := func(within time.Duration) {
		t.Helper()
		began := time.Now()
		h.eventually("the far bench has it again", func() bool {
			return strings.Contains(h.ok("rack", "--where", `device.handle == "heron-9"`), "ready") && !strings.Contains(h.ok("rack"), "lent to") && len(d.reservations("active")) == 0
		})
		require.Less(t, time.Since(began), within)
	}

	r := begin()
	command := processOf(t, processOf(t, r.cmd.Process.Pid, "hold-command"), "-c")
	require.NoError(t, syscall.Kill(-command, syscall.SIGKILL))
	require.Equal(t, 137, r.wait().code)
	returned(10 * time.Second)

	r = begin()
	require.NoError(t, r.cmd.Process.Kill())
	r.cmd.Wait() // until nothing holds its output any more
	returned(time.Minute)

	r = begin()
	bench := processOf(t, d.cmd.Process.Pid, "serve")
	require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))
	d.eventually("the next one answers", func() bool { return len(d.reservations("active")) == 1 })
	require.Contains(t, d.ok("reservation"), "heron-9", "it goes on with the next service")
	require.NoError(t, r.cmd.Process.Signal(os.Interrupt))
	require.NotZero(t, r.wait().code)
	returned(10 * time.Second)
}

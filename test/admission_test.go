package test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// asks has heron-2 ask, answers by touching text ("" does not), and returns how
// the job ended.
func (d *demo) asks(text string) client.Job {
	d.t.Helper()
	job, err := d.api.Ask(context.Background(), "heron-2")
	require.NoError(d.t, err)
	if text != "" {
		d.eventually("answer "+text, func() bool {
			now, err := d.api.Job(context.Background(), job.ID)
			require.NoError(d.t, err)
			require.Nil(d.t, now.Ended, "%+v", now.Error)
			return d.run("standin", "touch", "heron-2", text).code == 0
		})
	}
	return d.ended(job.ID)
}

func TestAnAdmissionThatIsRefusedOrExpiresSaysSoInItsOwnWords(t *testing.T) {
	d := startDemo(t, "--answer-within", "1500ms")
	d.openMode("heron-2")
	d.installDriver()

	refused := d.asks("No")
	require.Equal(t, "failed", refused.State)
	require.Equal(t, "Somebody answered No on heron-2.", refused.Error.Text)
	require.Contains(t, d.ok("why", "heron-2"), "Somebody answered No on heron-2")

	expired := d.asks("")
	require.Equal(t, "Nobody answered on heron-2 in time.", expired.Error.Text)
	require.Contains(t, d.ok("why", "heron-2"), "Nobody answered on heron-2 in time")
	require.Equal(t, "admitted", d.device("heron-2").First)

	require.Equal(t, "done", d.asks("This visit").State)
	d.eventually("heron-2 is linked", func() bool { return d.device("heron-2").Gates["linked"] == "open" })

	d.ok("standin", "pull", "heron-2")
	d.ok("standin", "plug", "heron-2")
	d.eventually("a visit ends with the cable", func() bool { return d.device("heron-2").First == "admitted" })
}

func TestASecondBenchFindsTheDeviceHeldAndThenGetsAQuestionOfItsOwn(t *testing.T) {
	d := startDemo(t)
	other := &demo{t: t, bin: d.bin, state: t.TempDir()}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	serve := other.command(ctx, "serve", "--port", "0", "--name", "harbour-desk")
	other.out = &serve.err
	other.eventually("the second bench answers", func() bool { return other.run("rack").code == 0 })
	other.ok("host", "add", "loft", "--usbip", d.at.Hub, "--control", d.at.Host)
	other.eventually("it is told who holds the device", func() bool {
		return strings.Contains(other.ok("rack", "show", "heron-1", "--facts"), "another program holds the device")
	})

	d.ok("host", "drop", "loft")
	other.eventually("it links as a visitor", func() bool {
		return strings.Contains(other.ok("why", "heron-1"), "heron-1 has not let harbour-desk in")
	})
	prep := other.command(ctx, "prep", "heron-1")
	d.eventually("a question of its own", func() bool {
		return strings.Contains(d.ok("standin", "screen", "heron-1"), "Until withdrawn")
	})
	d.touch("heron-1", "This visit")
	r := prep.wait()
	require.Zero(t, r.code, r.out+r.err)
	cancel()
	serve.wait()
}

func TestADeviceWithAnotherKeyStopsAndWarnsUntilItIsPinned(t *testing.T) {
	d := startDemo(t)
	old := d.device("heron-1").Key
	d.touch("heron-1", "Settings", "Care", "Start over", "Start over")
	d.openMode("heron-1")
	d.eventually("the stop", func() bool { return strings.Contains(d.device("heron-1").Says, "STOP") })

	why := d.ok("why", "heron-1")
	require.Contains(t, why, "STOP: heron-1 shows another device key")
	require.Contains(t, why, old)
	require.Contains(t, why, "earlybench rack set heron-1 --device-key")
	require.NotEqual(t, "open", d.device("heron-1").Gates["linked"])
	r := d.run("prep", "heron-1", "--unattended")
	require.Equal(t, 6, r.code)
	require.Contains(t, r.err, "Stop.")
	r = d.run("run", "demo/apps/callout", "heron-1")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, "STOP")

	shown := ""
	for line := range strings.Lines(d.ok("standin")) {
		if f := strings.Fields(line); f[0] == "heron-1" {
			shown = f[len(f)-1]
		}
	}
	require.NotEqual(t, old, shown)
	d.ok("rack", "set", "heron-1", "--device-key", shown)
	d.eventually("it is a visitor again", func() bool {
		return strings.Contains(d.device("heron-1").Says, "has not let moor-desk in")
	})
}

func TestAnAdmissionThatHasEndedShutsTheGateAtOnceAndEverywhere(t *testing.T) {
	d := startDemo(t)
	d.openMode("heron-2")
	d.installDriver()
	require.Equal(t, "done", d.asks("For 30 days").State)
	d.eventually("heron-2 is linked", func() bool { return d.device("heron-2").Gates["linked"] == "open" })
	require.Regexp(t, `admitted +ends in 30 days`, d.ok("rack", "show", "heron-2"))

	d.ok("standin", "clock", "--by", "721h")
	d.waits("heron-2", "admitted", "shut")
	d.eventually("it says that it is locked: before that nobody sees its question", func() bool { return strings.Contains(d.ok("rack"), "blocked: Unlock heron-2") })
	require.Contains(t, d.ok("why", "heron-2"), "The admission of moor-desk on heron-2 has ended.")
	r := d.run("run", "demo/apps/callout", "heron-2", "--unattended")
	require.Equal(t, 3, r.code, r.err)
	require.Contains(t, r.err, "The admission of moor-desk on heron-2 has ended.")

	d.ok("standin", "press", "heron-2", "power")
	d.touch("heron-2", "Unlock")
	d.ok("standin", "type", "heron-2", d.onCard("heron-2", "PIN"))
	d.touch("heron-2", "Done")
	require.Equal(t, "done", d.asks("Until withdrawn").State)
	d.waits("heron-2", "linked", "open")
	require.NotRegexp(t, `admitted +ends`, d.ok("rack", "show", "heron-2"))
}

func TestADeviceOnWhichTheComputerIsSentAwayIsShutAtOnce(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	d.touch("heron-1", "Settings", "Care", "Inside label", "Batch", "Computers let in", "moor-desk", "Yes")
	d.waits("heron-1", "admitted", "shut")
	require.Contains(t, d.ok("why", "heron-1"), "heron-1 has not let moor-desk in.")
}

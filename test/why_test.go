package test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// whyOf asks why, as JSON.
func whyOf(t *testing.T, d *demo, args ...string) client.Why {
	t.Helper()
	var w client.Why
	require.NoError(t, json.Unmarshal([]byte(d.ok(append([]string{"why", "--json"}, args...)...)), &w))
	return w
}

func TestWhyNamesCausesAndTheOneThingToDoByCommands(t *testing.T) {
	d := startDemo(t)
	d.eventually("its descriptors are read", func() bool { return whyOf(t, d, "heron-2").State == "shut" })
	w := whyOf(t, d, "heron-2")
	require.Equal(t, "shut", w.State)
	require.NotEmpty(t, w.Evidence)
	var sum float64
	for _, c := range w.Causes {
		require.NotEmpty(t, c.Text)
		require.NotContains(t, c.Text, "{")
		sum += c.Probability
	}
	require.InDelta(t, 1, sum, 1e-9)
	require.Equal(t, "way-hidden", w.Causes[0].ID, "it is brand new")
	require.Equal(t, "remedy", w.Next.Kind)
	require.Contains(t, w.Next.Text, "Tap **Batch** six times")
	require.Equal(t, "find", w.Next.Step.ID)

	w = whyOf(t, d, "heron-2", "--tried-remedy", "way-hidden")
	require.Less(t, w.Causes[0].Probability, 0.9, "it did not help")
	require.Equal(t, "choice-off", w.Next.ID, "then the next best is done")
	w = whyOf(t, d, "heron-2", "--answer", "back-room=yes")
	require.Equal(t, "choice-off", w.Causes[0].ID)
	require.Equal(t, "remedy", w.Next.Kind)
	require.Equal(t, "allow", w.Next.Step.ID)
	w = whyOf(t, d, "heron-2", "--take-back", "back-room")
	require.Empty(t, w.Answers)
	w = whyOf(t, d, "heron-2", "--tried-remedy", "choice-off")
	require.NotEqual(t, "choice-off", w.Causes[0].ID, "what did not help is less probable")

	for _, bad := range [][]string{{"--answer", "back-room"}, {}, {"--forget", "tarn"}} {
		require.Equal(t, 2, d.run(append([]string{"why"}, bad...)...).code, bad)
	}
	wrong := d.run("why", "heron-2", "--answer", "back-room=maybe")
	require.Equal(t, 1, wrong.code)
	require.Contains(t, wrong.err, "there are yes, no")
	ask := d.run("why", "heron-2", "--ask")
	require.Equal(t, 6, ask.code)
	require.Contains(t, ask.err, "--answer")
}

func TestAReportHoldsNoSecretAndFactsTellWhoSaidThem(t *testing.T) {
	d := startDemo(t)
	d.eventually("it is seen", func() bool { return whyOf(t, d, "heron-2").Gate == "mode" })
	d.ok("rack", "set", "heron-2", "--fact", "device.locked=no")
	report := d.ok("why", "heron-2", "--report")
	require.Contains(t, report, "First gate that is not open: mode")
	require.Contains(t, report, "device.locked = no (told")
	require.NotContains(t, report, "HH4 0077", "not its serial")
	require.NotContains(t, report, "SHA256:")
	require.Contains(t, d.ok("why", "heron-2"), "Who holds it on its host: none")
	facts := d.ok("rack", "show", "heron-2", "--facts")
	require.Regexp(t, `device\.locked +no +confirmed by \w+`, facts)
	require.Regexp(t, `usb\.link +no +bus`, facts)
	require.Contains(t, d.ok("rack", "show", "heron-2", "--history"), "usb.present")
	d.ok("rack", "set", "heron-1", "--fact", "device.language=de")
	d.eventually("the device tells its language", func() bool {
		return strings.Contains(d.ok("rack", "show", "heron-1", "--facts"), "What is observed counts.")
	})
	require.Regexp(t, `Language of its screens: de, confirmed by \w+ at [0-9:]+; but language of its screens: en, observed, device`, d.ok("rack", "show", "heron-1", "--facts"))
	require.NoError(t, d.api.Tell(context.Background(), "heron-2", "allow"))
	require.Contains(t, d.run("--unattended", "prep", "heron-2", "--confirm", "find", "--confirm", "tap").out, "the bench sees that it is not")
	bad := d.run("rack", "set", "heron-2", "--fact", "usb.link=yes")
	require.Equal(t, 1, bad.code)
	require.Contains(t, bad.err, "people can state")
}

func TestWhyIsAskedInTheConsoleByOneClickAndLearned(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.presses("Go on")
	b.sees("What it may be")
	b.presses("Done, and it did not help")
	b.sees("Tried, did not help.")
	d.ok("why", "heron-2", "--answer", "back-room=yes")
	b.sees("Is the row Batch on the page Inside label a link? Yes, it leads to the Back room")
	b.presses("Take back")
	d.eventually("it is taken back", func() bool { return len(whyOf(t, d, "heron-2").Answers) == 0 })
	d.prepared()
	d.eventually("it is learned", func() bool { return strings.Contains(d.ok("why", "--learned"), "tarn") })
	require.Contains(t, d.run("why", "--learned", "--forget", "all").err, "Forgotten")
	require.Contains(t, d.ok("why", "--learned"), "Nothing was learned yet")
}

func TestADeviceThatDoesNotShowUpIsAskedAfterInTheConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.presses("Find out why it does not show up")
	b.sees("does not show up. What do you see?")
	b.presses("It charges")
	b.sees("The cable only charges.")
	require.Equal(t, "cable-charges-only", whyOf(t, d, "--unseen").Causes[0].ID)
}

func TestOneIsLedThroughTheChecksAtATerminal(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	y := d.atTerminal(ctx, "why --unseen --ask")
	y.says(d, "Does the device show that it is charging?")
	y.types("7\n")
	y.says(d, `There is no "7" here.`)
	y.types("1\n")
	y.says(d, "Does that virtual machine list the device")
	y.types("2\n")
	y.says(d, "b takes the last answer back")
	y.types("b\n")
	d.eventually("the answer is taken back", func() bool {
		w := whyOf(t, d, "--unseen")
		return len(w.Answers) == 1 && w.Answers[0].Check == "charging"
	})
	y.types("q\n")
	require.Zero(t, y.wait().code)
}

func TestAComputerWithoutTheKitIsAnAnswer(t *testing.T) {
	d := startDemo(t)
	dir := t.TempDir()
	project := "id: fellgate/pulse\nname: Pulse\nversion: \"1\"\nfamilies: [tarn]\nminimum: \"9\"\nbuild: {command: [slate-compiler, build]}\nfiles: [a]\nentry: a\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(project), 0o600))
	_, err := d.api.AddProject(context.Background(), dir)
	require.NoError(t, err)
	d.eventually("heron-1 is linked", func() bool { return d.device("heron-1").Gates["linked"] == "open" })
	w := whyOf(t, d, "heron-1", "--app", "fellgate/pulse")
	require.Equal(t, "kit", w.Gate)
	require.Equal(t, "program-missing", w.Causes[0].ID)
	require.Greater(t, w.Causes[0].Probability, 0.99)
	require.Contains(t, d.ok("rack", "--app", "fellgate/pulse"), "Install the program that the build command of the app names")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-1")
	b.chooses("fellgate/pulse")
	b.sees("Install the program that the build command of the app names")
}

func TestWhatJustHappenedIsUsedAsEvidence(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")

	d.ok("standin", "fault", "add", "heron-1", "storage-full")
	require.Equal(t, 3, d.run("try", "demo/apps/callout", "heron-1").code)
	why := d.ok("why", "heron-1", "--app", "fellgate/callout")
	require.Regexp(t, `100 % +There is no room for the app on the device`, why)
	require.NotContains(t, why, "lost while")
	require.NotContains(t, why, "No set names its ids", "a set that is bound is no missing one")
	d.ok("standin", "fault", "drop", "heron-1", "storage-full")

	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	try := d.command(ctx, "try", largeProject(t, 60<<20), "heron-1")
	d.eventually("it copies", func() bool {
		jobs, err := d.api.Jobs(ctx)
		return err == nil && len(jobs) > 0 && phase(jobs[0], "copy").Done > 0
	})
	d.ok("standin", "pull", "heron-1")
	d.eventually("it has gone", func() bool { return d.device("heron-1").First == "seen" })
	why = d.ok("why", "heron-1", "--app", "fellgate/callout")
	require.Regexp(t, `[5-7][0-9] % +It is not plugged in`, why)
	require.Regexp(t, `[5-9] % +The cable only charges`, why, "it carried data a moment ago")
	require.Contains(t, why, "Left the bus")
	require.Equal(t, 7, try.wait().code)
}

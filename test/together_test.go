package test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// TestTwoPeopleAtOneDeviceSeeWhatTheOtherDoes has one at the console, one at the
// terminal and one at a second browser: each sees what the others do.
func TestTwoPeopleAtOneDeviceSeeWhatTheOtherDoes(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	first, second := openBrowser(t, 1280, 800), openBrowser(t, 1280, 800)
	both := func(text string) {
		t.Helper()
		first.sees(text)
		second.sees(text)
	}
	for _, b := range []*browser{first, second} {
		b.goes(strings.TrimSpace(d.ok("console")))
		b.sees("heron-2")
		b.goes(d.console() + "/devices/heron-2")
		b.sees("Go to the page Inside label")
	}

	// What one says is there for all; a step that was passed is not passed twice.
	first.presses("I have done that")
	both("Tap Batch six times")
	require.Contains(t, d.run("prep", "heron-2", "--wait", "10ms").out, "▸ Tap Batch six times")
	again := d.run("prep", "heron-2", "--confirm", "find", "--wait", "10ms")
	require.NotContains(t, again.err, "internal")
	both("Tap Batch six times")
	d.openMode("heron-2")
	both("Install halden-link 4.1 on loft")
	d.installDriver()
	both("Say yes to moor-desk")

	// One question for both: who comes second waits for the same answer.
	first.presses("Show the request on heron-2")
	both("It is asking now")
	prep := d.command(ctx, "prep", "heron-2")
	d.eventually("the terminal says that it is already asking", func() bool { return strings.Contains(prep.out.String()+prep.err.String(), "is already asking") })
	d.touch("heron-2", "Until withdrawn")
	r := prep.wait()
	require.Zero(t, r.code, r.out+r.err)
	both("Try an app on it")

	// One works at a time, and the others are told who and with what.
	try := d.command(ctx, "try", "demo/apps/callout", "heron-2")
	both("Try fellgate/callout on heron-2")
	refused := d.run("try", "demo/apps/callout", "heron-2")
	require.Equal(t, 3, refused.code, refused.err)
	require.Contains(t, refused.err, "Try fellgate/callout")
	require.Zero(t, try.wait().code)
	both("Passed: fellgate/callout 2.3")

	// What one begins is not led elsewhere by the other.
	d.ok("retire", "heron-2", "--yes")
	both("heron-2 is being retired")
	require.Equal(t, 3, d.run("prep", "heron-2").code)
	d.eventually("the admission is withdrawn", func() bool {
		r, err := d.api.Retirement(ctx, "heron-2")
		require.NoError(t, err)
		return slices.ContainsFunc(r.Items, func(i client.RetireItem) bool { return i.Step.ID == "withdraw" && !i.At.IsZero() })
	})
	second.presses("Call it off")
	d.eventually("it is called off", func() bool { return !d.device("heron-2").Retiring })
	first.sees("Say yes to moor-desk")
	time.Sleep(100 * time.Millisecond)
	require.NotContains(t, first.log.String()+second.log.String(), "exception")
}

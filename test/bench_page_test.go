package test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

func TestTheBenchsPageRepeatsAJobAndSignsOut(t *testing.T) {
	d := startDemo(t)
	d.ok("try", "demo/apps/callout", "heron-1")
	first := openBrowser(t, 1280, 800)
	first.goes(strings.TrimSpace(d.ok("console")))
	first.sees("heron-1")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-1")
	b.goes(d.console() + "/bench")
	b.sees("Nothing is running.")
	b.presses("Repeat")
	b.sees("Try fellgate/callout on heron-1 is running.")
	b.sees("Nothing is running.")
	b.sees("repeat-job")
	jobs, err := d.api.Jobs(t.Context())
	require.NoError(t, err)
	require.Len(t, jobs, 2)
	require.Equal(t, "done", jobs[0].State)

	all, err := d.api.Sessions(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	get(b, "sign the other one out", chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("section[aria-label='Signed in'] li")].find((li) => !li.innerText.includes("this one")).querySelector("button").click()`))
	d.eventually("it is signed out", func() bool { left, err := d.api.Sessions(t.Context()); return err == nil && len(left) == 1 })
	first.goes(d.console() + "/bench")
	first.sees("does not know this browser yet")
	b.presses("Sign out")
	b.sees("does not know this browser yet")
}

func TestAFactIsStatedOnTheDevicesPage(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.goes(d.console() + "/devices/heron-2")
	b.sees("Facts and their history")
	get(b, "unfold the facts", chromedp.Evaluate[chromedp.Void](`document.querySelector("details").open = true`))
	b.sees("State what you know")
	b.presses("State it")
	b.sees("Saved, with your name.")
	b.sees("confirmed by ")
	require.Contains(t, d.ok("rack", "show", "heron-2", "--facts", "--where", `fact.source == "person"`), "confirmed by ")
}

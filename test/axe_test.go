package test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// scheme sets which theme the system asks for.
func (b *browser) scheme(value string) {
	b.t.Helper()
	get(b, value, func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: value}}})
		return chromedp.Void{}, err
	})
}

func TestAxeFindsNothingOnAnyPageInEitherTheme(t *testing.T) {
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Skip("axe-core is not installed: make build installs it")
	}
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	check := func(page string) {
		t.Helper()
		for _, scheme := range []string{"light", "dark"} {
			b.scheme(scheme)
			get(b, "bring axe", chromedp.Evaluate[chromedp.Void](string(axe)+";undefined"))
			found := get(b, "run axe", chromedp.Evaluate[string](`axe.run({exclude: [["iframe"]]}, {resultTypes: ["violations"]}).then((r) =>
				r.violations.map((v) => v.id + ": " + v.nodes.map((n) => n.html + " " + n.failureSummary).join("\n  ")).join("\n"))`, chromedp.EvalAwaitPromise))
			require.Empty(t, found, "%s, %s", page, scheme)
		}
	}
	url := strings.TrimSpace(d.ok("console"))
	b.goes(d.console())
	b.sees("does not know this browser yet")
	check("sign-in")
	get(b, "open the address in the same tab", chromedp.Evaluate[chromedp.Void](fmt.Sprintf("window.location.href = %q", url)))
	b.sees("heron-2 waits for you")
	check("rack")
	b.goes(d.console() + "/devices/heron-2")
	b.sees("Why mode is not open")
	check("device")
	b.goes(d.console() + "/devices/heron-1")
	b.sees("Try an app on it")
	get(b, "unfold the facts", chromedp.Evaluate[chromedp.Void](`document.querySelector("details").open = true`))
	b.sees("What was known before")
	b.presses("Show it here")
	b.presses("Retire heron-1")
	b.sees("Take the apps off")
	check("a device with its log, its screen, and what retiring it would do")
	b.goes(d.console() + "/round")
	b.sees("By itself")
	check("round")
	b.goes(d.console() + "/bench")
	b.sees("offer-sign-in")
	check("the bench")
	b.presses("Rename this bench")
	b.confirms(d)
	for _, form := range []string{"Name an app's directory", "Add a sheet", "Show and make access keys"} {
		b.presses(form)
	}
	b.sees("Name of the key")
	check("the bench with the owner's forms")
	b.goes(d.console() + "/keys")
	b.sees("Allowed without asking")
	b.presses("Sign in at fell-authority")
	b.sees("Type this code there")
	check("keys")
	b.goes(d.console() + "/computer")
	b.sees("Early Bench device link 1")
	for _, form := range []string{"Watch another host", "Add a driver set's file"} {
		b.presses(form)
	}
	b.sees("Its host protocol")
	check("the computer with the owner's forms")
	get(b, "hold it like a phone", chromedp.EmulateViewport(390, 844))
	require.LessOrEqual(t, get(b, "measure", chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390, "the computer on a phone")
	get(b, "back", chromedp.EmulateViewport(1280, 800))
	b.goes(d.console() + "/phone/heron-2")
	b.sees("The plan")
	check("a device on a phone")
	d.ok("why", "--unseen", "--answer", "charging=yes")
	b.goes(d.console() + "/unseen")
	b.sees("What was answered")
	check("a device that does not show up")
}

func TestThePagesFitAPhone(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 390, 844)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	for _, page := range []string{"/", "/round", "/devices/heron-2", "/phone/heron-2"} {
		b.goes(d.console() + page)
		b.sees("heron-2")
		b.sees("ow") // Find the row, find the row
		wide := get(b, "measure", chromedp.Evaluate[int](`document.documentElement.scrollWidth`))
		require.LessOrEqual(t, wide, 390, page)
	}
	b.goes(d.console() + "/bench")
	b.sees("offer-sign-in")
	require.LessOrEqual(t, get(b, "measure", chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390)
	b.goes(d.console() + "/computer")
	b.sees("Early Bench device link 1")
	b.sees("free for the bench's records")
	require.LessOrEqual(t, get(b, "measure", chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390)
	b.goes(d.console() + "/unseen")
	b.sees("What it may be")
	require.LessOrEqual(t, get(b, "measure", chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390)
}

const focused = `(document.activeElement.getAttribute("aria-label") || document.activeElement.innerText || "").replace(/\s+/g, " ")`

// tabsTo presses Tab until what has the focus says a text.
func (b *browser) tabsTo(text string) {
	b.t.Helper()
	for range 80 {
		get(b, "Tab", chromedp.KeyEvent(kb.Tab))
		at := get(b, "look where the focus is", chromedp.Evaluate[string](focused))
		if strings.HasPrefix(at, text) {
			return
		}
	}
	require.Fail(b.t, "the focus never comes to "+text)
}

func TestTheConsoleIsUsedByKeyboardAlone(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.tabsTo("Bench")
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("Who did what")
	b.tabsTo("Rack")
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("Find the row")
	b.tabsTo("heron-1")
	get(b, "to the next row", chromedp.KeyEvent(kb.ArrowDown))
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("Why mode is not open")
	b.tabsTo("I have done that")
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("six times")
	b.tabsTo("Facts and their history")
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("State what you know")
	b.tabsTo("State it")
	get(b, "Space", chromedp.KeyEvent(" "))
	b.sees("Saved, with your name.")
}

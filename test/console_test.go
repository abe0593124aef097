package test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

func TestTheKeyOfAWipedDeviceIsPinnedInTheConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-1")
	b.goes(d.console() + "/devices/heron-1")
	old := d.device("heron-1").Key
	d.touch("heron-1", "Settings", "Care", "Start over", "Start over")
	d.openMode("heron-1")
	b.sees("It shows")
	b.sees("If it was not, unplug it: something else answers in its place.")
	b.sees(old)
	b.presses("heron-1 was wiped: pin the key that it shows")
	b.presses("Show the request on heron-1")
	require.NotEqual(t, old, d.device("heron-1").Key)
}

// The button that was pressed goes away, and what comes in its place is read from there on.
func TestTheFocusStaysInTheStepWhenItsButtonGoes(t *testing.T) {
	d := startDemo(t)
	d.openMode("heron-2")
	d.installDriver()
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.goes(d.console() + "/devices/heron-2")
	b.sees("Show the request on heron-2")
	b.tabsTo("Show the request on heron-2")
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("It is asking now")
	b.sees("within 1:5") // of two minutes
	inStep := `document.activeElement !== document.body && !!document.activeElement.closest("[aria-label=Step]")`
	require.True(t, await[bool](b, "look where the focus is", inStep))
}

func TestTheConsoleExplainsItsGates(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	get(b, "open the legend", chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("summary")].find((s) => s.innerText === "What the gates mean").click()`))
	for line := range strings.Lines(d.ok("help", "gates")) {
		gate, text, ok := strings.Cut(strings.TrimSpace(line), "  ")
		if ok && gate == "admitted" {
			b.sees(strings.TrimSpace(text))
		}
	}
	b.goes(d.console() + "/devices/heron-2")
	b.sees("Why mode is not open")
	title := get(b, "read a gate's title", chromedp.Evaluate[string](`[...document.querySelectorAll("[aria-label=Gates] li")].find((e) => e.innerText.startsWith("mode")).title`))
	require.Regexp(t, `^mode: shut\. \w+`, title)
}

func TestAWatchIsPutOnTheRackInTheConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("on the rack") // the button, with the models
	b.sees("heron-2")
	get(b, "choose the model", chromedp.Evaluate[chromedp.Void](`(() => {
		const s = [...document.querySelectorAll("label")].find((l) => l.innerText.includes("Model")).querySelector("select");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "Kittiwake");
		s.dispatchEvent(new Event("change", {bubbles: true}));
	})()`))
	b.presses("Put a Kittiwake on the rack")
	b.sees("kittiwake-1 is on the rack.")
	b.sees("Wick & Daughters Kittiwake")
}

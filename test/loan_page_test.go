package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// A device of another bench is borrowed, tried and given back on pages alone; its lender's page shows who has it.
func TestADeviceOfAnotherBenchIsBorrowedByThePageAlone(t *testing.T) {
	d := startWith(t, t.TempDir())
	h := d.harbour()
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("At other benches")
	time.Sleep(time.Second) // the rows above settle
	b.presses("Borrow heron-9")
	b.sees("borrowed until")
	d.waits("heron-9", "linked", "open")
	b.goes(d.console() + "/devices/heron-9")
	b.sees("Borrowed from")
	b.presses("Try Callout")
	b.sees("Passed")

	// Whoever is near answers on a page that shows this and nothing else.
	d.ok("hands", "ask", "heron-9", "--title", "Lay it on its back", "--text", "For a picture of its front.")
	b.sees("Somebody at harbour-desk was asked: Lay it on its back. For a picture of its front. Nobody has opened it yet.")
	var all client.List[client.Hands]
	h.json(&all, "hands")
	page := h.command(context.Background(), "hands", "page", all.Items[0].ID, "--address", "127.0.0.1")
	var address string
	h.eventually("the page is served", func() bool {
		address = regexp.MustCompile(`https://\S+`).FindString(page.out.String())
		return address != ""
	})
	near := openBrowserWith(t, 390, 844, chromedp.Flag("ignore-certificate-errors", true))
	near.goes(address)
	near.sees("moor-desk has borrowed heron-9, and asks for your hands:")
	b.sees("Somebody near has opened it.")
	require.Equal(t, "403 403 403", get(near, "ask for more", chromedp.Evaluate[string](`Promise.all(["/devices", "/hands", "/events"].map((p) => fetch("/api/v1" + p).then((r) => r.status))).then((a) => a.join(" "))`, chromedp.EvalAwaitPromise)))
	near.presses("It is done")
	near.sees("Done, says whoever is near.")
	b.sees("Done, says whoever is near.")
	require.NoError(t, page.cmd.Process.Signal(os.Interrupt))
	require.Zero(t, page.wait().code)
	require.Contains(t, h.ok("audit"), "answer-hands")

	lender := openBrowser(t, 1280, 800)
	lender.goes(strings.TrimSpace(h.ok("console")))
	lender.sees("whimbrel-9")
	lender.goes(h.console() + "/devices/heron-9")
	lender.sees("Lent to")
	lender.presses("Take it back in 5 minutes")
	lender.sees("Its lender recalled it")
	b.sees("Its lender recalled it")
	b.presses("Give it back")
	h.eventually("it is clean", func() bool { return strings.Contains(h.ok("loan"), "It was returned") })
	b.goes(d.console())
	b.sees("Borrow heron-9")
	require.NotContains(t, h.ok("rack", "show", "heron-9"), "callout")
}

// Somebody without a bench sees the devices that were chosen for them, and is cut off at the end.
func TestAPersonWithoutABenchSeesAScreenOnAPage(t *testing.T) {
	d := startDemo(t)
	refused := d.run("console", "--person", "wren", "--for", "1h", "--address", "127.0.0.1")
	require.Equal(t, 2, refused.code)
	require.Contains(t, refused.err, "Name the devices that wren may see")
	printed := d.ok("console", "--person", "wren", "heron-1", "--for", "1h", "--may", "use", "--address", "127.0.0.1")
	require.Contains(t, printed, "The page of wren, who may look at and touch heron-1, once:")
	b := openBrowserWith(t, 1280, 800, chromedp.Flag("ignore-certificate-errors", true))
	b.goes(regexp.MustCompile(`https://\S+`).FindString(printed))
	b.sees("Devices of moor-desk")
	b.sees("You may touch their screens, until")
	d.eventually("the screen is shown", func() bool {
		return get(b, "look at the screen", chromedp.Evaluate[int](`document.querySelectorAll("canvas").length`)) == 1
	})
	require.Equal(t, "200 403 403", get(b, "ask for more", chromedp.Evaluate[string](`Promise.all(["/devices/heron-1", "/devices/heron-2", "/round"].map((p) => fetch("/api/v1" + p).then((r) => r.status))).then((a) => a.join(" "))`, chromedp.EvalAwaitPromise)))
	require.Regexp(t, `wren +use .*a person's page of heron-1 at https://127\.0\.0\.1:\d+`, d.ok("access"))
	require.Contains(t, d.ok("endings"), "wren")

	d.ok("access", "drop", "wren")
	b.sees("The screen is gone")
	require.NotContains(t, d.ok("access"), "wren")
}

// Somebody who has devices and no bench names them on a page of their own.
func TestDevicesForAHandoverAreNamedOnAPage(t *testing.T) {
	d := startDemo(t)
	file := filepath.Join(t.TempDir(), "callout.ebrequest")
	page := d.command(context.Background(), "handover", "request", "fellgate/callout", file, "--page", "--address", "127.0.0.1")
	var address string
	d.eventually("the page is served", func() bool {
		address = regexp.MustCompile(`https://\S+`).FindString(page.out.String())
		return address != ""
	})
	b := openBrowserWith(t, 390, 844, chromedp.Flag("ignore-certificate-errors", true))
	b.goes(address)
	b.sees("wants to give you fellgate/callout for your devices")
	name := func(serial, model string) {
		for label, text := range map[string]string{"Serial": serial, "Model": model} {
			get(b, "type "+label, chromedp.SendKeys(fmt.Sprintf(`//label[contains(., %q)]/input`, label), text))
		}
		b.presses("Add this device")
	}
	name("K 2 10063", "K2")
	b.sees("K 2 10063, K2")
	name("never\\a serial", "K2")
	b.sees("serial")
	require.Equal(t, "403 403", get(b, "ask for more", chromedp.Evaluate[string](`Promise.all(["/devices", "/events"].map((p) => fetch("/api/v1" + p).then((r) => r.status))).then((a) => a.join(" "))`, chromedp.EvalAwaitPromise)))
	d.eventually("the file has it", func() bool {
		raw, err := os.ReadFile(file)
		return err == nil && strings.Contains(string(raw), "K 2 10063")
	})
	require.NoError(t, page.cmd.Process.Signal(os.Interrupt))
	require.Zero(t, page.wait().code)
	require.Contains(t, page.err.String(), "Named: K 2 10063, K2")
}

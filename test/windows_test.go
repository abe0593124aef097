package test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// another opens one more window of the same browser.
func (b *browser) another() *browser {
	b.t.Helper()
	ctx, cancel := chromedp.NewContext(b.ctx)
	b.t.Cleanup(cancel)
	require.NoError(b.t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return &browser{t: b.t, ctx: ctx, log: b.log}
}

// A browser keeps only six connections of HTTP/1.1 to one address, for all of its
// windows together: streams must not use them up.
func TestManyWindowsOfOneBrowserAllStayCurrent(t *testing.T) {
	d := startDemo(t)
	first := openBrowser(t, 1280, 800)
	first.goes(strings.TrimSpace(d.ok("console")))
	first.sees("heron-1")
	windows := []*browser{first}
	for range 4 {
		windows = append(windows, first.another())
	}
	says := func(w *browser, text string) { // one behind the others draws nothing, so it is asked
		t.Helper()
		d.eventually("a window says "+text, func() bool {
			return strings.Contains(get(w, "read", chromedp.Evaluate[string](`document.body.innerText`)), text)
		})
	}
	for _, w := range windows {
		w.goes(d.at.Service + "/devices/heron-1")
		says(w, "Nothing was said yet") // it follows the log of a linked device, too
	}
	d.ok("standin", "pull", "heron-1")
	for _, w := range windows {
		says(w, "Plug heron-1 in")
	}
}

package test

import (
	"strings"
	"testing"
	"time"

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
		w.goes(d.console() + "/devices/heron-1")
		says(w, "Nothing was logged yet") // it follows the log of a linked device, too
	}
	d.ok("standin", "pull", "heron-1")
	for _, w := range windows {
		says(w, "Plug heron-1 in")
	}
}

// The page of a device that was left stays with the browser for the way back, and would
// hold a connection.
func TestManyDevicesAreTakenInHandOneAfterTheOther(t *testing.T) {
	d := startDemoIn(t, t.TempDir())
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("kestle-1")
	begun := time.Now()
	for _, handle := range []string{"heron-1", "heron-2", "ivory-1", "ivory-2", "ivory-3", "kestle-1", "kestle-2", "whimbrel-1", "dunlin-1"} {
		b.goes(d.console() + "/devices/" + handle)
		n := newcomer{d: d, b: b, handle: handle}
		d.eventually(handle+"'s screen is shown", func() bool {
			g, err := n.glass()
			return err == nil && len(g.Things) > 1 && !strings.HasPrefix(g.Says, "The screen of")
		})
	}
	require.Less(t, time.Since(begun), 20*time.Second)
}

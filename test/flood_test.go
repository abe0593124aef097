package test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// TestManyFactsAreMergedOnTheWayAndNoneIsLost tells many devices many facts at
// once: there are fewer events than facts, and still whoever looks when an event
// comes, and the page, end with what was told last.
func TestManyFactsAreMergedOnTheWayAndNoneIsLost(t *testing.T) {
	const devices, each = 80, 30
	d := startDemo(t)
	handles := make([]string, devices)
	for i := range handles {
		handles[i] = fmt.Sprintf("watch-%d", i)
		_, err := d.api.AddDevice(t.Context(), client.NewDevice{Model: "Kittiwake", Handle: handles[i]})
		require.NoError(t, err)
	}
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("watch-0")
	rows := get(b, "count rows", chromedp.Evaluate[int](`document.querySelectorAll("[role=row]").length`))
	require.Less(t, rows, devices, "a long rack draws only what is seen")

	now, err := d.api.Bench(t.Context())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var mu sync.Mutex
	events, seen := 0, map[string]string{}
	dirty := make(chan string, devices*each*4)
	go d.api.Events(ctx, now.Sequence, func(e client.Event) {
		if strings.HasPrefix(e.Subject, "watch-") && e.Type == "device.changed" {
			mu.Lock()
			events++
			mu.Unlock()
			dirty <- e.Subject
		}
	})
	go func() {
		for handle := range dirty {
			plan, err := d.api.Prep(ctx, handle, "")
			if err != nil {
				return
			}
			mu.Lock()
			seen[handle] = plan.Device.Gates["mode"]
			mu.Unlock()
		}
	}()
	var telling sync.WaitGroup
	for at := range 8 {
		telling.Go(func() {
			for i := at; i < devices; i += 8 {
				for n := range each {
					// The last that is told of every other device is yes.
					if err := d.api.TellFact(ctx, handles[i], "mode.loose", []string{"yes", "no"}[(n+i+each)%2]); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	telling.Wait()
	want := map[string]string{}
	for i, h := range handles {
		want[h] = []string{"open", "shut"}[(each-1+i+each)%2]
	}
	d.eventually("every event's reader ends with what was told last", func() bool {
		mu.Lock()
		defer mu.Unlock()
		for h, state := range want {
			if seen[h] != state {
				return false
			}
		}
		return true
	})
	mu.Lock()
	require.Less(t, events, devices*each, "events that come together are one")
	t.Logf("%d facts, %d events", devices*each, events)
	mu.Unlock()
	for _, h := range []string{"watch-0", "watch-1", "watch-10", "watch-11"} {
		await[bool](b, h+" on the page", fmt.Sprintf(`[...document.querySelectorAll("[role=row]")].some((r) => r.querySelector("a")?.textContent === %q &&
			[...r.querySelectorAll("[aria-label]")].some((c) => c.getAttribute("aria-label").includes(", mode: %s")))`, h, want[h]))
	}
	get(b, "to the last by keyboard", chromedp.Evaluate[chromedp.Void](`document.querySelector('[data-at="0/0"]').focus()`))
	for range 70 {
		get(b, "down", chromedp.KeyEvent(kb.ArrowDown))
	}
	await[bool](b, "a row far below has the focus", `document.activeElement?.dataset.at === "70/0"`)
}

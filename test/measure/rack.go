package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"sync"
	"time"

	"github.com/chromedp/chromedp"

	"earlybench.invalid/earlybench/client"
)

const (
	rackProbes = 10 // that flip slowly, so that each flip is seen
	rackFor    = 10 * time.Second
)

// size is how large a rack is, and how many facts a second are told of the devices
// that are no probes.
type size struct{ devices, rate int }

// watcher is what the page notes: when a probe's row changed, and how long
// frames took.
const watcher = `(() => {
	window.seen = {}; window.frames = [];
	const grid = document.querySelector("[role=grid]");
	new MutationObserver((all) => {
		const now = Date.now();
		for (const m of all) {
			const row = m.target.closest?.("[role=row]") ?? m.target.parentElement?.closest("[role=row]");
			const handle = row?.querySelector("a")?.textContent;
			if (handle?.startsWith("probe")) (window.seen[handle] ??= []).push(now);
		}
	}).observe(grid, {subtree: true, childList: true, characterData: true, attributes: true, attributeFilter: ["aria-label"]});
	let last = performance.now();
	const frame = (t) => { window.frames.push(t - last); last = t; requestAnimationFrame(frame); };
	requestAnimationFrame(frame);
	return true })()`

// bigRack measures, with many devices and facts, how long an event takes to the
// page, and how long the page's frames take.
func bigRack() error { return measureRack(size{200, 1000}) }

// biggerRack is the goal of later versions.
func biggerRack() error { return measureRack(size{1000, 3000}) }

func measureRack(of size) error {
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		return fmt.Errorf("measure the rack: %w", err)
	}
	var delays, worst []float64
	for range runs {
		p99, frame, err := oneBigRack(chromium, of)
		if err != nil {
			return err
		}
		delays, worst = append(delays, p99), append(worst, frame)
	}
	row(fmt.Sprintf("event to page, p99, %d devices, %d facts a second", of.devices, of.rate), "100 ms", "ms", "%.0f", delays)
	row("longest frame of that page", "100 ms", "ms", "%.0f", worst)
	return nil
}

func oneBigRack(chromium string, of size) (p99, longest float64, err error) {
	dir, remove, err := temp()
	if err != nil {
		return 0, 0, err
	}
	defer remove()
	b, _, err := serve(dir)
	if err != nil {
		return 0, 0, err
	}
	defer b.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	for i := range of.devices {
		handle := fmt.Sprintf("watch-%d", i)
		if i < rackProbes {
			handle = fmt.Sprintf("probe-%d", i)
		}
		if _, err := b.api.AddDevice(ctx, client.NewDevice{Model: "W2", Handle: handle}); err != nil {
			return 0, 0, err
		}
	}
	url, err := b.api.SignInAddress(ctx)
	if err != nil {
		return 0, 0, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium), chromedp.NoSandbox, chromedp.WindowSize(1280, 800), chromedp.Flag("disable-gpu", true))
	alloc, end := chromedp.NewExecAllocator(ctx, opts...)
	defer end()
	page, end := chromedp.NewContext(alloc)
	defer end()
	if err := chromedp.Do(page, chromedp.Navigate(url)); err != nil {
		return 0, 0, err
	}
	if _, err := chromedp.Run(page, chromedp.Poll[bool](`document.body.innerText.includes("probe-0")`)); err != nil {
		return 0, 0, err
	}
	time.Sleep(time.Second)
	if _, err := chromedp.Run(page, chromedp.Evaluate[bool](watcher)); err != nil {
		return 0, 0, err
	}
	flips, err := load(ctx, b, of)
	if err != nil {
		return 0, 0, err
	}
	time.Sleep(500 * time.Millisecond)
	raw, err := chromedp.Run(page, chromedp.Evaluate[string](`JSON.stringify({seen: window.seen, frames: window.frames})`))
	if err != nil {
		return 0, 0, err
	}
	var noted struct {
		Seen   map[string][]int64
		Frames []float64
	}
	if err := json.Unmarshal([]byte(raw), &noted); err != nil {
		return 0, 0, err
	}
	var took []float64
	for _, f := range flips {
		i, _ := slices.BinarySearch(noted.Seen[f.handle], f.at)
		if i == len(noted.Seen[f.handle]) {
			return 0, 0, fmt.Errorf("a change of %s never came to the page", f.handle)
		}
		took = append(took, float64(noted.Seen[f.handle][i]-f.at))
	}
	slices.Sort(took)
	return took[len(took)*99/100], slices.Max(noted.Frames), nil
}

type flip struct {
	handle string
	at     int64 // when it was told, in milliseconds
}

// load tells facts: as many a second as it shall be of most devices, and slowly
// of the probes.
func load(ctx context.Context, b *bench, of size) ([]flip, error) {
	ctx, cancel := context.WithTimeout(ctx, rackFor)
	defer cancel()
	var work sync.WaitGroup
	const tellers = 24
	told := make([]int, tellers)
	for t := range tellers {
		work.Go(func() {
			every := time.NewTicker(time.Second * tellers / time.Duration(of.rate))
			defer every.Stop()
			for n := 0; ; n++ {
				select {
				case <-ctx.Done():
					return
				case <-every.C:
				}
				handle := fmt.Sprintf("watch-%d", rackProbes+(n*tellers+t)%(of.devices-rackProbes))
				if b.api.TellFact(ctx, handle, "air.network", []string{"same", "other", "hotspot"}[n%3]) == nil {
					told[t]++
				}
			}
		})
	}
	var flips []flip
	every := time.NewTicker(50 * time.Millisecond)
	defer every.Stop()
	var err error
	for n := 0; ctx.Err() == nil && err == nil; n++ {
		select {
		case <-ctx.Done():
			continue
		case <-every.C:
		}
		f := flip{fmt.Sprintf("probe-%d", n%rackProbes), time.Now().UnixMilli()}
		if err = b.api.TellFact(ctx, f.handle, "mode.loose", []string{"yes", "no"}[n/rackProbes%2]); err == nil {
			flips = append(flips, f)
		}
	}
	work.Wait()
	sum := 0
	for _, n := range told {
		sum += n
	}
	told10 := float64(sum) / rackFor.Seconds()
	if least := int(rackFor.Seconds() * float64(of.rate) * 0.9); sum < least {
		fmt.Printf("| facts told a second, of %d that were to be | %d | %.0f | | |\n", of.rate, of.rate, told10)
	}
	if ctx.Err() != nil {
		err = nil
	}
	return flips, err
}

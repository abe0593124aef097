package test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// browser is a headless Chromium with one page.
type browser struct {
	t   testing.TB
	ctx context.Context
	log *shared // what pages say on their consoles, errors among it

	inner   context.Context // attached to the device's frame
	innerID target.ID
}

// openBrowser starts Chromium's headless shell, which takes a quarter of the work of a whole
// Chromium; the test is skipped by name where it is missing.
func openBrowser(t testing.TB, width, height int) *browser {
	t.Helper()
	return openBrowserWith(t, width, height)
}

// openBrowserWith is openBrowser with more options.
func openBrowserWith(t testing.TB, width, height int, more ...chromedp.ExecAllocatorOption) *browser {
	t.Helper()
	return start(t, "chromium-headless-shell", width, height, append(more,
		chromedp.Flag("site-per-process", true))...) // so that the frame with a device has a target of its own
}

// openWindow starts a whole Chromium, whose windows nobody sees: the focus goes through frames
// of other sites there as it does for a person.
func openWindow(t testing.TB, width, height int) *browser {
	t.Helper()
	return start(t, "chromium", width, height)
}

func start(t testing.TB, program string, width, height int, more ...chromedp.ExecAllocatorOption) *browser {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(needs(t, program)), chromedp.NoSandbox, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-gpu", true), chromedp.Flag("lang", "en-GB"))
	opts = append(opts, more...)
	alloc, cancel := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(cancel)
	b := &browser{t: t, log: &shared{}}
	ctx, cancel := chromedp.NewContext(alloc, chromedp.WithListener(b.listen))
	t.Cleanup(cancel)
	b.ctx = ctx
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height))))
	return b
}

func (b *browser) listen(ev any) {
	switch ev := ev.(type) {
	case *runtime.EventConsoleAPICalled:
		for _, a := range ev.Args {
			fmt.Fprintf(b.log, "%s: %s\n", ev.Type, a.Value)
		}
	case *runtime.EventExceptionThrown:
		fmt.Fprintf(b.log, "exception: %s\n", ev.ExceptionDetails.Text)
	}
}

// get runs an action, with patience.
func get[T any](b *browser, what string, a chromedp.Action[T]) T {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	v, err := chromedp.Run(ctx, a)
	if err != nil {
		short, cancel := context.WithTimeout(b.ctx, 2*time.Second)
		defer cancel()
		text, _ := chromedp.Run(short, chromedp.Evaluate[string](`document.body.innerText`))
		require.NoError(b.t, err, "%s\nthe page says:\n%s\n%s", what, text, b.log)
	}
	return v
}

// await waits until an expression has a value that is true, and returns it. It looks 20 times a second:
// looking at each picture would have the page drawn all the time.
func await[T any](b *browser, what, expression string) T {
	b.t.Helper()
	return get(b, what, chromedp.Poll[T](expression, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(patience)))
}

// goes goes to an address.
func (b *browser) goes(url string) {
	b.t.Helper()
	get(b, "go to "+url, chromedp.Navigate(url))
}

// sees waits until the page says a text.
func (b *browser) sees(text string) {
	b.t.Helper()
	await[bool](b, "see "+text, fmt.Sprintf(`document.body.innerText.includes(%q)`, text))
}

// presses presses the button or link with a text, as a mouse does. A press that
// missed it, since the page moved meanwhile, is made again, as a person would.
func (b *browser) presses(text string) {
	b.t.Helper()
	for deadline := time.Now().Add(patience); !b.pressed(text); time.Sleep(100 * time.Millisecond) {
		if !time.Now().Before(deadline) {
			b.sees(text) // tells what the page says instead
			require.Fail(b.t, "it is never hit", text)
		}
	}
}

// pressed presses it once, if it is there, and reports whether it was hit.
func (b *browser) pressed(text string) bool {
	b.t.Helper()
	at := get(b, "find "+text, chromedp.Evaluate[struct {
		X, Y  float64
		Found bool
	}](fmt.Sprintf(`(() => {
		const e = [...document.querySelectorAll("button, a")].find((e) => (e.innerText.trim().includes(%[1]q) || e.ariaLabel?.startsWith(%[1]q)) && !e.disabled);
		if (!e) return {Found: false};
		if (!window.hit) document.addEventListener("click", (c) => { const hit = c.target.closest("button, a"); window.hit.push(hit ? hit.innerText + "\n" + hit.ariaLabel : ""); }, true);
		window.hit = [];
		e.scrollIntoView({block: "center"});
		const r = e.getBoundingClientRect();
		return {Found: true, X: r.x + r.width / 2, Y: r.y + r.height / 2} })()`, text)))
	if !at.Found {
		return false
	}
	get(b, "press "+text, chromedp.MouseClickXY(at.X, at.Y))
	// A page that was left for another keeps no list: the press was answered.
	return get(b, "look what was pressed", chromedp.Evaluate[bool](fmt.Sprintf(`!window.hit || window.hit.some((t) => t.includes(%q))`, text)))
}

// hands touches the device in the frame: what lies on its screen at the place
// of a text, with a mouse. A touch that the screen does not answer (a frame that
// was just laid out takes no mouse yet) is made again, as a person would.
func (b *browser) hands(text string) {
	b.t.Helper()
	deadline := time.Now().Add(patience)
	for {
		err := b.touches(text)
		if err == nil {
			return
		}
		require.True(b.t, time.Now().Before(deadline), "touch %q on the device: %v", text, err)
		time.Sleep(20 * time.Millisecond)
	}
}

// touches touches a text on the device's screen once, and waits until the screen answers.
func (b *browser) touches(text string) error {
	b.t.Helper()
	x, y, err := b.place(text)
	if err != nil {
		return err
	}
	before := b.picture()
	get(b, "touch "+text, chromedp.MouseClickXY(x, y))
	for range 50 {
		if b.picture() != before {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return errors.New("the screen does not answer")
}

// picture is the address of the picture that the device's frame shows: another
// after every change.
func (b *browser) picture() string {
	inner, err := b.frame()
	if err != nil {
		return ""
	}
	src, _ := chromedp.Run(inner, chromedp.Evaluate[string](`document.getElementById("screen").src`))
	return src
}

// place finds where in the window a text on the device's screen is.
func (b *browser) place(text string) (x, y float64, err error) {
	type point struct {
		X, Y  float64
		Found bool
		Moved bool
		Has   string
	}
	frame := await[point](b, "find the frame", `(() => { const f = document.querySelector("iframe"); if (!f) return null; const at = f.getBoundingClientRect(); if (at.top >= 0 && at.top + 600 <= innerHeight) return {X: at.x, Y: at.y, Moved: false}; const was = window.scrollY; window.scrollTo(0, 0); f.scrollIntoView({block: "nearest"}); const r = f.getBoundingClientRect(); return {X: r.x, Y: r.y, Moved: window.scrollY !== was} })()`)
	if frame.Moved { // a frame that was just scrolled takes the mouse at its old place for a moment
		time.Sleep(200 * time.Millisecond)
	}
	inner, err := b.frame()
	if err != nil {
		return 0, 0, err
	}
	at, err := chromedp.Run(inner, chromedp.Evaluate[point](fmt.Sprintf(`(() => {
		const all = [...document.querySelectorAll("#touch button, main button")];
		const e = all.find((e) => e.textContent === %[1]q || e.getAttribute("aria-label") === %[1]q);
		const r = e?.getBoundingClientRect();
		return {Found: !!e, X: e ? r.x + r.width / 2 : 0, Y: e ? r.y + r.height / 2 : 0, Has: all.map((e) => e.textContent).join(", ")} })()`, text)))
	if err == nil && !at.Found {
		err = fmt.Errorf("the screen has %s", at.Has)
	}
	return frame.X + at.X, frame.Y + at.Y, err
}

// frame attaches to the hands page, which is of another site and so a target of
// its own.
func (b *browser) frame() (context.Context, error) {
	targets, err := chromedp.Targets(b.ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range targets {
		if t.Type != "iframe" || !strings.Contains(t.URL, "/held/") {
			continue
		}
		if b.inner == nil || b.innerID != t.TargetID {
			// Its context is kept: ending it would close the frame.
			b.inner, _ = chromedp.NewContext(b.ctx, chromedp.WithTargetID(t.TargetID))
			b.innerID = t.TargetID
		}
		return b.inner, nil
	}
	return nil, fmt.Errorf("no frame with the device")
}

// chooses picks the app for which devices are prepared, "" for none.
func (b *browser) chooses(app string) {
	b.t.Helper()
	b.sees("For the app")
	get(b, "choose the app", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
		const s = [...document.querySelectorAll("label")].find((l) => l.innerText.includes("For the app")).querySelector("select");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q);
		s.dispatchEvent(new Event("change", {bubbles: true}));
	})()`, app)))
}

// signedInAt opens a browser at a page of the console.
func (d *demo) signedInAt(path string) *browser {
	d.t.Helper()
	b := openBrowser(d.t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.goes(d.console() + path)
	return b
}

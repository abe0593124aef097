package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"earlybench.invalid/earlybench/client"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestPictures takes the pictures of docs/screenshots: with PICTURES naming the
// directory to write to.
func TestPictures(t *testing.T) {
	dir := os.Getenv("PICTURES")
	if dir == "" {
		t.Skip("it takes pictures for the documentation, with make screenshots")
	}
	d := startWith(t, t.TempDir())
	b := openBrowser(t, 1280, 800)
	take := func(name string) {
		t.Helper()
		get(b, "let it settle", chromedp.Sleep(500*time.Millisecond))
		png := get(b, "take a picture", chromedp.CaptureScreenshot())
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
	}
	shot := func(name string) {
		t.Helper()
		get(b, "scroll up", chromedp.Evaluate[chromedp.Void](`window.scrollTo(0, 0)`))
		take(name)
	}
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	shot("rack")
	b.sees("Borrow heron-9")
	d.ok("loan", "start", "heron-9", "--from", "harbour-desk", "--for", "2h")
	d.waits("heron-9", "linked", "open")
	d.ok("try", "demo/apps/callout", "heron-9")
	b.goes(d.console() + "/devices/heron-9")
	b.sees("Borrowed from")
	b.sees("Passed")
	shot("loan")
	d.ok("loan", "end", "heron-9")
	d.eventually("it is off the rack", func() bool { return !strings.Contains(d.ok("rack"), "heron-9") })
	b.goes(d.console())
	b.presses("By next step")
	b.sees("Begin with heron-2")
	shot("round")
	b.goes(d.console() + "/computer")
	b.sees("held by pit")
	needs, err := d.api.Needs(context.Background())
	require.NoError(t, err)
	_, err = d.api.FetchNeeds(context.Background(), needs.Packs[1].Accept)
	require.NoError(t, err)
	b.sees("the depot is slow")
	shot("computer")
	b.goes(d.console() + "/phone/heron-2")
	b.sees("The plan")
	get(b, "hold a phone", chromedp.EmulateViewport(390, 844))
	shot("phone")
	get(b, "back to the desk", chromedp.EmulateViewport(1280, 800))
	b.goes(d.console())
	b.sees("heron-2")
	terminal(t, d, dir, "terminal-rack", "earlybench rack")
	terminal(t, d, dir, "terminal-why", "earlybench why heron-2")
	d.ok("why", "--unseen", "--answer", "plugged=yes", "--answer", "charging=yes")
	at, unplug := unrecognisedHost(t, "slate-sync")
	d.ok("host", "add", "attic", "--usbip", d.at.Hub, "--control", at)
	b.sees("unknown-1")
	get(b, "look at the end of the page", chromedp.Evaluate[chromedp.Void](`scrollTo(0, document.documentElement.scrollHeight)`))
	take("unknown")
	unplug()
	b.presses("Find out why it does not show up")
	b.sees("What was answered")
	d.signsIn(userCode.FindString(d.ok("account", "sign-in", "--wait=false")), "rowan")
	d.eventually("rowan is signed in", func() bool { return strings.Contains(d.ok("account"), "rowan") })
	d.ok("identity", "new", "moor-desk 2026")
	d.ok("project", "add", "demo/apps/muster")
	for _, k := range []string{"kestle-1", "kestle-2"} {
		d.openVisitors(k)
		d.admitsByKeys(k)
	}
	d.ok("register", "add", "kestle-1", "kestle-2")
	d.ok("token", "new", "kestle-1")
	j, err := d.api.Allow(context.Background(), "kestle-1", client.Allow{App: "fellgate/muster"})
	require.NoError(t, err)
	d.eventually("it is on", func() bool { j, err = d.api.Job(context.Background(), j.ID); return err == nil && j.State == "done" })
	b.goes(d.console() + "/keys")
	b.sees("What may run where")
	b.presses("fellgate/muster on kestle-2: may not run")
	b.sees("key in this safe")
	b.sees("Put it on kestle-2")
	shot("keys")
	b.goes(d.console() + "/endings")
	b.sees("Debug tokens")
	shot("endings")
	b.goes(d.console() + "/devices/heron-2")
	b.sees("Inside label")
	d.ok("why", "heron-2", "--answer", "back-room=no", "--answer", "worked-before=yes")
	b.sees("What was answered")
	get(b, "look at why", chromedp.Evaluate[chromedp.Void](`document.querySelector('section[aria-label=Why]').scrollIntoView()`))
	take("why")
	b.presses("Take back")
	b.presses("Take back")
	b.sees("Inside label")
	for _, text := range []string{"Settings", "Care", "Inside label"} {
		b.hands(text)
	}
	b.presses("I have done that")
	b.sees("six times")
	for range 3 {
		b.hands("Batch")
	}
	shot("device")
	terminal(t, d, dir, "terminal-prep", "earlybench prep heron-2")
	for range 6 {
		b.hands("Batch")
	}
	for _, text := range []string{"Batch", "Computers may", "debug and install", "Let them"} {
		b.hands(text)
	}
	b.sees("SHA-256")
	shot("driver")
	b.presses("Install halden-link")
	b.presses("Show the request on heron-2")
	b.sees("It is asking now")
	b.hands("Until withdrawn")
	b.presses("Try Callout")
	b.sees("Passed")
	b.sees("is ready")
	terminal(t, d, dir, "terminal-try", "earlybench try demo/apps/callout heron-2")
	b.goes(d.console() + "/bench")
	b.sees("Who did what")
	shot("bench")
	b.goes(d.console() + "/devices/heron-2")
	b.sees("is ready")
	light := func(scheme string) {
		get(b, "evening or day", func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
			_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
				Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
			return chromedp.Void{}, err
		})
	}
	light("dark")
	b.presses("Rack")
	b.sees("For the app")
	shot("rack-predawn")
	light("light")
	d.ok("network", "join", "heron-1")
	d.ok("standin", "plug", "kittiwake-1")
	for _, text := range []string{"Settings", "Works", "Loose parts", "Light it"} {
		d.eventually("touch "+text, func() bool {
			return d.run("standin", "touch", "kittiwake-1", text).code == 0 || d.run("standin", "slide", "kittiwake-1", "up").code != 0
		})
	}
	b.goes(d.console() + "/devices/kittiwake-1")
	b.presses("Introduce kittiwake-1")
	b.sees("These are its words")
	shot("introduction")
}

// spoken is what is shown of a command line: the part that is ours.
func spoken(line string) string {
	if i := strings.Index(line, "earlybench "); i > 0 {
		return line[i:]
	}
	return line
}

// displays counts the screens that were started, so that each has a number of
// its own.
var displays int

// terminal takes a picture of a command in a terminal window.
func terminal(t *testing.T, d *demo, dir, name, command string) {
	t.Helper()
	xvfb, xterm, shoot := needs(t, "Xvfb"), needs(t, "xterm"), needs(t, "import")
	displays++
	display := fmt.Sprintf(":%d", 90+os.Getpid()%100*10+displays)
	screen := exec.Command(xvfb, display, "-screen", "0", "1120x690x24", "-nolisten", "tcp")
	require.NoError(t, screen.Start())
	defer func() { screen.Process.Signal(syscall.SIGTERM); screen.Wait() }()
	env := append(os.Environ(), "DISPLAY="+display, "EARLYBENCH_STATE="+d.state, "PATH="+filepath.Dir(d.bin)+":"+os.Getenv("PATH"), "COLORTERM=truecolor")
	d.eventually("the screen is there", func() bool { _, err := os.Stat("/tmp/.X11-unix/X" + display[1:]); return err == nil })
	done := filepath.Join(t.TempDir(), "done")
	// A command that goes on waiting is looked at after a while.
	line := fmt.Sprintf("(sleep 8; touch %[1]s) & printf '$ %%s\\n' %[3]q; %[2]s; ", done, strings.Split(command, "; ")[0], spoken(strings.Split(command, "; ")[0]))
	for _, c := range strings.Split(command, "; ")[1:] {
		line += fmt.Sprintf("echo; printf '$ %%s\\n' %q; %s; ", c, c)
	}
	line += "touch " + done + "; sleep 60"
	window := exec.Command(xterm, "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "124x39+0+0", "-bg", "#faf6ee", "-fg", "#1f2740", "-b", "12", "-tn", "xterm-256color", "-e", "sh", "-c", line)
	window.Env, window.Dir = env, ".."
	require.NoError(t, window.Start())
	defer func() { window.Process.Signal(syscall.SIGTERM); window.Wait() }()
	d.eventually("the command has said all", func() bool { _, err := os.Stat(done); return err == nil })
	time.Sleep(500 * time.Millisecond)
	out := exec.Command(shoot, "-window", "root", filepath.Join(dir, name+".png"))
	out.Env = env
	require.NoError(t, out.Run())
}

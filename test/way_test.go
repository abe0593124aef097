package test

import (
	"bytes"
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// fromTheConsole sets up a brand-new handset by what the page
// says, with a mouse.
func TestANewcomerTakesABrandNewHandsetToATriedAppInTheConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2 waits for you")
	b.presses("Go on")

	b.sees("Inside label")
	b.sees("Why mode is not open")
	b.sees("observed, bus")
	b.hands("Settings")
	b.hands("Care")
	b.hands("Inside label")
	b.presses("I have done that")
	b.sees("confirmed by you")
	b.sees("Tap Batch six times")
	for range 6 {
		b.hands("Batch")
	}
	b.presses("I have done that")
	b.sees("Set Computers may to debug and install")
	for _, text := range []string{"Batch", "Computers may", "debug and install", "Let them"} {
		b.hands(text)
	}

	b.sees("Why driver is not open")
	b.sees("EACCES")
	b.presses("Install halden-link 4.1 on loft")
	b.sees("Say yes to moor-desk")
	b.presses("Show the request on heron-2")
	b.sees("It is asking now")
	b.hands("Until withdrawn")

	b.sees("Try an app on it")
	b.presses("Try Callout")
	b.sees("heron-2 is ready")
	b.sees("Passed: fellgate/callout 2.3")
	b.sees("callout ready: 4 on the rota")
	require.Equal(t, "open", d.device("heron-2").Gates["tried"])
	require.NotContains(t, b.log.String(), "exception")
	require.NotContains(t, b.log.String(), "Content Security Policy")
}

func TestNoCookieOfTheServiceReachesAnotherServer(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.presses("Go on")
	b.sees("In your hand")
	cookies := b.cookies(d.console() + "/api/v1/bench")
	require.Len(t, cookies, 1, "the browser is signed in")
	require.True(t, cookies[0].HTTPOnly)
	require.Equal(t, network.CookieSameSiteStrict, cookies[0].SameSite)
	host, _, _ := strings.Cut(strings.TrimPrefix(d.console(), "http://"), ":")
	require.NotEmpty(t, b.cookies("http://"+host+":1/api/v1/bench"), "cookies do not keep ports apart: so nobody may know the name")
	for _, url := range []string{d.at.Service + "/api/v1/bench", "http://127.0.0.1:1/api/v1/bench", "http://localhost:1/api/v1/bench", "http://bench-2.localhost:1/api/v1/bench", d.at.Hands + "/held/heron-2", strings.Replace(d.at.Hands, "localhost", "127.0.0.1", 1) + "/held/heron-2"} {
		require.Empty(t, b.cookies(url), url)
	}
}

// cookies are those that the browser would send to an address.
func (b *browser) cookies(url string) []*network.Cookie {
	b.t.Helper()
	return get(b, "read the cookies", func(ctx context.Context, t *chromedp.Target) ([]*network.Cookie, error) {
		r, err := cdp.Call(ctx, t, network.GetCookies, network.GetCookiesParams{URLs: []string{url}})
		return r.Cookies, err
	})
}

func TestANewcomerTakesABrandNewHandsetToATriedAppByCommands(t *testing.T) {
	d := startDemo(t)
	rack := d.ok("rack")
	require.Contains(t, rack, "heron-1  Halden Heron 3 12")
	require.Contains(t, rack, "blocked: Find the row")
	why := d.ok("why", "heron-2")
	require.Contains(t, why, "gate  mode  is shut")
	require.Contains(t, why, "Interfaces on the bus: 06/01/01 Files")
	require.Contains(t, why, "Tap Batch six times")

	needsPerson := d.run("prep", "heron-2", "--unattended")
	require.Equal(t, 6, needsPerson.code, needsPerson.err)
	require.Contains(t, needsPerson.err, "Inside label")

	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	withoutConsent := d.command(ctx, "prep", "heron-2")
	d.eventually("prep says where to go", func() bool { return strings.Contains(withoutConsent.out.String(), "Inside label") })
	d.openMode("heron-2")
	r := withoutConsent.wait()
	require.Equal(t, 6, r.code, r.out+r.err)
	require.Contains(t, r.err, "--accept ")
	digest := strings.TrimSuffix(strings.TrimSpace(r.err[strings.Index(r.err, "--accept ")+len("--accept "):]), ".")

	prep := d.command(ctx, "prep", "heron-2", "--accept", digest)
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(prep.out.String(), prep.err.String())
		}
	})
	d.touch("heron-2", "This visit")
	r = prep.wait()
	require.Zero(t, r.code, r.out+r.err)
	require.Contains(t, r.out, "heron-2 is ready")

	require.JSONEq(t, d.ok("rack", "show", "heron-2", "--json"), d.ok("prep", "heron-2", "--json"), "only JSON on standard output")

	run := d.run("run", "demo/apps/callout", "heron-2", "--for", "12s")
	require.Zero(t, run.code, run.err)
	require.Contains(t, run.out, "callout ready: 4 on the rota")
	require.Contains(t, run.err, "keeps running")

	picture := filepath.Join(t.TempDir(), "screen.png")
	try := d.ok("try", "fellgate/callout", "heron-2", "--picture", picture)
	require.Contains(t, try, "passed")
	require.Contains(t, try, "callout ready: 4 on the rota")
	png, err := os.ReadFile(picture)
	require.NoError(t, err)
	require.Equal(t, "image/png", http.DetectContentType(png))
	require.Contains(t, d.ok("rack", "--app", "fellgate/callout", "--json"), `"tried": "open"`)
	require.Contains(t, d.ok("tryout"), "fellgate/callout 2.3")
}

func TestAnAppFileRunsWithoutItsProjectAndABadOneIsRefusedBeforeAnythingIsSent(t *testing.T) {
	d := startDemo(t)
	dir := t.TempDir()
	copyTree(t, "../demo/apps/callout", filepath.Join(dir, "callout"))
	build := exec.Command("go", "build", "-o", "build/callout.wasm", ".")
	build.Dir, build.Env = filepath.Join(dir, "callout"), append(os.Environ(), "GOOS=wasip1", "GOARCH=wasm", "GOWORK=off")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	file := filepath.Join(dir, "callout.ebapp")
	require.Contains(t, d.ok("app", "pack", filepath.Join(dir, "callout"), file), "fellgate/callout 2.3, id ")
	require.Contains(t, d.ok("app", "check", file), "build/callout.wasm")
	require.Contains(t, d.ok("try", file, "heron-1"), "passed")
	require.Contains(t, d.ok("app"), "fellgate/callout")

	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	at := bytes.Index(raw, []byte("\x00asm"))
	require.Positive(t, at)
	raw[at+9]++
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	jobs, err := d.api.Jobs(context.Background())
	require.NoError(t, err)
	for _, bad := range []struct{ name, says string }{{file, "a file differs from the one in the manifest"}, {"README.md", "it is not a ZIP file"}} {
		for _, args := range [][]string{{"run", bad.name, "heron-1"}, {"app", "check", bad.name}} {
			r := d.run(args...)
			require.Equal(t, 1, r.code, r.out)
			require.Regexp(t, `he app file .*is refused`, r.err)
			require.Contains(t, r.err, bad.says)
		}
	}
	after, err := d.api.Jobs(context.Background())
	require.NoError(t, err)
	require.Len(t, after, len(jobs), "no work was begun")
}

func TestOneDeviceTakesOnePieceOfWorkAtATime(t *testing.T) {
	d := startDemo(t)
	dir := largeProject(t, 120<<20)
	project, err := d.api.AddProject(context.Background(), dir)
	require.NoError(t, err)
	first, err := d.api.Start(context.Background(), client.Run{App: project.App, Device: "heron-1"})
	require.NoError(t, err)
	r := d.run("run", dir, "heron-1")
	require.Equal(t, 3, r.code, r.err)
	require.Contains(t, r.err, "heron-1 is busy: Run fellgate/callout on heron-1")
	require.Contains(t, d.ok("rack"), "Run fellgate/callout on heron-1")
	d.ok("job", "stop", first.ID)
	require.Equal(t, "stopped", d.ended(first.ID).State)
	d.eventually("it is free again", func() bool { return d.device("heron-1").Working == "" })
}

func TestAnAppThatCrashesFailsItsTryout(t *testing.T) {
	d := startDemo(t)
	dir := t.TempDir()
	copyTree(t, "../demo/apps/callout", dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rota.txt"), []byte("nobody\n"), 0o644))
	r := d.run("try", dir, "heron-1")
	require.Equal(t, 1, r.code, r.out+r.err)
	require.Contains(t, r.err, "crashed: it ended with exit code 3")
	require.Contains(t, d.ok("tryout"), "failed")
	require.Equal(t, "shut", d.device("heron-1").Gates["tried"])
}

func TestABuildThatFailsSaysWhatTheBuildSaid(t *testing.T) {
	d := startDemo(t)
	dir := t.TempDir()
	copyTree(t, "../demo/apps/callout", dir)
	main := filepath.Join(dir, "main.go")
	raw, err := os.ReadFile(main)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(main, append(raw, "\nfunc broken( {\n"...), 0o644))
	r := d.run("run", dir, "heron-1")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "main.go:")
	require.Contains(t, r.err, "Fix what the build reports")
}

func copyTree(t testing.TB, from, to string) {
	t.Helper()
	require.NoError(t, os.CopyFS(to, os.DirFS(from)))
}

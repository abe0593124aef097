package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// screenTerminal is a command at a pseudo-terminal of a known size.
func (d *demo) screenTerminal(ctx context.Context, command string) *typist {
	d.t.Helper()
	bin := d.bin
	defer func() { d.bin = bin }()
	d.bin = "stty cols 120 rows 44; exec " + bin
	return d.atTerminal(ctx, command)
}

func TestPrepIsOneScreenThatMarksWhatIsObserved(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	y := d.screenTerminal(ctx, "prep heron-2")
	y.says(d, "Inside label")
	y.says(d, "Batch")
	y.types("\r")
	d.eventually("Enter says that it is done", func() bool { return strings.Contains(d.ok("rack", "show", "heron-2", "--facts"), "told.find") })
	y.says(d, "6 times")
	d.openMode("heron-2")
	y.says(d, "observed")
	y.says(d, "mode is open")
	y.says(d, "install it")
	y.types("\r")
	y.says(d, "Install it on host loft?")
	y.types("y")
	y.says(d, "driver is open")
	y.types("\r")
	d.touch("heron-2", "For 30 days")
	r := y.wait()
	require.Zero(t, r.code, r.out)
	require.Contains(t, y.text(), "heron-2 is ready")
	var shown client.Prep
	require.NoError(t, json.Unmarshal([]byte(d.ok("rack", "show", "heron-2", "--json")), &shown))
	require.Equal(t, "admitted", shown.Device.Endings[0].Gate, "30 days end, and that is told")
	require.WithinDuration(t, time.Now().AddDate(0, 0, 30), shown.Device.Endings[0].At, time.Minute)
}

func TestAPrepThatIsLeftOnTheScreenGoesOnInTheConsole(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	y := d.screenTerminal(ctx, "prep heron-2 heron-1")
	y.says(d, "1/2 ")
	y.types("\r")
	y.says(d, "6 times")
	y.types("q")
	r := y.wait()
	require.Equal(t, 1, r.code, r.out)
	require.Contains(t, r.out, "earlybench prep heron-2 heron-1")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.presses("Go on")
	b.sees("Tap Batch six times")
	b.sees("confirmed by you")
}

func TestADeviceIsRetiredAndEachThingIsObserved(t *testing.T) {
	d := startDemo(t)
	d.ok("try", "demo/apps/callout", "heron-1")
	require.Contains(t, d.ok("rack", "show", "heron-1"), "fellgate/callout")
	d.ok("standin", "pull", "heron-1")
	d.eventually("it has gone", func() bool { return d.device("heron-1").Summary == "unseen" })
	refused := d.run("retire", "heron-1")
	require.Equal(t, 6, refused.code, "it begins only after it was asked")
	require.Contains(t, refused.err, "Take the apps off")
	require.False(t, d.device("heron-1").Retiring)
	out := d.ok("retire", "heron-1", "--yes")
	require.Contains(t, out, "to be done by the bench, when it is linked", "what cannot be done now waits")
	require.NotContains(t, out, "observed")

	d.ok("standin", "plug", "heron-1")
	d.eventually("apps and admission are off once it is back", func() bool { return strings.Count(d.ok("retire", "heron-1"), "observed") == 2 })
	require.NotContains(t, d.ok("standin", "screen", "heron-1"), "Callout")
	var shown client.Retirement
	require.NoError(t, json.Unmarshal([]byte(d.ok("retire", "heron-1", "--json")), &shown))
	require.True(t, shown.Ended.IsZero(), "it is not closed yet")
	require.NotEqual(t, 0, d.run("retire", "heron-1", "--confirm", "close").code, "the bench sees for itself whether it is closed")

	for _, text := range []string{"Settings", "Care", "Inside label", "Batch", "Close the Back room", "Close it"} {
		d.touch("heron-1", text)
	}
	d.eventually("closing is observed", func() bool { return strings.Contains(d.ok("retire", "heron-1"), "is retired") })
	d.ok("standin", "pull", "heron-1")
	d.eventually("it has no row any more", func() bool { return !strings.Contains(d.ok("rack"), "heron-1") })
	d.ok("standin", "plug", "heron-1")
	d.eventually("it is back, to be prepared again", func() bool { return strings.Contains(d.ok("rack"), "heron-1") })
	require.Equal(t, "mode", d.device("heron-1").First)
}

func TestRetiringCanBeCalledOffAndIsRefusedWhereNothingIsKnown(t *testing.T) {
	d := startDemo(t)
	d.ok("retire", "heron-2", "--yes")
	require.True(t, d.device("heron-2").Retiring)
	r := d.run("prep", "heron-2")
	require.Equal(t, 3, r.code, "a device on its way out is not called ready")
	require.Contains(t, r.err, "heron-2 is being retired. To prepare it, call that off")
	d.ok("retire", "heron-2", "--call-off")
	require.False(t, d.device("heron-2").Retiring)
	r = d.run("retire", "heron-9")
	require.NotZero(t, r.code)
	require.Contains(t, r.err, "heron-9")
}

func TestASharedComputerAsksForThisVisitOnly(t *testing.T) {
	d := startDemo(t)
	d.ok("host", "set", "shared", "loft")
	require.Contains(t, d.ok("host"), "shared")
	d.ok("standin", "fault", "add", "heron-1", "admission-withdrawn")
	d.ok("standin", "pull", "heron-1")
	d.ok("standin", "plug", "heron-1")
	d.waits("heron-1", "admitted", "shut")
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	d.command(ctx, "prep", "heron-1")
	d.eventually("it asks", func() bool { return strings.Contains(d.run("standin", "screen", "heron-1").out, "This visit") })
	screen := d.ok("standin", "screen", "heron-1")
	require.NotContains(t, screen, "Until withdrawn")
	require.NotContains(t, screen, "30 days")
	d.touch("heron-1", "No")
	d.ok("host", "set", "own", "loft")
	require.NotContains(t, d.ok("host"), "shared")
	require.NotZero(t, d.run("host", "set", "shared", "shed").code)
}

func TestADeviceShowsWhichItIs(t *testing.T) {
	d := startDemo(t)
	d.ok("rack", "find", "heron-1")
	require.Contains(t, d.ok("standin", "screen", "heron-1"), "Done")
	r := d.run("rack", "find", "heron-2")
	require.Equal(t, 3, r.code, "one that is not linked cannot")
}

func TestTheScreenIsSeenAndTouchedInTheConsole(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-1")
	b.goes(d.console() + "/devices/heron-1")
	b.presses("Show it here")
	type box struct{ X, Y, W, H float64 }
	find := `(() => { const c = document.querySelector('[role=application] canvas'); if (!c || c.width < 500) return null;
		c.scrollIntoView({block: "center"}); const r = c.getBoundingClientRect(); return {X: r.x, Y: r.y, W: r.width, H: r.height} })()`
	at := await[box](b, "the screen", find)
	e := d.reading("heron-1").Elements[0]
	require.Equal(t, "Settings", e.Text)
	middle := [2]float64{float64(e.X) + float64(e.W)/2, float64(e.Y) + float64(e.H)/2}
	d.eventually("a touch reaches the device", func() bool {
		get(b, "touch Settings", chromedp.MouseClickXY(at.X+middle[0]*at.W/276, at.Y+middle[1]*at.H/550))
		time.Sleep(200 * time.Millisecond)
		return strings.Contains(d.ok("standin", "screen", "heron-1"), "Care")
	})
	require.NotContains(t, b.log.String(), "Content Security Policy")
}

// phoneClient speaks to the phone's page as a browser does that was shown the
// fingerprint.
func phoneClient(fingerprint string) *http.Client {
	return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true, //nolint:gosec // the fingerprint is what is checked
		VerifyConnection: func(s tls.ConnectionState) error {
			sum := sha256.Sum256(s.PeerCertificates[0].Raw)
			if got := strings.ToUpper(hex.EncodeToString(sum[:])); got != strings.ReplaceAll(fingerprint, ":", "") {
				return fmt.Errorf("another certificate: %s", got)
			}
			return nil
		}}}}
}

func TestAPhonesPageIsForOneDeviceAndOneBrowser(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	require.Contains(t, d.run("console", "--phone").err, "these need your hands: heron-2")
	r := d.run("console", "--phone", "heron-2")
	require.Equal(t, 2, r.code)
	require.Contains(t, r.err, "this computer has")
	require.NotZero(t, d.run("console", "--phone", "heron-2", "--address", "0.0.0.0").code, "an address is chosen, never all")
	served := d.command(ctx, "console", "--phone", "heron-2", "--address", "127.0.0.1", "--json")
	var page client.Phone
	d.eventually("it says where", func() bool { return json.Unmarshal([]byte(served.out.String()), &page) == nil })
	base, secret, _ := strings.Cut(page.URL, "/phone/heron-2#sign-in=")
	c := phoneClient(page.Fingerprint)
	cookie := ""
	send := func(method, path, body string, header ...string) *http.Response {
		t.Helper()
		q, err := http.NewRequestWithContext(ctx, method, base+path, bytes.NewBufferString(body))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		q.Header.Set("Cookie", cookie)
		q.Header.Set("Origin", base)
		for i := 0; i+1 < len(header); i += 2 {
			q.Header.Set(header[i], header[i+1])
		}
		res, err := c.Do(q)
		require.NoError(t, err)
		raw, _ := io.ReadAll(res.Body)
		res.Body.Close()
		require.NotContains(t, string(raw), "heron-1", "nothing of other devices")
		return res
	}
	require.Equal(t, 401, send("GET", "/api/v1/devices/heron-2/prep", "").StatusCode, "not before signing in")
	require.Equal(t, 403, send("POST", "/api/v1/sign-in", `{"secret":"wrong"}`).StatusCode)
	in := send("POST", "/api/v1/sign-in", `{"secret":"`+secret+`"}`)
	require.Equal(t, 204, in.StatusCode)
	require.Contains(t, in.Header.Get("Set-Cookie"), "HttpOnly; Secure; SameSite=Strict")
	cookie, _, _ = strings.Cut(in.Header.Get("Set-Cookie"), ";")
	require.Equal(t, 403, send("POST", "/api/v1/sign-in", `{"secret":"`+secret+`"}`).StatusCode, "once")
	for _, a := range []struct {
		method, path, body string
		status             int
		header             []string
	}{
		{"GET", "/phone/heron-2", "", 200, nil},
		{"GET", "/api/v1/bench", "", 200, nil},
		{"GET", "/api/v1/devices/heron-2/prep", "", 200, nil},
		{"GET", "/api/v1/devices/heron-2/why", "", 200, nil},
		{"POST", "/api/v1/devices/heron-2/told", `{"step":"find"}`, 204, nil},
		{"POST", "/api/v1/devices/heron-2/told", `{"step":"find"}`, 403, []string{"Origin", "https://evil.invalid"}},
		{"GET", "/api/v1/devices", "", 403, nil},
		{"GET", "/api/v1/round", "", 403, nil},
		{"GET", "/api/v1/devices/heron-1/prep", "", 403, nil},
		{"GET", "/api/v1/devices/heron-2/facts", "", 403, nil},
		{"GET", "/api/v1/devices/heron-2/screen", "", 403, nil},
		{"PATCH", "/api/v1/devices/heron-2", `{"handle":"x-1"}`, 403, nil},
		{"POST", "/api/v1/devices/heron-2/retirement", `{}`, 403, nil},
		{"POST", "/api/v1/phone", `{"device":"heron-1","address":"127.0.0.1"}`, 403, nil},
		{"GET", "/api/v1/jobs", "", 403, nil},
		{"GET", "/api/v1/sheets", "", 403, nil},
		{"POST", "/api/v1/bench", `{}`, 403, nil},
		{"GET", "/api/v1/devices/heron-2/../heron-1/prep", "", 403, nil},
		{"GET", "/api/v1/devices/heron-20/prep", "", 403, nil},
		{"GET", "/api/v1/devices/heron-2/prep/", "", 403, nil},
		{"GET", "/api/v1/devices/heron-2/report", "", 403, nil},
		{"GET", "/api/v1/devices/heron-2/log", "", 403, nil},
		{"POST", "/api/v1/devices/heron-2/driver", `{}`, 403, nil},
		{"POST", "/api/v1/devices/heron-2/find", `{}`, 403, nil},
		{"PUT", "/api/v1/devices/heron-2/told", `{}`, 403, nil},
		{"DELETE", "/api/v1/devices/heron-2", "", 403, nil},
		{"DELETE", "/api/v1/devices/heron-2/retirement", "", 403, nil},
		{"POST", "/api/v1/devices/heron-2/retirement/told", `{}`, 403, nil},
		{"DELETE", "/api/v1/devices/heron-2/answers/plugged", "", 204, nil},
	} {
		require.Equal(t, a.status, send(a.method, a.path, a.body, a.header...).StatusCode, a.method+" "+a.path)
	}
	require.Contains(t, d.ok("rack", "show", "heron-2", "--facts"), "told.find")
	res, err := http.Get(d.at.Service + "/api/v1/phone")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 421, res.StatusCode)
	d.ok("rack") // the bench goes on
	cancel()
	served.wait()
	d.eventually("it ends with its command, even with one that was killed", func() bool {
		res, err := phoneClient(page.Fingerprint).Get(base + "/phone/heron-2")
		if err == nil {
			res.Body.Close()
		}
		return err != nil
	})
}

func TestARoundGroupsTheRackInTheTerminalAndInTheConsole(t *testing.T) {
	d := startDemoIn(t, t.TempDir())
	var r client.Round
	require.NoError(t, json.Unmarshal([]byte(d.ok("round", "--json")), &r))
	var kestles []string
	for _, g := range r.Groups {
		for _, dev := range g.Devices {
			if strings.HasPrefix(dev.Handle, "kestle") {
				kestles = append(kestles, g.Title+": "+dev.Handle)
			}
		}
	}
	require.Equal(t, []string{"Switch Visitors on: kestle-1", "Switch Visitors on: kestle-2", "Switch Visitors on: kestle-3",
		"Switch Visitors on: kestle-4", "Switch Visitors on: kestle-5", "Switch Visitors on: kestle-6"}, kestles)
	require.Equal(t, []string{"heron-1"}, r.Ready)
	require.Contains(t, d.ok("round"), "With your hands")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.chooses("")
	b.presses("By next step")
	b.sees("15 devices wait for")
	b.sees("Take it back")
	d.ok("standin", "fault", "drop", "ivory-2", "held-by-machine")
	await[bool](b, "it goes by itself", `!document.body.innerText.includes("Take it back")`)
	d.openVisitors("kestle-2")
	b.sees("kestle-2")
	d.waits("kestle-2", "mode", "open")
	get(b, "press with the keyboard", chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("a")].find((a) => a.innerText.includes("Begin with")).focus()`))
	get(b, "Enter", chromedp.KeyEvent("\r"))
	b.sees("In your hand")
}

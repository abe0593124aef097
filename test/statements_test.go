package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

var twoKeys = regexp.MustCompile(`hold (\d) and (\d) together`)

// kestles are the six handsets of the demo that want the same debug token.
var kestles = []string{"kestle-1", "kestle-2", "kestle-3", "kestle-4", "kestle-5", "kestle-6"}

// handsetProject is a project that is made for handsets with number keys, too; more is added to its
// project file.
func handsetProject(t *testing.T, more string) string {
	t.Helper()
	dir := benchtest.SmallApp(t, true)
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(raw), `minimum: "9"`, `minimum: "3"`, 1)+more), 0o600))
	return dir
}

// From brand-new to tried on all six, by what page and commands say: opened by hand, led by prep, one
// token for all.
func TestOneDebugTokenGoesOnSixHandsetsWithARowForEach(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--restart-within", "500ms", "--smaller", "60")
	d.signsIn(userCode.FindString(d.ok("account", "sign-in", "--wait=false")), "rowan")
	d.eventually("rowan is signed in", func() bool { return strings.Contains(d.ok("account"), "4471 0926") })
	d.permit("fellgate/callout")
	dir := handsetProject(t, "")
	for _, k := range kestles {
		d.openVisitors(k)
		d.admitsByKeys(k)
	}
	d.ok("register", "add")
	d.eventually("all are registered", func() bool { return d.device("kestle-6").Gates["registered"] == "open" })

	// Without a token nothing is sent, and what to do is said.
	r := d.run("try", dir, "kestle-1", "--unattended")
	require.Equal(t, 3, r.code, r.err)
	require.Contains(t, r.err, "There is no debug token of yours on kestle-1.")
	r = d.run("explain", "fellgate/callout", "kestle-6")
	require.Equal(t, 3, r.code, r.err)
	require.Contains(t, r.out, "is harbour/linnet's")
	require.Contains(t, r.out, "The line that rules it out is cnf.")

	// The page Keys says it in its table, and one press there asks for a token and puts it on.
	d.ok("project", "add", dir)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.goes(d.console() + "/keys")
	b.sees("What may run where")
	b.presses("fellgate/callout on kestle-6: may not run, token")
	b.sees("by its line cnf")
	b.presses("fellgate/callout on kestle-1: may not run, token")
	b.sees("has no debug token that this bench can read")
	b.presses("Put it on kestle-1")
	b.sees("kestle-1 may run fellgate/callout until")
	b.presses("fellgate/callout on kestle-1: may run")
	require.Contains(t, d.ok("explain"), "╱ may run")

	// A token that names five of them: a row for each, the line that repeats it for just the others.
	var st client.Statement
	require.NoError(t, json.Unmarshal([]byte(d.ok("token", "new", "kestle-1", "kestle-2", "kestle-3", "kestle-4", "kestle-6", "--json")), &st))
	file := filepath.Join(t.TempDir(), "fellgate.token")
	require.NoError(t, os.WriteFile(file, []byte(d.ok("token", "show", st.ID, "--signed")), 0o600))
	r = d.run(append([]string{"token", "put", file}, kestles...)...)
	require.Equal(t, 1, r.code)
	require.Contains(t, r.out, "The debug token does not name kestle-5")
	require.Contains(t, r.out, "not put: another developer's is there")
	require.Contains(t, r.err, "earlybench token put "+st.ID[:8]+" kestle-5 kestle-6 --replace")
	r = d.run("token", "put", file, "--where", `device.family == "kestle"`, "--json")
	require.Equal(t, 1, r.code)
	var j client.Job
	require.NoError(t, json.Unmarshal([]byte(r.out), &j))
	require.Len(t, j.Put.Rows, 6)
	for _, row := range j.Put.Rows {
		require.Contains(t, []string{"already there", "asks", "refused"}, row.Outcome, row.Device)
	}
	require.Contains(t, d.ok("token", "put", st.ID[:8], "kestle-6", "--replace"), "replacing another developer's")

	// The one that is left is led by prep, which has one issued that names it.
	d.ok("prep", "kestle-5", "--app", "fellgate/callout", "--unattended", "--wait", "20s")
	for _, k := range kestles {
		require.Contains(t, d.ok("explain", "fellgate/callout", k), "Yes. "+k+" may run fellgate/callout until")
	}
	r = d.run(append([]string{"try", dir}, kestles...)...)
	require.Zero(t, r.code, r.out+r.err)
	d.touch("kestle-6", "Back", "Settings", "Ledger")
	require.Contains(t, d.ok("standin", "screen", "kestle-6"), "of fellgate/rowan")
	require.Contains(t, d.ok("endings"), "debug token")

	// Retiring takes it off again.
	d.ok("retire", "kestle-2", "--yes")
	d.eventually("the token is off", func() bool { return !strings.Contains(d.ok("token", "--on", "kestle-2"), st.ID[:8]) })
}

// handsetsOf lets the bench in on handsets that are opened already, in a process of their own.
func (d *demo) handsetsOf(sc standin.Scenario, host string) {
	d.t.Helper()
	bench, err := d.api.Bench(d.t.Context())
	require.NoError(d.t, err)
	for i := range sc.Bodies {
		sc.Bodies[i].Begin = &body.Beginning{Settings: map[string]string{"visitors": "yes", "code": "done"}, Admits: map[string]string{bench.Fingerprint: bench.Name}}
	}
	at := elsewhere(d.t, sc)
	d.ok("host", "add", host, "--usbip", at.Hub, "--control", at.Host)
}

func TestAHandoverBringsAppAndTokenToAnotherBenchesSixHandsets(t *testing.T) {
	mine := startDemo(t)
	at := benchtest.Authority(t, &clock.Moved{})
	mine.belongsTo(at)
	mine.permit("fellgate/callout")

	// The other bench has another state, other ports and serials, and trusts the same authority.
	theirs := startDemo(t)
	look := theirs.run("authority", "add", at.URL(), "--unattended")
	theirs.ok("authority", "drop", "fell-authority")
	theirs.ok("authority", "add", at.URL(), "--accept", regexp.MustCompile(`--accept ([0-9a-f]{64})`).FindStringSubmatch(look.out + look.err)[1])
	sc := standin.Scenario{Dir: t.TempDir(), Host: "harbour", Drivers: true, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Authority: &standin.Authority{Authority: at.Checker(), URL: at.URL()}}
	for i := range 6 {
		sc.Bodies = append(sc.Bodies, standin.Entry{Name: fmt.Sprintf("their-%d", i+1), Body: "kestle", Model: "K7", Serial: fmt.Sprintf("K 2 %d", 20031+i)})
	}
	theirs.handsetsOf(sc, "harbour")
	linked := func() (out []string) {
		all, err := theirs.api.Devices(t.Context(), "")
		require.NoError(t, err)
		for _, dev := range all {
			if dev.Family == "kestle" && dev.Gates["linked"] == "open" {
				out = append(out, dev.Handle)
			}
		}
		return out
	}
	theirs.eventually("all six are linked", func() bool { return len(linked()) == 6 })

	dir := t.TempDir()
	request, packed, file := filepath.Join(dir, "callout.ebrequest"), filepath.Join(dir, "callout.ebapp"), filepath.Join(dir, "callout.ebhandover")
	mine.ok("handover", "request", "fellgate/callout", request)
	require.Equal(t, 2, mine.run("handover", "request", "fellgate/callout", request).code, "no reply is written over")
	require.Equal(t, 2, mine.run("handover", "make", request, packed, file).code, "it names no device yet")
	theirs.ok(append([]string{"handover", "reply", request}, linked()...)...)

	project := handsetProject(t, "")
	source, err := os.ReadFile(filepath.Join(project, "source"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(project, "app.wasm"), source, 0o600))
	mine.ok("app", "pack", project, packed)
	require.Contains(t, mine.ok("handover", "make", request, packed, file), "a debug token for 6 devices")

	r := theirs.run(append([]string{"handover", "put", file}, linked()...)...)
	require.Zero(t, r.code, r.out+r.err)
	for _, h := range linked() {
		require.Contains(t, theirs.ok("explain", "fellgate/callout", h), "Yes. "+h+" may run")
		theirs.eventually("it runs", func() bool {
			plan, err := theirs.api.Prep(t.Context(), h, "")
			return err == nil && len(plan.Apps) == 1 && plan.Apps[0].Running
		})
	}
	bad := filepath.Join(dir, "bad.ebhandover")
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(bad, whole[:len(whole)-40], 0o600))
	require.Equal(t, 2, theirs.run("handover", "put", bad, linked()[0]).code)
}

func TestAnAppFileIsSignedAnewAndCompared(t *testing.T) {
	d := startDemo(t)
	at := benchtest.Authority(t, &clock.Moved{})
	d.belongsTo(at)
	d.ok("identity", "new", "moor-desk 2026")
	d.permit("fellgate/callout")
	project := handsetProject(t, "")
	source, err := os.ReadFile(filepath.Join(project, "source"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(project, "app.wasm"), source, 0o600))
	dir := t.TempDir()
	bare, signed := filepath.Join(dir, "bare.ebapp"), filepath.Join(dir, "signed.ebapp")
	d.ok("app", "pack", project, bare)
	require.Contains(t, d.ok("app", "show", bare), "signed by the bare key")
	require.Contains(t, d.ok("app", "show", bare), "debug     built to be debugged")

	// The use of the identity's key waits for consent at a terminal or in a browser.
	b := d.signedInAt("/keys")
	done := make(chan result, 1)
	go func() { done <- d.run("app", "sign", bare, signed, "--identity", "moor-desk 2026") }()
	b.presses("Allow it once")
	r := <-done
	require.Zero(t, r.code, r.err)
	require.Contains(t, d.ok("app", "check", signed), "signed by the identity moor-desk 2026, whose certificate was issued by Fell Authority root")
	out := d.ok("app", "compare", bare, signed)
	require.Contains(t, out, "signature")
	require.NotContains(t, out, "app.wasm", "what is in it stays the same")
	require.Contains(t, d.ok("app", "compare", bare, bare), "Nothing differs.")
}

func TestRevokingAnIdentitySaysWhichGrantsAreForIt(t *testing.T) {
	d := startDemo(t)
	at := benchtest.Authority(t, &clock.Moved{})
	d.belongsTo(at)
	d.ok("identity", "new", "moor-desk 2026")
	d.ok("register", "add", "--from", csvOf(t, "OH W 4410"))
	d.ok("grant", "new", "OH W 4410", "--identity", "moor-desk 2026")
	r := d.run("identity", "revoke", "moor-desk 2026")
	require.Equal(t, 6, r.code, "it is asked first")
	require.Contains(t, r.out+r.err, "every app of fellgate/thwaite on 1 elsewhere")
	d.ok("identity", "revoke", "moor-desk 2026", "--yes")
	require.NotZero(t, d.run("grant", "new", "OH W 4410", "--identity", "moor-desk 2026").code, "nothing is issued for it any more")
}

// csvOf is a file with the serials of devices out of reach.
func csvOf(t *testing.T, serials ...string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "devices.csv")
	require.NoError(t, os.WriteFile(file, []byte("serial,model\n"+strings.Join(serials, ",WT\n")+",WT\n"), 0o600))
	return file
}

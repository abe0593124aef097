package test

import (
	"crypto/tls"
	"encoding/csv"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

var userCode = regexp.MustCompile(`\b[A-Z]{4}-[A-Z]{4}\b`)

// letsIn types a code on the page of the authority, and makes an account there.
func (d *demo) letsIn(code, account, crew, standing string) {
	d.t.Helper()
	b := openBrowserWith(d.t, 1280, 800, chromedp.Flag("ignore-certificate-errors", true)) // its person has accepted the page
	b.goes(d.at.Authority + "code?new=1")
	b.sees("not the one of your computer or safe")
	b.sees("Not available: background positions")
	for field, text := range map[string]string{"code": code, "account": account, "password": "fog-and-fell", "crew": crew} {
		get(b, "into "+field, chromedp.Evaluate[chromedp.Void](`document.getElementById("`+field+`").focus()`))
		get(b, "type "+field, chromedp.KeyEvent(text))
	}
	get(b, "choose the standing", chromedp.Evaluate[chromedp.Void](`document.querySelector("input[value='`+standing+`']").click()`))
	get(b, "send it", chromedp.Evaluate[chromedp.Void](`setTimeout(() => document.querySelector("button[value='make']").click())`))
	d.eventually("the page says that it is done", func() bool { // which is another page than before
		text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.body.innerText`))
		return err == nil && strings.Contains(text, "You can close this page")
	})
}

func TestSomebodyBelongsToACrewByWhatThePageSays(t *testing.T) {
	d := startDemo(t)
	b := d.signedInAt("/keys")
	b.sees("No account at an authority is in use")
	b.presses("Sign in at fell-authority, or create an account")
	b.sees("Type this code there")
	text := get(b, "read the code", chromedp.Evaluate[string](`document.body.innerText`))
	code := userCode.FindString(text)
	require.NotEmpty(t, code)
	require.Contains(t, text, "Grants last 21 days", "what a standing costs is said before one is chosen")
	d.letsIn(code, "thwaite", "ridgeway", "full")
	b.sees("You are signed in.")
	b.sees("Crew ridgeway, number")
	b.writes("Name of a new identity", "moor-desk one")
	b.presses("Make a key and get its certificate")
	b.sees("key in this safe")
	b.writes("Name of an app, after ridgeway/", "example")
	b.presses("Take it for the crew")
	b.sees("placeholder")
	b.writes("Name of an app, after ridgeway/", "callout")
	b.presses("Take it for the crew")
	b.sees("ridgeway/callout")
	require.Contains(t, d.ok("identity"), "moor-desk one")
	require.Contains(t, d.ok("account"), "standing full, 0 of 60 places")

	// By commands: devices out of reach from a file, the register as a file, and back.
	file := filepath.Join(t.TempDir(), "devices.csv")
	require.NoError(t, os.WriteFile(file, []byte("model,serial\nKS,KS 0071\nKS,KS 0072\n"), 0o600))
	require.Contains(t, d.ok("register", "add", "--from", file), "KS 0072")
	b.sees("KS 0072")
	rows, err := csv.NewReader(strings.NewReader(d.ok("register", "--csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3)
	require.Equal(t, []string{"serial", "model", "handle", "since", "seen", "self"}, rows[0])
	b.presses("Free its place")
	left := ""
	d.eventually("one is left", func() bool {
		r, err := d.api.Register(t.Context())
		if err != nil || len(r.Entries) != 1 {
			return false
		}
		left = r.Entries[0].Serial
		return true
	})
	for wrong, says := range map[string]string{"serial\nx\n": "serial and model", "serial,model\n\"KS": "line 2", "serial,model\n": "no device", "serial,model\na,b,c\n": "wrong number of fields", "serial,model\n<b>,x\n": "invalid"} {
		require.NoError(t, os.WriteFile(file, []byte(wrong), 0o600))
		r := d.run("register", "add", "--from", file)
		require.NotZero(t, r.code)
		require.Contains(t, r.err, says, wrong)
	}

	// Signed out by the authority: it is said, and nothing is lost.
	d.ok("standin", "sign-out", "thwaite")
	r := d.run("register", "drop", left)
	require.Equal(t, 6, r.code, r.err)
	require.Contains(t, r.err, "Sign in again: earlybench account sign-in fell-authority")
	b.sees("Signed out by the authority")
	require.Contains(t, d.ok("identity"), "moor-desk one")
	require.NotContains(t, b.log.String(), "exception")
}

// A tablet enters the register by the number of its crew, a handset by its serial, which the
// bench has read; each gate opens by what is seen.
func TestATabletEntersByTheCrewsNumberAndAHandsetByItsSerial(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--restart-within", "500ms", "--smaller", "60")
	code := userCode.FindString(d.ok("account", "sign-in", "--wait=false"))
	require.NotEmpty(t, code)
	d.signsIn(code, "rowan")
	d.eventually("rowan is signed in", func() bool { return strings.Contains(d.ok("account"), "4471 0926") })
	require.Contains(t, d.ok("register"), "OH W 3127", "one entered itself before")
	d.waits("whimbrel-1", "registered", "shut")
	d.touch("whimbrel-1", "Doorway", "Lodgers")
	d.ok("standin", "type", "whimbrel-1", "44719999")
	d.touch("whimbrel-1", "Hang up")
	d.eventually("no crew has that number", func() bool {
		return strings.Contains(d.ok("standin", "screen", "whimbrel-1"), "No crew has that number")
	})
	d.waits("whimbrel-1", "registered", "shut")
	d.ok("standin", "type", "whimbrel-1", "44710926")
	d.touch("whimbrel-1", "Hang up")
	d.waits("whimbrel-1", "registered", "open")
	require.Contains(t, d.ok("register"), "entered itself by the crew's number")

	d.waits("kestle-1", "registered", "shut")
	d.ok("register", "add", "kestle-1")
	d.waits("kestle-1", "registered", "open")
	d.ok("register", "add")
	d.eventually("none is left", func() bool { r, err := d.api.Register(t.Context()); return err == nil && len(r.Missing) == 0 })
	d.ok("register", "drop", "kestle-2")
	d.waits("kestle-2", "registered", "shut")
}

// signsIn lets the bench in with an account that is there.
func (d *demo) signsIn(code, account string) {
	d.t.Helper()
	c := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}} // its person has accepted the page
	res, err := c.PostForm(d.at.Authority+"code", url.Values{"code": {code}, "account": {account}, "password": {"fog-and-fell"}, "do": {"enter"}})
	require.NoError(d.t, err)
	defer res.Body.Close()
	require.Equal(d.t, http.StatusOK, res.StatusCode)
}

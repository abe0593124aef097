package test

import (
	"encoding/csv"
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
	b.sees("Not to be had: background positions")
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
	b.presses("Sign in at fell-authority, or make an account")
	b.sees("Type this code there")
	text := get(b, "read the code", chromedp.Evaluate[string](`document.body.innerText`))
	code := userCode.FindString(text)
	require.NotEmpty(t, code)
	require.Contains(t, text, "Grants last 21 days", "what a standing costs is said before one is chosen")
	d.letsIn(code, "thwaite", "fellgate", "full")
	b.sees("You are signed in.")
	b.sees("4182 7730")
	b.writes("Name of a new identity", "moor-desk one")
	b.presses("Make a key and get its certificate")
	b.sees("key in this safe")
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
	d.eventually("one is left", func() bool { r, err := d.api.Register(t.Context()); return err == nil && len(r.Entries) == 1 })
	for wrong, says := range map[string]string{"serial\nx\n": "serial and model", "serial,model\n\"KS": "line 2", "serial,model\n": "no device", "serial,model\na,b,c\n": "wrong number of fields", "serial,model\n<b>,x\n": "invalid"} {
		require.NoError(t, os.WriteFile(file, []byte(wrong), 0o600))
		r := d.run("register", "add", "--from", file)
		require.NotZero(t, r.code)
		require.Contains(t, r.err, says, wrong)
	}

	// Signed out by the authority: it is said, and nothing is lost.
	d.ok("standin", "authority", "sign-out", "thwaite")
	r := d.run("register", "drop", "KS 0072")
	require.Equal(t, 6, r.code, r.err)
	require.Contains(t, r.err, "Sign in again: earlybench account sign-in fell-authority")
	b.sees("Signed out by the authority")
	require.Contains(t, d.ok("identity"), "moor-desk one")
	require.NotContains(t, b.log.String(), "exception")
}

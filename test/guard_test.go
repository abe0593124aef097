package test

import (
	"context"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"
)

// console is the origin of the console, as the command names it.
func (d *demo) console() string {
	d.t.Helper()
	if d.page == "" {
		d.page, _, _ = strings.Cut(strings.TrimSpace(d.ok("console")), "/#")
	}
	return d.page
}

// ask sends a request to the TCP side of the service, as a browser would.
func (d *demo) ask(method, path, body string, header map[string]string) *http.Response {
	d.t.Helper()
	req, err := http.NewRequest(method, d.at.Service+path, strings.NewReader(body))
	require.NoError(d.t, err)
	req.Host = strings.TrimPrefix(d.console(), "http://")
	req.Header.Set("Content-Type", "application/json")
	for k, v := range header {
		if k == "Host" {
			req.Host = v
		} else {
			req.Header.Set(k, v)
		}
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(d.t, err)
	d.t.Cleanup(func() { res.Body.Close() })
	return res
}

func TestTheServiceAnswersOnlyItsOwnPages(t *testing.T) {
	d := startDemo(t)
	own := map[string]string{"Origin": d.console()}
	secret := func() string {
		url := strings.TrimSpace(d.ok("console"))
		return `{"secret":"` + url[strings.Index(url, "=")+1:] + `"}`
	}
	once := secret()
	res := d.ask("POST", "/api/v1/sign-in", once, own)
	require.Equal(t, 204, res.StatusCode)
	cookie := res.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/api"} {
		require.Contains(t, cookie, want)
	}
	session := strings.Split(cookie, ";")[0]
	with := func(more map[string]string) map[string]string {
		h := map[string]string{"Cookie": session}
		for k, v := range more {
			h[k] = v
		}
		return h
	}

	require.Equal(t, 200, d.ask("GET", "/api/v1/bench", "", with(nil)).StatusCode)

	hands := strings.Join(strings.SplitN(d.at.Hands, "/", 4)[:3], "/") // its origin, and no other

	cases := []struct {
		name, method, path, body string
		header                   map[string]string
		status                   int
	}{
		{"a page of the console needs no session", "GET", "/", "", nil, 200},
		{"the interface needs one", "GET", "/api/v1/devices", "", nil, 401},
		{"with it, it answers", "GET", "/api/v1/devices", "", with(nil), 200},
		{"a secret works once", "POST", "/api/v1/sign-in", once, own, 403},
		{"a wrong session is none", "GET", "/api/v1/devices", "", map[string]string{"Cookie": session + "x"}, 401},
		{"another host name gets nothing, though it points here", "GET", "/api/v1/devices", "", with(map[string]string{"Host": "evil.invalid"}), 421},
		{"nor does the address of the port, which everybody knows", "GET", "/api/v1/devices", "", with(map[string]string{"Host": d.at.Service[len("http://"):]}), 421},
		{"not even for the page", "GET", "/", "", with(map[string]string{"Host": d.at.Service[len("http://"):]}), 421},
		{"nor the name with another port", "GET", "/", "", map[string]string{"Host": strings.TrimPrefix(d.console(), "http://") + "1"}, 421},
		{"not even localhost", "GET", "/", "", map[string]string{"Host": strings.Replace(d.at.Service[len("http://"):], "127.0.0.1", "localhost", 1)}, 421},
		{"a write without an origin is refused", "POST", "/api/v1/devices/heron-2/admission", "", with(nil), 403},
		{"a write from another page is refused", "POST", "/api/v1/devices/heron-2/admission", "", with(map[string]string{"Origin": "http://evil.invalid"}), 403},
		{"even from the hands page", "POST", "/api/v1/devices/heron-2/admission", "", with(map[string]string{"Origin": d.at.Hands}), 403},
		{"a cross-site write is refused", "POST", "/api/v1/devices/heron-2/admission", "", with(map[string]string{"Sec-Fetch-Site": "cross-site"}), 403},
		{"a browser names no directory to build from", "POST", "/api/v1/projects", `{"dir":"/tmp"}`, with(own), 403},
		{"however it is written", "POST", "/api/v1/Projects", `{"dir":"/tmp"}`, with(own), 405},
		{"with whatever behind it", "POST", "/api/v1/projects/", `{"dir":"/tmp"}`, with(own), 405},
		{"or in between", "POST", "/api/v1/%70rojects", `{"dir":"/tmp"}`, with(own), 405},
		{"a browser puts no sheet beside the bench", "POST", "/api/v1/sheets", `{"text":"sheet: x"}`, with(own), 403},
		{"nor takes one away", "DELETE", "/api/v1/sheets/tarn", "", with(own), 403},
		{"however that is written", "DELETE", "/api/v1/SHEETS/tarn", "", with(own), 405},
		{"it does read them", "GET", "/api/v1/sheets", "", with(nil), 200},
		{"it asks why", "GET", "/api/v1/devices/heron-2/why", "", with(nil), 200},
		{"it asks why of what does not show up", "GET", "/api/v1/devices/unseen/why", "", with(nil), 200},
		{"it answers", "POST", "/api/v1/devices/unseen/answers", `{"check":"charging","answer":"yes"}`, with(own), 204},
		{"an answer that is none", "POST", "/api/v1/devices/unseen/answers", `{"check":"charging","answer":"perhaps"}`, with(own), 422},
		{"a check that is none", "POST", "/api/v1/devices/unseen/answers", `{"check":"x","answer":"yes"}`, with(own), 404},
		{"an answer that is too long", "POST", "/api/v1/devices/unseen/answers", `{"check":"` + strings.Repeat("x", 90) + `","answer":"yes"}`, with(own), 422},
		{"it takes an answer back", "DELETE", "/api/v1/devices/unseen/answers/charging", "", with(own), 204},
		{"it answers only from its own pages", "DELETE", "/api/v1/devices/unseen/answers/charging", "", with(nil), 403},
		{"a remedy of no cause", "POST", "/api/v1/devices/heron-2/remedies", `{"cause":"x"}`, with(own), 404},
		{"a fact that people cannot know", "POST", "/api/v1/devices/heron-2/facts", `{"key":"usb.link","value":"yes"}`, with(own), 422},
		{"a fact of nobody", "POST", "/api/v1/devices/nobody/facts", `{"key":"device.locked","value":"yes"}`, with(own), 404},
		{"what was learned", "GET", "/api/v1/learned", "", with(nil), 200},
		{"what was known before", "GET", "/api/v1/devices/heron-2/history", "", with(nil), 200},
		{"the sheet of a device", "GET", "/api/v1/devices/heron-2/sheet", "", with(nil), 200},
		{"nor lets others in", "POST", "/api/v1/sign-in-addresses", "", with(own), 403},
		{"a GET has no effect", "GET", "/api/v1/runs", "", with(nil), 404},
		{"a device that is not there", "GET", "/api/v1/devices/heron-7", "", with(nil), 404},
		{"a body that is none", "POST", "/api/v1/runs", "{", with(own), 400},
		{"a body with a mistake", "POST", "/api/v1/runs", `{"app":1}`, with(own), 422},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			res := d.ask(c.method, c.path, c.body, c.header)
			raw, _ := io.ReadAll(res.Body)
			require.Equal(t, c.status, res.StatusCode, string(raw))
			want := "default-src 'self'; img-src 'self' data:; frame-src " + hands + ";"
			if strings.HasPrefix(c.path, "/api/") {
				want = "default-src 'none'"
			}
			require.Contains(t, res.Header.Get("Content-Security-Policy"), want)
			if c.status >= 400 && strings.HasPrefix(c.path, "/api/") {
				require.Equal(t, "application/problem+json", res.Header.Get("Content-Type"), string(raw))
				require.Contains(t, string(raw), `"detail"`)
			}
		})
	}

	// Who asks under another name is told how to go on, and not the name.
	name := strings.TrimPrefix(d.console(), "http://")
	require.Regexp(t, `^bench-[a-z2-7]{26}\.localhost:[0-9]+$`, name)
	for _, host := range []string{d.at.Service[len("http://"):], "evil.invalid"} {
		for _, path := range []string{"/", "/keys", "/api/v1/bench"} {
			raw, err := io.ReadAll(d.ask("GET", path, "", map[string]string{"Host": host}).Body)
			require.NoError(t, err)
			require.Contains(t, string(raw), "earlybench console")
			require.NotContains(t, string(raw), strings.Split(name, ".")[0])
		}
	}

	// All browsers are signed out at once, and what was printed before signs none in.
	printed := secret()
	require.Contains(t, d.ok("console", "--sign-out"), "One browser was signed out.")
	require.Equal(t, 401, d.ask("GET", "/api/v1/bench", "", with(nil)).StatusCode)
	require.Equal(t, 403, d.ask("POST", "/api/v1/sign-in", printed, own).StatusCode)
	for _, path := range []string{"/API/v1/devices", "/Api/v1/bench", "//api/v1/devices", "/api//v1/devices", "/%61pi/v1/devices"} {
		raw, err := io.ReadAll(d.ask("GET", path, "", nil).Body)
		require.NoError(t, err)
		require.NotContains(t, string(raw), "heron-1", "without a session nothing is told at %s", path)
	}
	info, err := os.Stat(d.at.Socket)
	require.NoError(t, err)
	require.Zero(t, info.Mode().Perm()&0o077, "the socket is its owner's only")
}

func TestTheOpenAPIDocumentIsValidAndTheConsolesTypesAreMadeFromIt(t *testing.T) {
	d := startDemo(t)
	res := d.ask("GET", "/api/openapi.json", "", nil)
	require.Equal(t, 200, res.StatusCode)
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Contains(t, string(raw), `"openapi":"3.1`)
	committed, err := os.ReadFile("../console/openapi.json")
	require.NoError(t, err)
	require.JSONEq(t, string(committed), string(raw), "make types makes the console's document again")
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(context.Background()))
	require.NotNil(t, doc.Paths.Find("/api/v1/devices/{handle}/why"))
}

func TestWrongCommandsSayWhatWasMeant(t *testing.T) {
	d := startDemo(t)
	cases := []struct {
		name string
		args []string
		code int
		says string
	}{
		{"a typing mistake", []string{"rak"}, 2, "did you mean rack"},
		{"an option that is not there", []string{"rack", "--colour"}, 2, "nknown flag: --colour"},
		{"a device that is not there", []string{"why", "heron-7"}, 1, "there are heron-1, heron-2"},
		{"an empty name", []string{"why", ""}, 2, "is empty"},
		{"no device", []string{"run", "demo/apps/callout"}, 2, "heron-1  ready"},
		{"a directory that is none", []string{"run", "./nowhere", "heron-1"}, 2, "neither a directory or app file here nor an app id"},
		{"a directory without a project", []string{"run", "docs", "heron-1"}, 1, ".earlybench.yaml"},
		{"an app that nobody knows", []string{"run", "fellgate/other", "heron-1"}, 1, "earlybench project add"},
		{"a device that is blocked", []string{"run", "demo/apps/callout", "heron-2"}, 3, "does not let computers debug"},
		{"an empty handle", []string{"rack", "set", "heron-2", "--handle", ""}, 1, "lower-case letter"},
		{"a very long handle", []string{"rack", "set", "heron-2", "--handle", strings.Repeat("a", 300)}, 1, "up to 39"},
		{"a handle that is taken", []string{"rack", "set", "heron-2", "--handle", "heron-1"}, 1, "another device has that handle"},
		{"a driver set that is none", []string{"driver", "add", "README.md"}, 1, "not a ZIP file"},
		{"a driver set that is not there", []string{"driver", "add", "none.ebset"}, 2, "no such file"},
		{"an address without a port", []string{"host", "add", "attic", "--usbip", "nowhere", "--control", "127.0.0.1:1"}, 1, "HOST:PORT"},
		{"a host without addresses", []string{"host", "add", "attic"}, 2, "--control is missing"},
		{"a body that is not there", []string{"standin", "plug", "heron-7"}, 1, "connected to the hub"},
		{"a size that is none", []string{"standin", "pull", "heron-1", "--after", "much"}, 2, "3MB"},
		{"what is not on the screen", []string{"standin", "touch", "heron-2", "Batch"}, 1, `there are "Settings"`},
		{"a step that is not there", []string{"prep", "heron-2", "--confirm", "dance"}, 1, "dance"},
		{"a sheet that is none", []string{"sheet", "check", "README.md"}, 1, "README.md:"},
		{"a sheet that is not there", []string{"sheet", "check", "none.yaml"}, 2, "no such file"},
		{"a sheet that is right", []string{"sheet", "check", "sheets/tarn/tarn.yaml", "sheets/tarn/halden.yaml"}, 0, "no errors; 9 models"},
		{"consent to another thing", []string{"job", "show", "none"}, 1, "not on record"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r := d.run(c.args...)
			require.Equal(t, c.code, r.code, r.out+r.err)
			require.Contains(t, r.out+r.err, c.says)
		})
	}
	require.Equal(t, "mode", d.device("heron-2").First, "nothing was changed by all that")
}

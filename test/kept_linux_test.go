package test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	keys "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/safe/holder"
)

// asked is one request that would change something.
type asked struct {
	route string // as the document of the interface names it
	path  string // the route with its parameters; "" for the route itself
	body  any    // JSON; a string is sent as it is
	// keeps says nothing of the request is kept, so that it may succeed although nothing can be written.
	keepsNothing bool
}

// answered is what came of a request.
type answered struct {
	asked
	status int
	text   string
}

// owner sends requests as the owner does, by the service's socket.
type owner struct {
	t    testing.TB
	http *http.Client
}

func (d *demo) owner() owner {
	socket := d.at.Socket
	t := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	}}
	d.t.Cleanup(t.CloseIdleConnections)
	return owner{d.t, &http.Client{Transport: t, Timeout: 2 * patience}}
}

func (o owner) send(method, path string, body any) (int, string) {
	text, raw := body.(string)
	if !raw && body != nil {
		b, err := json.Marshal(body)
		require.NoError(o.t, err)
		text = string(b)
	}
	req, err := http.NewRequest(method, "http://bench"+path, strings.NewReader(text))
	require.NoError(o.t, err)
	req.Header.Set("Content-Type", "application/json")
	res, err := o.http.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	got, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, err.Error()
	}
	return res.StatusCode, string(got)
}

// read is what a GET answers.
func (o owner) read(path string) any {
	o.t.Helper()
	status, text := o.send("GET", path, nil)
	require.Equal(o.t, 200, status, "%s: %s", path, text)
	var v any
	require.NoError(o.t, json.Unmarshal([]byte(text), &v), path)
	return v
}

// written are the writing routes of the interface.
func (o owner) written() (routes []string) {
	doc := o.read("/api/openapi.json").(map[string]any)
	for path, methods := range doc["paths"].(map[string]any) {
		for method := range methods.(map[string]any) {
			if m := strings.ToUpper(method); m != "GET" {
				routes = append(routes, m+" "+path)
			}
		}
	}
	slices.Sort(routes)
	return routes
}

// inUse gives the demo something of every kind that can be changed or forgotten.
func (d *demo) inUse() {
	d.t.Helper()
	d.waits("heron-1", "linked", "open")
	code := userCode.FindString(d.ok("account", "sign-in", "--wait=false"))
	require.NotEmpty(d.t, code)
	made := url.Values{"code": {code}, "account": {"ridgeway"}, "password": {"fog-and-fell"}, "name": {"Rowan Thwaite"}, "crew": {"ridgeway"}, "standing": {"full"}, "do": {"make"}}
	require.Contains(d.t, benchtest.Types(d.t, d.at.Authority+"code", made), "is signed in")
	d.eventually("it is signed in", func() bool { return strings.Contains(d.ok("account"), "places") })
	for _, line := range []string{
		"identity new first", "identity new spare", "register add heron-1", "grant new heron-1 --identity first", "grant new heron-1 --identity spare",
		"access add drawer --may use --for 1h", "rack add --model Kittiwake", "rack add --model Kittiwake", "rack add --model Kittiwake", "retire kittiwake-2 --yes", "retire kittiwake-3 --yes",
	} {
		d.ok(strings.Fields(line)...)
	}
	d.permit("fellgate/callout")
	_, err := d.api.AddKit(d.t.Context(), client.NewKit{Name: "go", Path: runtime.GOROOT()})
	require.NoError(d.t, err)
	secret := filepath.Join(d.t.TempDir(), "secret")
	require.NoError(d.t, os.WriteFile(secret, []byte("hush\n"), 0o600))
	d.ok("app", "secret", "set", "fellgate/callout", "paths", "--from", secret)
	err = d.api.Answer(d.t.Context(), "heron-2", "back-room", "no")
	require.NoError(d.t, err)
}

// writes are requests for every writing route, each of which would succeed if it could be kept.
func (d *demo) writes(o owner) []asked {
	type m = map[string]any
	every := func(path string) (items []m) {
		list, _ := o.read("/api/v1" + path).(m)["items"].([]any)
		require.NotEmpty(d.t, list, path)
		for _, i := range list {
			items = append(items, i.(m))
		}
		return items
	}
	id := func(path, field string) string {
		v, ok := every(path)[0][field].(string)
		require.True(d.t, ok, "%s has no %s", path, field)
		return url.PathEscape(v)
	}
	s, err := d.api.Safe(d.t.Context())
	require.NoError(d.t, err)
	seal := func(purpose, text string) []byte {
		e, err := keys.Envelope(s.Public, purpose, []byte(text))
		require.NoError(d.t, err)
		return e
	}
	proof := m{"key_file": filepath.Join(d.state, "demo", "unlock.key")}
	app := filepath.Join(d.t.TempDir(), "small.ebapp")
	project := benchtest.SmallApp(d.t, false)
	require.NoError(d.t, os.Rename(filepath.Join(project, "source"), filepath.Join(project, "app.wasm")))
	d.ok("app", "pack", project, app)
	set, err := os.ReadFile(filepath.Join(d.state, "standins", "sets", "halden-link-5-5.0.ebset"))
	require.NoError(d.t, err)
	grants := every("/statements")
	k2, k4, heron, heron2, ivory, safe, identity := "/devices/kittiwake-2", "/devices/kittiwake-4", "/devices/heron-1", "/devices/heron-2", "/devices/ivory-1", "/safe", "/identities/first"
	return []asked{
		{"POST /access", "", m{"name": "night", "rights": []string{"use"}, "for": "1h"}, false},
		{"DELETE /access/{id}", "/access/drawer", nil, false},
		{"POST /accounts", "", m{}, false},
		{"PATCH /accounts/{account}", "/accounts/" + id("/accounts", "id"), m{"use": true, "crew": "ridgeway"}, false},
		{"POST /app-ids", "", m{"id": "ridgeway/other"}, true}, // it is the authority that keeps it
		{"POST /app-secrets", "", m{"app": "fellgate/callout", "name": "maps", "envelope": seal(holder.EnvelopePurpose("secret.put", "fellgate/callout maps"), "quiet")}, false},
		{"DELETE /app-secrets", "/app-secrets?app=fellgate/callout&name=paths", nil, false},
		{"POST /apps", "", m{"path": app}, false},
		{"PATCH /bench", "", m{"name": "other-desk"}, false},
		{"POST /devices", "", m{"model": "Kittiwake", "handle": "kittiwake-9"}, false},
		{"PATCH /devices/{handle}", heron, m{"handle": "heron-9"}, false},
		{"DELETE /devices/{handle}", k4, nil, false},
		{"POST /devices/{handle}/admission", heron2 + "/admission", nil, false},
		{"POST /devices/{handle}/allow", heron + "/allow", m{"app": "fellgate/callout"}, false},
		{"POST /devices/{handle}/answers", heron2 + "/answers", m{"check": "back-room", "answer": "yes"}, false},
		{"POST /devices/{handle}/driver", ivory + "/driver", m{"accept": id(ivory+"/drivers", "digest")}, false},
		{"DELETE /devices/{handle}/driver", heron + "/driver", nil, false},
		{"POST /devices/{handle}/facts", k4 + "/facts", m{"key": "air.network", "value": "loft"}, false},
		{"POST /devices/{handle}/remedies", heron2 + "/remedies", m{"cause": "way-hidden"}, false},
		{"POST /devices/{handle}/retirement", heron2 + "/retirement", nil, false},
		{"DELETE /devices/{handle}/retirement", k2 + "/retirement", nil, false},
		{"POST /devices/{handle}/retirement/told", "/devices/kittiwake-3/retirement/told", m{"step": "close"}, false},
		{"POST /devices/{handle}/told", heron2 + "/told", m{"step": "find"}, false},
		{"POST /drivers", "", string(set), false},
		{"POST /endings/calendar", "", m{"anew": true}, false},
		{"PUT /endings/notify", "", m{"webhook": "", "command": []string{"/bin/true"}}, false},
		{"PATCH /hosts/{id}", "/hosts/loft", m{"shared": true}, false},
		{"POST /hosts", "", m{"name": "pit", "usbip": "127.0.0.1:9", "control": "127.0.0.1:9"}, false},
		{"POST /identities", "", m{"name": "second"}, false},
		{"POST /identities/{id}/renew", identity + "/renew", nil, false},
		{"POST /kits", "", m{"name": "go", "path": runtime.GOROOT()}, false},
		{"DELETE /kits/{kit}", "/kits/go?path=" + url.QueryEscape(runtime.GOROOT()), nil, false},
		{"DELETE /learned", "/learned?all=true", nil, false},
		{"POST /needs", "", m{"accept": o.read("/api/v1/needs").(m)["accept"]}, false},
		{"POST /projects", "", m{"dir": project}, false},
		{"POST /register", "", m{"others": []m{{"serial": "KS 0071", "model": "KS"}}}, false},
		{"POST /runs", "", m{"app": "fellgate/callout", "device": "heron-1", "try": true}, false},
		{"PATCH /safe", safe, m{"idle_seconds": 600, "proof": proof}, false},
		{"POST /safe/rules", "", m{"item": s.Contents[0].ID, "app": "fellgate/other", "purpose": "sign an app", "for_seconds": 600, "proof": proof}, false},
		{"POST /safe/export", "", m{"envelope": seal(holder.EnvelopePurpose("export", ""), "a long passphrase"), "proof": proof}, false},
		{"POST /statements", "", m{"kind": "grant", "devices": []string{"heron-1"}, "identity": "first"}, false},
		{"DELETE /statements/{id}", fmt.Sprint("/statements/", grants[0]["id"]), nil, false},
		{"POST /statements/{id}/put", fmt.Sprint("/statements/", grants[1]["id"], "/put"), m{"devices": []string{"heron-1"}}, false},
		{"DELETE /identities/{id}", "/identities/spare", nil, false},
		{"DELETE /register/{id}", "/register/heron-1", nil, false},
		{"POST /sheets", "", m{"text": "family: drawer"}, false},
	}
}

// sendAll sends requests together.
func (o owner) sendAll(all []asked) []answered {
	out := make([]answered, len(all))
	var group sync.WaitGroup
	for i, w := range all {
		group.Go(func() {
			method, path, _ := strings.Cut(w.route, " ")
			if w.path != "" {
				path = w.path
			}
			status, text := o.send(method, "/api/v1"+path, w.body)
			out[i] = answered{w, status, text}
		})
	}
	group.Wait()
	return out
}

func TestWhatIsAcknowledgedIsKeptOnEveryRoute(t *testing.T) {
	d := startDemoIn(t, t.TempDir())
	d.inUse()
	o := d.owner()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(d.state, "bench.db"))
	require.NoError(t, err)
	defer db.Close()
	c, err := db.Conn(t.Context())
	require.NoError(t, err)
	all := d.writes(o)
	_, err = c.ExecContext(t.Context(), "BEGIN IMMEDIATE")
	require.NoError(t, err)
	for _, a := range o.sendAll(all) {
		t.Logf("%-40s %d %.200s", a.route, a.status, a.text)
	}
	_, err = c.ExecContext(t.Context(), "ROLLBACK")
	require.NoError(t, err)
	_, _, _, _, _ = fmt.Sprint, maps.Keys[map[string]int], syscall.Kill, time.Now, client.New
}

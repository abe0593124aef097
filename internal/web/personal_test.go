package web_test

import (
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/standin"
)

// person is the browser of somebody who has no bench.
type person struct {
	t      *testing.T
	page   client.PersonPage
	origin string
	http   *http.Client
	cookie string
}

func (d *desk) person(t *testing.T, ask client.PersonPageAsk) *person {
	t.Helper()
	ask.For, ask.Address = 3600, "127.0.0.1"
	page, err := d.Client.OpenPersonPage(t.Context(), ask)
	require.NoError(t, err)
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true} // #nosec G402 -- the person compares its fingerprint
	return &person{t: t, page: page, origin: page.Page, http: &http.Client{Transport: transport}}
}

// asks sends a request as a page of the bench does, and returns the status and what came.
func (p *person) asks(method, path, body string, header ...string) (int, string) {
	p.t.Helper()
	req, err := http.NewRequestWithContext(p.t.Context(), method, p.origin+path, strings.NewReader(body))
	require.NoError(p.t, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Origin", p.origin)
	req.Header.Set("Cookie", p.cookie)
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := p.http.Do(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	if c := res.Cookies(); len(c) > 0 {
		require.True(p.t, c[0].HttpOnly && c[0].Secure && c[0].SameSite == http.SameSiteStrictMode)
		p.cookie = c[0].Name + "=" + c[0].Value
	}
	return res.StatusCode, string(raw)
}

func (p *person) enters() int {
	p.t.Helper()
	_, secret, _ := strings.Cut(p.page.URL, "#sign-in=")
	status, _ := p.asks("POST", "/api/v1/sign-in", `{"secret":"`+secret+`"}`)
	return status
}

// screen opens a screen, and says what a viewer does after its greeting.
func (p *person) screen(handle string) *websocket.Conn {
	p.t.Helper()
	dialer := websocket.Dialer{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, Subprotocols: []string{"binary"}} // #nosec G402
	conn, res, err := dialer.Dial(strings.Replace(p.origin, "https", "wss", 1)+"/api/v1/devices/"+handle+"/screen", http.Header{"Origin": {p.origin}, "Cookie": {p.cookie}})
	require.NoError(p.t, err, "%v", res)
	p.t.Cleanup(func() { conn.Close() })
	require.NoError(p.t, conn.SetReadDeadline(time.Now().Add(benchtest.Patience)))
	for _, say := range []string{"RFB 003.008\n", "\x01", "\x01"} {
		p.reads(conn)
		require.NoError(p.t, conn.WriteMessage(websocket.BinaryMessage, []byte(say)))
	}
	return conn
}

func (p *person) reads(conn *websocket.Conn) {
	p.t.Helper()
	_, _, err := conn.ReadMessage()
	require.NoError(p.t, err)
}

// served reports whether anybody answers at the address.
func (p *person) served() bool {
	res, err := p.http.Get(p.origin + "/")
	if err != nil {
		return false
	}
	res.Body.Close()
	return true
}

// fingerprint is the SHA-256 of the certificate that is shown at an address.
func (p *person) fingerprint() string {
	p.t.Helper()
	conn, err := tls.Dial("tcp", strings.TrimPrefix(p.origin, "https://"), &tls.Config{InsecureSkipVerify: true}) // #nosec G402
	require.NoError(p.t, err)
	defer conn.Close()
	return fmt.Sprintf("%X", sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw))
}

func handsetDesk(t *testing.T) (*desk, *standin.Rig) {
	t.Helper()
	d := newDesk(t)
	r := d.Tablet()
	k := d.Watch(r)
	d.Linked(k)
	_, err := d.Rack.Add(t.Context(), "heron-9", "Heron 4")
	require.NoError(t, err)
	return d, r
}

func TestAPersonWithoutABenchSeesChosenDevicesAndNothingElse(t *testing.T) {
	d, _ := handsetDesk(t)
	handle := d.Rack.All()[0].Device().Handle
	if handle == "heron-9" {
		handle = d.Rack.All()[1].Device().Handle
	}
	p := d.person(t, client.PersonPageAsk{Person: "wren", Devices: []string{handle}, May: "use"})
	status, _ := p.asks("GET", "/api/v1/devices", "")
	require.Equal(t, http.StatusUnauthorized, status, "before the browser is let in")
	require.Equal(t, http.StatusNoContent, p.enters())
	again := *p
	again.cookie = ""
	require.Equal(t, http.StatusForbidden, again.enters(), "the address works once")

	_, all := p.asks("GET", "/api/v1/devices", "")
	require.Contains(t, all, `"handle":"`+handle+`"`)
	require.NotContains(t, all, "heron-9")
	_, bench := p.asks("GET", "/api/v1/bench", "")
	require.Contains(t, bench, `"may":["use"]`)
	_, hidden := p.asks("GET", "/api/v1/devices/heron-9", "")
	status, unknown := p.asks("GET", "/api/v1/devices/nothing-9", "")
	require.Equal(t, http.StatusForbidden, status)
	require.Equal(t, unknown, hidden, "a hidden device and one that is not there")

	// Written by hand: what the key of a person is for.
	for _, r := range d.Routes() {
		path := strings.NewReplacer(":handle", handle, ":id", "nothing", ":name", "nothing", ":digest", "nothing", "*", "nothing").Replace(r.Path)
		if !strings.HasPrefix(path, "/api/v1/") || path == "/api/v1/sign-in" {
			continue
		}
		may := r.Method == http.MethodGet && slices.Contains([]string{"/api/v1/bench", "/api/v1/devices", "/api/v1/devices/:handle", "/api/v1/devices/:handle/screen", "/api/v1/devices/:handle/log", "/api/v1/events"}, r.Path)
		if strings.HasSuffix(path, "/log") || strings.HasSuffix(path, "/events") {
			continue // streams, read below
		}
		status, _ := p.asks(r.Method, path, "{}")
		require.Equal(t, !may, status == http.StatusForbidden, "%s %s: %d", r.Method, path, status)
	}
	for what, header := range map[string][]string{"another page": {"Origin", "https://elsewhere.example"}, "another name": {"Host", "elsewhere.example"}} {
		if header[0] == "Host" {
			req, err := http.NewRequest(http.MethodGet, p.origin+"/api/v1/devices", nil)
			require.NoError(t, err)
			req.Host = header[1]
			res, err := p.http.Do(req)
			require.NoError(t, err)
			res.Body.Close()
			require.Equal(t, http.StatusMisdirectedRequest, res.StatusCode, what)
			continue
		}
		status, _ := p.asks("POST", "/api/v1/sign-in", `{"secret":"x"}`, header...)
		require.Equal(t, http.StatusForbidden, status, what)
	}
	// The key is worth no more elsewhere.
	_, secret, _ := strings.Cut(p.cookie, "=")
	d.keys["person"] = secret
	require.Equal(t, http.StatusForbidden, d.asks(t, "person", "GET", "/api/v1/round"))
	require.Equal(t, http.StatusOK, d.asks(t, "person", "GET", "/api/v1/devices/"+handle))
}

func TestAPersonWhoMayLookTouchesNothingAndIsCutOffAtTheEnd(t *testing.T) {
	d, r := handsetDesk(t)
	handle := ""
	for _, k := range d.Rack.All() {
		if k.Session() != nil {
			handle = k.Device().Handle
		}
	}
	touched := func(may, name string) bool {
		p := d.person(t, client.PersonPageAsk{Person: name, Devices: []string{handle}, May: may})
		require.Equal(t, http.StatusNoContent, p.enters())
		conn := p.screen(handle)
		before := benchtest.Read(t, r, "device-1")
		at := before.Elements[len(before.Elements)-1]    // Settings
		x, y := uint16(2*at.X+at.W), uint16(2*at.Y+at.H) // two pixels a point
		var tap []byte
		for _, down := range []byte{1, 0} { // PointerEvent, RFC 6143 section 7.5.5
			tap = append(tap, 5, down, byte(x>>8), byte(x), byte(y>>8), byte(y))
		}
		request := []byte{3, 0, 0, 0, 0, 0, 0, 10, 0, 10}
		require.NoError(t, conn.WriteMessage(websocket.BinaryMessage, append(tap, request...)))
		p.reads(conn) // the picture that was asked for behind the touch
		p.reads(conn)
		changed := false
		for patience := map[string]time.Duration{"look": 500 * time.Millisecond, "use": benchtest.Patience}[may]; patience > 0 && !changed; patience -= 50 * time.Millisecond {
			time.Sleep(50 * time.Millisecond)
			changed = !reflect.DeepEqual(before.Elements, benchtest.Read(t, r, "device-1").Elements)
		}
		require.NoError(t, d.Client.DropAccess(t.Context(), name))
		ended := time.Now()
		for {
			if _, _, err := conn.ReadMessage(); err != nil {
				break
			}
		}
		require.Less(t, time.Since(ended), 2*time.Second, "the stream ends with the key")
		require.False(t, p.served(), "nobody listens there any more")
		return changed
	}
	require.False(t, touched("look", "wren"))
	require.True(t, touched("use", "finch"))
}

func TestThePageOfAPersonIsThereAfterARestartUntilItsEnd(t *testing.T) {
	d, _ := handsetDesk(t)
	p := d.person(t, client.PersonPageAsk{Person: "wren", Devices: []string{"heron-9"}, May: "look"})
	require.Equal(t, http.StatusNoContent, p.enters())
	require.NoError(t, d.Server.Close())
	after := d.Serve()
	d.Eventually("it is served as before", p.served)
	status, all := p.asks("GET", "/api/v1/devices", "")
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, all, "heron-9")
	require.Equal(t, strings.ReplaceAll(p.page.Fingerprint, ":", ""), p.fingerprint(), "the certificate that the person has compared")

	d.Clock.Move(2 * time.Hour)
	d.Eventually("it ends by the clock", func() bool { return !p.served() })
	keys, err := after.Client.Accesses(t.Context())
	require.NoError(t, err)
	require.True(t, keys[slices.IndexFunc(keys, func(k client.Access) bool { return k.Name == "wren" })].Over)
	_, err = after.Client.OpenPersonPage(t.Context(), client.PersonPageAsk{Person: "wren", Devices: []string{"heron-9"}, May: "look", For: 60, Address: "127.0.0.1"})
	require.NoError(t, err, "a name whose key has ended is free")
}

func TestAPageForAPersonIsRefusedWithItsReason(t *testing.T) {
	d, _ := handsetDesk(t)
	good := client.PersonPageAsk{Person: "wren", Devices: []string{"heron-9"}, May: "look", For: 60, Address: "127.0.0.1"}
	for says, change := range map[string]func(*client.PersonPageAsk){
		"not an address of this computer":           func(a *client.PersonPageAsk) { a.Address = "elsewhere.example" },
		"Listen at 192.0.2.1":                       func(a *client.PersonPageAsk) { a.Address = "192.0.2.1" },
		"is invalid: start with":                    func(a *client.PersonPageAsk) { a.Person = "Wren Two" },
		"Name the devices that wren may see":        func(a *client.PersonPageAsk) { a.Devices = []string{} },
		"it is not on record":                       func(a *client.PersonPageAsk) { a.Devices = []string{"nothing-1"} },
		"does not have the expected form":           func(a *client.PersonPageAsk) { a.May = "maintain" },
		"There is already an access key k-use":      func(a *client.PersonPageAsk) { a.Person = "k-use" },
		"does not have the expected form. body.for": func(a *client.PersonPageAsk) { a.For = 1 },
	} {
		ask := good
		change(&ask)
		_, err := d.Client.OpenPersonPage(t.Context(), ask)
		require.ErrorContains(t, err, says)
	}
}

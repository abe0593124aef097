package web_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/web"
)

// rights are the right that each route asks, written by hand. A route that is not
// here fails the test. public needs none.
var rights = map[string]string{
	"GET /*": "public", "GET /api/openapi.json": "public", "GET /api/openapi.yaml": "public", "GET /api/openapi-3.0.json": "public",
	"GET /api/openapi-3.0.yaml": "public", "POST /api/v1/sign-in": "public",

	"GET /api/*": "look", "GET /api/v1/apps": "look", "GET /api/v1/bench": "look", "GET /api/v1/devices": "look", "GET /api/v1/devices/:handle": "look",
	"GET /api/v1/devices/:handle/facts": "look", "GET /api/v1/devices/:handle/tellable": "look", "GET /api/v1/devices/:handle/history": "look", "GET /api/v1/devices/:handle/log": "look",
	"GET /api/v1/devices/:handle/prep": "look", "GET /api/v1/devices/:handle/report": "look", "GET /api/v1/devices/:handle/retirement": "look",
	"GET /api/v1/devices/:handle/sheet": "look", "GET /api/v1/devices/:handle/why": "look", "GET /api/v1/events": "look", "GET /api/v1/hosts": "look",
	"GET /api/v1/jobs": "look", "GET /api/v1/jobs/:id": "look", "GET /api/v1/learned": "look", "GET /api/v1/projects": "look", "GET /api/v1/round": "look",
	"GET /api/v1/drivers": "look", "GET /api/v1/sheets": "look", "GET /api/v1/unrecognised": "look", "GET /api/v1/tryouts": "look", "GET /api/v1/tryouts/:id": "look",
	"GET /api/v1/tryouts/:id/picture.png": "look", "POST /api/v1/sign-out": "look",
	"GET /api/v1/unrecognised/:name/draft": "look", "GET /api/v1/hosts/:id/tree": "look", "GET /api/v1/check": "look",
	"GET /api/v1/devices/:handle/drivers": "look", "GET /api/v1/depots": "look", "GET /api/v1/kits": "look", "GET /api/v1/links": "look", "GET /api/v1/network": "look", "GET /api/v1/adapters": "look", "GET /api/v1/devices/:handle/actions": "look", "POST /api/v1/devices/:handle/actions": "use", "POST /api/v1/adapters/look": "own", "POST /api/v1/adapters": "own", "DELETE /api/v1/adapters/:name": "maintain", "GET /api/v1/introduction": "look", "GET /api/v1/kits/:kit/environment": "look", "GET /api/v1/needs": "look", "GET /api/v1/licences/:digest": "look", "GET /api/v1/support": "look",
	"GET /api/v1/tidy": "look", "POST /api/v1/tidy": "maintain", "PUT /api/v1/tidy": "own", "POST /api/v1/backups": "own",
	"GET /api/v1/app-ids": "look", "GET /api/v1/endings": "look", "GET /api/v1/endings/notify": "own", "PUT /api/v1/endings/notify": "own", "POST /api/v1/endings/calendar": "own", "GET /calendar/:key.ics": "public", "GET /api/v1/statements": "look", "POST /api/v1/statements": "use", "DELETE /api/v1/statements/:id": "consent", "POST /api/v1/statements/:id/put": "use",
	"GET /api/v1/devices/:handle/statements": "look", "DELETE /api/v1/devices/:handle/statements/:id": "use", "POST /api/v1/devices/:handle/allow": "use", "GET /api/v1/devices/:handle/explain": "look", "GET /api/v1/may-run": "look",
	"GET /api/v1/authorities": "look", "GET /api/v1/accounts": "look", "GET /api/v1/register": "look", "POST /api/v1/register": "use", "DELETE /api/v1/register/:id": "consent",
	"POST /api/v1/authorities": "own", "POST /api/v1/authorities/look": "own", "DELETE /api/v1/authorities/:id": "own", "POST /api/v1/accounts": "consent", "PATCH /api/v1/accounts/:account": "consent", "DELETE /api/v1/accounts/:account": "consent",
	"GET /api/v1/identities": "look", "POST /api/v1/identities": "consent", "POST /api/v1/identities/:id/renew": "consent", "POST /api/v1/identities/:id/revoke": "consent",
	"DELETE /api/v1/identities/:id": "own", "POST /api/v1/identities/import": "own", "POST /api/v1/identities/:id/export": "own",
	"POST /api/v1/app-ids": "consent", "POST /api/v1/app-secrets": "consent", "DELETE /api/v1/app-secrets": "consent",
	"GET /api/v1/safe": "look", "GET /api/v1/developer": "look", "POST /api/v1/developer/signatures": "use",
	"POST /api/v1/safe": "own", "PATCH /api/v1/safe": "own", "POST /api/v1/safe/unlock": "consent", "POST /api/v1/safe/lock": "consent", "GET /api/v1/safe/uses": "consent",
	"POST /api/v1/safe/requests/:id": "consent", "POST /api/v1/safe/rules": "own", "DELETE /api/v1/safe/rules/:id": "consent", "POST /api/v1/safe/export": "own", "POST /api/v1/safe/import": "own",

	"DELETE /api/v1/devices/:handle/answers/:id": "use", "DELETE /api/v1/devices/:handle/retirement": "use", "GET /api/v1/devices/:handle/screen": "look", "GET /api/v1/devices/:handle/ports/:port": "use", "POST /api/v1/network/:name/login": "maintain",
	"DELETE /api/v1/devices/:handle": "use", "POST /api/v1/devices/:handle/apps/stop": "use", "POST /api/v1/devices/:handle/apps/remove": "use",
	"PATCH /api/v1/devices/:handle": "use", "POST /api/v1/devices": "use", "POST /api/v1/devices/:handle/admission": "use",
	"POST /api/v1/devices/:handle/answers": "use", "POST /api/v1/devices/:handle/facts": "use", "POST /api/v1/devices/:handle/find": "use",
	"POST /api/v1/devices/:handle/remedies": "use", "POST /api/v1/devices/:handle/retirement": "use", "POST /api/v1/devices/:handle/retirement/told": "use",
	"POST /api/v1/devices/:handle/told": "use", "POST /api/v1/jobs/:id/stop": "use", "POST /api/v1/jobs/:id/repeat": "use", "POST /api/v1/runs": "use",
	"POST /api/v1/links/restart": "use", "POST /api/v1/introduction": "use", "POST /api/v1/introduction/words": "use", "DELETE /api/v1/introduction": "use", "PUT /api/v1/devices/:handle/wireless": "use",
	"GET /api/v1/peers": "look", "GET /api/v1/peers/:name/check": "look", "GET /api/v1/peering": "look", "GET /api/v1/far-devices": "look", "GET /api/v1/loans": "look", "GET /api/v1/reservations": "look", "GET /api/v1/hands": "look", "GET /api/v1/handover": "look", "POST /api/v1/handover": "use", "GET /api/v1/hands/:hands": "look",
	"POST /api/v1/loans/:loan/hands": "use", "POST /api/v1/hands/:hands/answer": "use", "DELETE /api/v1/hands/:hands": "use",
	"POST /api/v1/reservations": "use", "POST /api/v1/reservations/:reservation/heard": "use", "DELETE /api/v1/reservations/:reservation": "use", "DELETE /api/v1/reservations/:reservation/devices/:handle": "use",
	"POST /api/v1/loans": "use", "POST /api/v1/loans/:loan/extend": "use", "DELETE /api/v1/loans/:loan": "use",
	"POST /api/v1/peers": "maintain", "PATCH /api/v1/peers/:name": "maintain", "DELETE /api/v1/peers/:name": "maintain", "POST /api/v1/invitations": "maintain",
	"POST /api/v1/peering": "maintain", "POST /api/v1/peering/words": "maintain", "DELETE /api/v1/peering": "maintain", "POST /api/v1/peering/answer": "maintain",
	"POST /api/v1/network": "maintain", "DELETE /api/v1/network/:name": "maintain", "POST /api/v1/devices/:handle/link/restart": "use",

	"DELETE /api/v1/confirmation": "consent", "GET /api/v1/audit": "consent", "POST /api/v1/confirmations": "consent", "GET /api/v1/sessions": "consent", "DELETE /api/v1/sessions": "consent", "DELETE /api/v1/sessions/:id": "consent", "POST /api/v1/devices/:handle/driver": "install", "POST /api/v1/needs": "consent", "POST /api/v1/devices/:handle/host": "consent", "DELETE /api/v1/devices/:handle/driver": "consent",

	"DELETE /api/v1/learned": "maintain", "DELETE /api/v1/support/:digest": "maintain", "DELETE /api/v1/sheets/:name": "maintain", "POST /api/v1/drivers": "maintain", "POST /api/v1/sheets": "maintain",

	"DELETE /api/v1/access/:id": "own", "DELETE /api/v1/hosts/:id": "own", "DELETE /api/v1/phone": "own", "GET /api/v1/access": "own", "GET /api/v1/phone": "own",
	"PATCH /api/v1/bench": "own", "PATCH /api/v1/hosts/:id": "own", "POST /api/v1/confirmations/:code": "own", "POST /api/v1/access": "own", "POST /api/v1/apps": "own", "POST /api/v1/hosts": "own", "POST /api/v1/phone": "own", "POST /api/v1/person-pages": "own",
	"DELETE /api/v1/depots/:id": "own", "POST /api/v1/depots": "own", "POST /api/v1/depots/look": "own", "POST /api/v1/hosts/look": "own", "POST /api/v1/support": "own", "POST /api/v1/kits": "own", "POST /api/v1/kits/:kit/fetch": "own", "DELETE /api/v1/kits/:kit": "own", "POST /api/v1/projects": "own", "POST /api/v1/sign-in-addresses": "own",
}

// callers are who asks, and what each may, written by hand too.
var callers = map[string][]string{
	"nobody": {}, "browser of long ago": {"look", "use", "consent"}, "browser": {"look", "use", "consent", "install"}, "owner": {"look", "use", "consent", "install", "maintain", "own"},
	"key look": {"look"}, "key use": {"look", "use"}, "key maintain": {"look", "maintain"}, "key that has ended": {},
	"key use over the socket": {"look", "use"},
}

// desk is a bench that is asked by all of them.
type desk struct {
	*benchtest.Bench
	*benchtest.Served
	keys map[string]string
}

func TestMain(m *testing.M) { leaks.None(m) }

func newDesk(t *testing.T, change ...func(*web.Config)) *desk {
	t.Helper()
	b := benchtest.New(t)
	d := &desk{Bench: b, Served: b.Serve(change...), keys: map[string]string{}}
	keys := &access.Keys{Store: b.Store, Clock: b.Clock}
	for _, right := range []string{"look", "use", "maintain"} {
		secret, _, err := keys.Make(t.Context(), "k-"+right, []string{right}, time.Hour)
		require.NoError(t, err)
		d.keys["key "+right] = secret
	}
	d.keys["key use over the socket"] = d.keys["key use"]
	secret, _, err := keys.Make(t.Context(), "short", []string{"use"}, time.Nanosecond)
	require.NoError(t, err)
	d.keys["key that has ended"] = secret
	return d
}

// session signs a browser in.
func (d *desk) session(t *testing.T) string { return d.sessionSince(t, time.Now()) }

func (d *desk) sessionSince(t *testing.T, since time.Time) string {
	t.Helper()
	secret := fmt.Sprint("secret", time.Now().UnixNano())
	sum := sha256.Sum256([]byte(secret))
	require.NoError(t, d.Store.SaveSession(t.Context(), store.Session{Secret: hex.EncodeToString(sum[:]), Agent: "test", Created: since, Ends: time.Now().Add(time.Hour)}))
	return "earlybench-" + d.Base[strings.LastIndex(d.Base, ":")+1:] + "=" + secret
}

// asks sends a request as a caller and returns the status.
func (d *desk) asks(t *testing.T, who, method, path string) int {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	overSocket := who == "owner" || strings.HasSuffix(who, "socket")
	base, client := d.Base, http.DefaultClient
	if overSocket {
		base, client = "http://bench", d.Dialer()
	}
	body := strings.NewReader("")
	if method != http.MethodGet {
		body = strings.NewReader("{}")
	}
	req, err := http.NewRequestWithContext(ctx, method, base+path, body)
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	if key := d.keys[who]; key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	if since, is := map[string]time.Duration{"browser": 0, "browser of long ago": 2 * time.Hour}[who]; is {
		req.Header.Set("Cookie", d.sessionSince(t, time.Now().Add(-since)))
		req.Header.Set("Origin", d.Base)
	}
	if who == "nobody" {
		req.Header.Set("Origin", d.Base)
	}
	res, err := client.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	return res.StatusCode
}

func TestEveryRouteIsForThoseWhoHaveItsRight(t *testing.T) {
	d := newDesk(t)
	routes := d.Routes()
	require.Greater(t, len(routes), 50)
	seen := map[string]bool{}
	for _, r := range routes {
		name := r.Method + " " + r.Path
		right, listed := rights[name]
		require.True(t, listed, "%s is not in the table: write down which right it asks", name)
		seen[name] = true
		path := strings.NewReplacer(":handle", "nothing-9", ":id", "nothing", ":name", "nothing", ":digest", "nothing", "*", "nothing").Replace(r.Path)
		for who, has := range callers {
			status := d.asks(t, who, r.Method, path)
			refused := status == http.StatusUnauthorized || status == http.StatusForbidden
			may := right == "public" || contains(has, right)
			if name == "POST /api/v1/sign-in" {
				may, refused = true, status == http.StatusUnauthorized // a wrong secret is 403
			}
			if who == "key that has ended" && right == "public" {
				continue // a wrong key is told so everywhere
			}
			require.Equal(t, !may, refused, "%s asks %s: %d", who, name, status)
			if !may && len(has) == 0 {
				require.Equal(t, http.StatusUnauthorized, status, "%s asks %s", who, name)
			}
		}
	}
	for name := range rights {
		require.True(t, seen[name], "%s is in the table, but no route", name)
	}
}

func contains(has []string, right string) bool {
	for _, h := range has {
		if h == right {
			return true
		}
	}
	return false
}

func TestAKeyNeverHasWhatIsAPersons(t *testing.T) {
	d := newDesk(t)
	keys := &access.Keys{Store: d.Store, Clock: d.Insides.Clock}
	for _, right := range []string{"consent", "own"} {
		_, _, err := keys.Make(t.Context(), "bad", []string{"use", right}, time.Hour)
		require.ErrorContains(t, err, "a key cannot have the right "+right)
	}
	for name, make := range map[string]func() error{
		"no end":       func() error { _, _, err := keys.Make(t.Context(), "x", []string{"use"}, 0); return err },
		"a long time":  func() error { _, _, err := keys.Make(t.Context(), "x", []string{"use"}, 9000*time.Hour); return err },
		"no right":     func() error { _, _, err := keys.Make(t.Context(), "x", nil, time.Hour); return err },
		"a bad name":   func() error { _, _, err := keys.Make(t.Context(), "X y", []string{"use"}, time.Hour); return err },
		"a taken name": func() error { _, _, err := keys.Make(t.Context(), "k-use", []string{"use"}, time.Hour); return err },
	} {
		require.Error(t, make(), name)
	}
	_, err := d.Rack.Add(t.Context(), "heron-9", "Heron 4")
	require.NoError(t, err)
	pin := `{"device_key":"SHA256:` + strings.Repeat("A", 43) + `"}`
	for who, header := range map[string]http.Header{"a key": {"Authorization": {"Bearer " + d.keys["key use"]}},
		"a browser of long ago": {"Cookie": {d.sessionSince(t, time.Now().Add(-2*time.Hour))}, "Origin": {d.Base}}} {
		req, err := http.NewRequest(http.MethodPatch, d.Base+"/api/v1/devices/heron-9", strings.NewReader(pin))
		require.NoError(t, err)
		header.Set("Content-Type", "application/json")
		req.Header = header
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusForbidden, res.StatusCode, "to pin a device key is a person's who was let in just now: %s", who)
	}
	k, err := d.Rack.Find("heron-9")
	require.NoError(t, err)
	require.Empty(t, k.Device().Key)
}

func TestEveryWriteIsALineOfTheAuditWithItsActor(t *testing.T) {
	d := newDesk(t)
	_, err := d.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	for _, who := range []string{"owner", "browser", "key use", "key look"} {
		d.asks(t, who, "POST", "/api/v1/devices/kittiwake-1/find")
	}
	d.asks(t, "owner", "GET", "/api/v1/devices")
	var lines []string
	d.Eventually("the outcomes are written", func() bool {
		all, err := d.Client.Audit(t.Context())
		lines = nil
		for _, l := range all {
			lines = append(lines, fmt.Sprint(l.Actor, " ", l.Operation, " ", l.Subject, " ", l.Outcome))
		}
		return err == nil && len(lines) == 3 && !strings.HasSuffix(lines[0], " 0")
	})
	require.Equal(t, []string{"access/k-use find /devices/kittiwake-1/find 409", "browser/ada find /devices/kittiwake-1/find 409",
		"owner/ada find /devices/kittiwake-1/find 409"}, lines, "newest first; what was refused and what only looks is none")
}

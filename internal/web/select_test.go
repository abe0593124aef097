package web_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin/depot"
)

// lists are all lists of the interface: the noun that expressions use of each, and one
// that holds of its first item only. A list that is not here fails the test.
var lists = map[string]struct{ noun, first string }{
	"/check":                       {"check", `check.id == "disk"`},
	"/devices":                     {"device", `device.handle == "kittiwake-1"`},
	"/unrecognised":                {"unrecognised", ""},
	"/projects":                    {"project", `project.app == "fellgate/app-0"`},
	"/apps":                        {"app", `app.version == "3"`},
	"/jobs":                        {"job", `job.id == "job-2" && job.state == "failed" && job.error.kind == "blocked"`},
	"/tryouts":                     {"tryout", `tryout.id == "try-2" && !tryout.passed`},
	"/access":                      {"access", `access.name == "k-look" && "look" in access.rights`},
	"/audit":                       {"line", `line.operation == "retire"`},
	"/hosts":                       {"host", `host.name == "attic"`},
	"/drivers":                     {"driver", `driver.name == "halden-link" && "f3e0:0104" in driver.fits`},
	"/devices/{handle}/drivers":    {"driver", ""},
	"/depots":                      {"depot", `depot.name == "attic-depot" && depot.offers == 0`},
	"/kits":                        {"kit", `kit.name == "fell-kit" && !kit.described`},
	"/links":                       {"link", ""},
	"/adapters":                    {"adapter", `adapter.state == "waiting" && adapter.name == "reed"`},
	"/network":                     {"network", `network.state == "silent" && "127.0.0.1:2" in network.addresses`},
	"/peers":                       {"peer", `peer.name == "quay-desk" && peer.may == "look"`},
	"/far-devices":                 {"device", ""},
	"/loans":                       {"loan", `loan.peer == "quay-desk" && loan.state == "ended"`},
	"/hands":                       {"hands", ""},
	"/reservations":                {"reservation", `reservation.title == "tests-1" && reservation.count == 2`},
	"/authorities":                 {"authority", `authority.name == "fell-1"`},
	"/accounts":                    {"account", `account.id == "ada" && account.used`},
	"/identities":                  {"identity", ""},
	"/app-ids":                     {"app", ""},
	"/statements":                  {"statement", ""},
	"/devices/{handle}/statements": {"statement", ""},
	"/safe/uses":                   {"use", `use.document == "callout 2"`},
	"/support":                     {"support", `support.version == "6.1.1" && support.here`},
	"/learned":                     {"learned", `learned.cause == "way-hidden"`},
	"/sessions":                    {"session", `session.agent == "test-1"`},
	"/devices/{handle}/tellable":   {"tellable", `tellable.type == "bool"`},
	"/sheets":                      {"sheet", `sheet.family == "kestle"`},
	"/devices/{handle}/facts":      {"fact", `fact.key == "air.network"`},
	"/devices/{handle}/history":    {"fact", `fact.text.endsWith("hotspot")`},
}

// stocked is a bench with two items and more in every list that can have them.
func stocked(t *testing.T) *desk {
	t.Helper()
	d := newDesk(t)
	ctx := t.Context()
	for i := range 3 {
		k, err := d.Rack.Add(ctx, fmt.Sprintf("kittiwake-%d", i+1), "Kittiwake")
		require.NoError(t, err)
		id := k.Device().ID
		require.NoError(t, d.Store.SaveHost(ctx, store.Host{Name: []string{"attic", "loft", "shed"}[i], USBIP: "127.0.0.1:1", Control: "127.0.0.1:1"}))
		require.NoError(t, d.Store.SaveTryout(ctx, id, store.Tryout{ID: fmt.Sprintf("try-%d", i), App: "fellgate/callout", Passed: i == 1, Created: time.Now().Add(time.Duration(i) * time.Second)}))
		j := job.Job{ID: fmt.Sprintf("job-%d", i), State: job.Done, Created: time.Now().Add(time.Duration(i) * time.Second)}
		if i == 2 {
			require.NoError(t, json.Unmarshal([]byte(`{"id": "job-2", "state": "failed", "error": {"kind": "blocked", "text": "It is shut."}}`), &j))
		}
		require.NoError(t, d.Store.Save(ctx, j))
		require.NoError(t, d.Store.Learn(ctx, "tarn", "loft", []string{"way-hidden", "a", "b"}[i], time.Now().Add(-time.Duration(i)*time.Hour)))
		for n, network := range []string{"same", "other", "hotspot", "same"} {
			require.NoError(t, d.Book.Observe(ctx, facts.Subject{Kind: facts.Device, ID: id}, fact.Fact{Key: fact.AirNetwork, Value: fact.Of(network), Source: fact.Person, At: time.Now().Add(time.Duration(n) * time.Millisecond), By: "ada"},
				fact.Fact{Key: fact.Locked, Value: fact.Of(n%2 == 0), Source: fact.Person, At: time.Now(), By: "ada"}))
		}
		dir := t.TempDir()
		project := fmt.Sprintf("id: fellgate/app-%d\nname: App\nversion: \"1\"\nfamilies: [wick]\nbuild: {command: [\"true\"]}\nfiles: [a]\nentry: a\nkit: {name: fell-kit}\n", i)
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(project), 0o600))
		_, err = d.Tryouts.AddProject(ctx, dir)
		require.NoError(t, err)
		f, err := os.Create(filepath.Join(dir, "app.ebapp"))
		require.NoError(t, err)
		m := appfile.Manifest{ID: "fellgate/callout", Name: "Callout", Version: fmt.Sprint(i + 1), Families: []string{"wick"}, Entry: "a"}
		_, err = appfile.Pack(f, m, fstest.MapFS{"a": {Data: []byte{1}}}, []string{"a"}, nil)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		d.Clock.Move(time.Second)
		require.NoError(t, d.Store.SaveSession(ctx, store.Session{Secret: fmt.Sprintf("%012d%052d", i, 0), Agent: fmt.Sprintf("test-%d", i), Created: d.Clock.Now(), Ends: d.Clock.Now().Add(time.Hour)}))
		_, err = d.Tryouts.TakeIn(ctx, f.Name())
		require.NoError(t, err)
		d.asks(t, "owner", "POST", "/api/v1/jobs/job-0/stop") // refused, and a line of the audit
		require.NoError(t, d.Store.SaveSafeUse(ctx, store.SafeUse{At: d.Clock.Now(), Item: "x", Document: fmt.Sprintf("callout %d", i)}))
	}
	for i, id := range []string{"ada", "bea"} {
		require.NoError(t, d.Store.SaveAuthority(ctx, store.Authority{Name: fmt.Sprintf("fell-%d", i+1), URL: fmt.Sprintf("https://127.0.0.1:%d/", i+1)}))
		require.NoError(t, d.Store.SaveAccount(ctx, store.Account{Authority: fmt.Sprintf("fell-%d", i+1), Account: authority.Account{ID: id}, Used: i == 0}))
	}
	require.NoError(t, d.Authorities.Read(ctx))
	require.NoError(t, d.Belong.Read(ctx))
	for _, address := range []string{"127.0.0.1:1", "127.0.0.1:2"} {
		_, err := d.Air.Add(ctx, address)
		require.NoError(t, err)
	}
	reed, err := os.ReadFile("../../demo/adapters/reed-sh/reed.yaml")
	require.NoError(t, err)
	for _, name := range []string{"quill", "reed"} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "adapter.yaml"), []byte("adapter: "+name+"\ncommand: [\"true\"]\nsheet: sheet.yaml\n"), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "sheet.yaml"), reed, 0o600))
		a, err := d.Adapters.Look(dir)
		require.NoError(t, err)
		_, err = d.Adapters.Add(ctx, dir, a.Digest)
		require.NoError(t, err)
	}
	for i, name := range []string{"fell-desk", "quay-desk"} {
		require.NoError(t, d.Store.AddPeer(ctx, store.Peer{Name: name, Key: name, Rights: store.PeerRights{All: []string{"", "look"}[i]}, Added: d.Clock.Now()}, ""))
		require.NoError(t, d.Store.SaveLoan(ctx, store.Loan{ID: fmt.Sprint("loan-", i), Peer: name, State: store.LoanEnded, Rights: "use", Asked: d.Clock.Now().Add(time.Duration(-i) * time.Second)}))
	}
	for i := range 2 {
		_, err := d.Store.SaveReservation(ctx, store.Reservation{ID: fmt.Sprint("run-", i), State: store.ReservationEnded, Title: fmt.Sprint("tests-", i), Count: i + 1, Devices: []store.ReservedDevice{}})
		require.NoError(t, err)
	}
	require.NoError(t, d.Peers.Start(ctx))
	for _, name := range []string{"halden-link", "other-link"} {
		_, err := d.Supply.Add(ctx, benchtest.DriverSet(t, name))
		require.NoError(t, err)
	}
	for i, name := range []string{"attic depot", "upland depot"} {
		at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Name = name })
		d.Accept(at)
		p := benchtest.Pack([]string{"6.1", "6.2"}[i], 1)
		require.NoError(t, d.Store.SaveSupportPack(ctx, store.SupportPack{Offer: p.Offer(fmt.Sprintf("%064d", i), 1), Added: d.Clock.Now()}))
	}
	require.NoError(t, d.Supply.Read(ctx))
	require.Equal(t, http.StatusOK, d.asks(t, "owner", "POST", "/api/v1/devices/kittiwake-1/retirement"))
	return d
}

type answer struct {
	status int
	Items  []map[string]any `json:"items"`
	Next   string           `json:"next"`
	Detail string           `json:"detail"`
	Remedy string           `json:"remedy"`
	Errors []struct{ Message, Location string }
}

// list asks for a list with a query of names and values.
func (d *desk) list(t *testing.T, path string, query ...string) (a answer) {
	t.Helper()
	q := url.Values{}
	for i := 0; i < len(query); i += 2 {
		q.Set(query[i], query[i+1])
	}
	res, err := d.Dialer().Get("http://bench/api/v1" + strings.ReplaceAll(path, "{handle}", "kittiwake-1") + "?" + q.Encode())
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &a), string(raw))
	a.status = res.StatusCode
	if path == "/check" { // how much memory there is changes from call to call
		for _, item := range a.Items {
			delete(item, "found")
		}
	}
	return a
}

func TestEveryListIsChosenFromLimitedAndGoneOnWith(t *testing.T) {
	d := stocked(t)
	for _, path := range d.listPaths(t) {
		t.Run(strings.TrimPrefix(path, "/"), func(t *testing.T) {
			l, ok := lists[path]
			require.True(t, ok, "say in this test what expressions see of it")
			all := d.list(t, path)
			require.Equal(t, http.StatusOK, all.status)
			require.Empty(t, all.Next, "that is all")
			if l.first == "" {
				require.Empty(t, all.Items)
			} else {
				require.Greater(t, len(all.Items), 1)
				some := d.list(t, path, "where", l.first)
				require.NotEmpty(t, some.Items, some.Errors)
				require.Less(t, len(some.Items), len(all.Items))
				require.Contains(t, all.Items, some.Items[0])
			}
			require.Empty(t, d.list(t, path, "where", "false").Items)
			require.Equal(t, all.Items, d.list(t, path, "where", "true").Items)

			var gone []map[string]any
			for after, asked := "", true; asked; {
				one := d.list(t, path, "limit", "1", "after", after)
				require.Equal(t, http.StatusOK, one.status, one.Detail)
				require.LessOrEqual(t, len(one.Items), 1)
				gone = append(gone, one.Items...)
				after, asked = one.Next, one.Next != ""
			}
			require.Equal(t, len(all.Items), len(gone), "one after the other comes to the same")
			for i := range gone {
				require.Equal(t, all.Items[i], gone[i])
			}

			bad := d.list(t, path, "where", l.noun+`.nonsense == "x"`)
			require.Equal(t, http.StatusUnprocessableEntity, bad.status)
			require.Equal(t, "query.where:1:1", bad.Errors[0].Location)
			require.Contains(t, bad.Errors[0].Message, "there is no "+l.noun+".nonsense")
			require.NotEmpty(t, bad.Remedy)
			bad = d.list(t, path, "after", "no/such/thing")
			require.Equal(t, http.StatusUnprocessableEntity, bad.status)
			require.Contains(t, bad.Detail, `no item "no/such/thing"`)
			require.Equal(t, http.StatusUnprocessableEntity, d.list(t, path, "limit", "-1").status)
			require.Equal(t, http.StatusUnprocessableEntity, d.list(t, path, "where", strings.Repeat("a", 2001)).status)
		})
	}
}

// listPaths are the paths that answer lists, as the description of the interface tells.
func (d *desk) listPaths(t *testing.T) (out []string) {
	t.Helper()
	raw, err := d.OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths      map[string]map[string]json.RawMessage
		Components struct {
			Schemas map[string]struct{ Properties map[string]any }
		}
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	for path, methods := range doc.Paths {
		for name, schema := range doc.Components.Schemas {
			if _, items := schema.Properties["items"]; items && strings.Contains(string(methods["get"]), `"#/components/schemas/`+name+`"`) && name != "Retirement" {
				out = append(out, strings.TrimPrefix(path, "/api/v1"))
			}
		}
	}
	require.Len(t, out, len(lists), "every list is in the table")
	return out
}

func TestDevicesAreChosenByGatesAndFacts(t *testing.T) {
	d := stocked(t)
	for text, want := range map[string]int{
		`fact.air.network == "same"`:                                    3,
		`known.air.network && !known.usb.present`:                       3,
		`fact.device.battery < 20`:                                      0, // nobody knows it
		`!(fact.device.battery < 20)`:                                   0, // so neither does it hold that it is not
		`gate.driver == "not needed" && device.gates["seen"] != "open"`: 3,
		`device.family == "wick" && device.release < version("12")`:     0, // not known either
		`device.next.who == "hands"`:                                    2, // one is being retired
	} {
		got := d.list(t, "/devices", "where", text)
		require.Equal(t, http.StatusOK, got.status, "%s: %v", text, got.Errors)
		require.Len(t, got.Items, want, text)
	}
	bad := d.list(t, "/devices", "where", `fact.air.netwrok == "same"`)
	require.Contains(t, bad.Errors[0].Message, "did you mean fact.air.network?")
	bad = d.list(t, "/devices", "where", "gate.mood ==\n  'open'")
	require.Contains(t, bad.Errors[0].Message, "did you mean gate.mode?")
}

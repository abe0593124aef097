package benchtest

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
	authorities "earlybench.invalid/earlybench/standin/authority"
	"earlybench.invalid/earlybench/standin/body"
)

// Standings are those of a stand-in authority.
var Standings = []authority.Standing{{Name: "starter", Places: 5, GrantDays: 21, CertificateDays: 60, Lacks: []string{"background positions"}, Costs: "Free of charge", Alone: "It is renewed."},
	{Name: "full", Places: 600, GrantDays: 150, CertificateDays: 365, Lacks: []string{}, Costs: "40 crowns a year", Alone: "It is renewed."},
	{Name: "trial", Places: 600, GrantDays: 150, CertificateDays: 365, Lacks: []string{}, Costs: "40 crowns a year", Alone: "It becomes starter.", Days: 20}}

// Authority starts a stand-in authority, whose clock is c. It ends with the test.
func Authority(t testing.TB, c *clock.Moved) *authorities.Authority {
	t.Helper()
	var a *authorities.Authority
	around := func(h http.Handler) http.Handler {
		return checked(t, h, func() bool { return a.Mode() != authorities.Well })
	}
	a, err := authorities.Start(context.Background(), authorities.Config{Dir: t.TempDir(), Address: "127.0.0.1:0", Name: "Fell Authority", Standings: Standings, Taken: []string{"fellgate/rota"}, Clock: c, Around: around})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, a.Close()) })
	return a
}

// SignedIn signs the bench in at an authority, with a new account whose crew is fellgate.
func (b *Bench) SignedIn(a *authorities.Authority, standing string) {
	b.T.Helper()
	found, err := b.Authorities.Look(context.Background(), a.URL())
	require.NoError(b.T, err)
	_, err = b.Authorities.Add(context.Background(), a.URL(), found.Accept)
	require.NoError(b.T, err)
	j, code, err := b.Belong.SignIn(context.Background(), "", "owner/ada")
	require.NoError(b.T, err)
	Types(b.T, code.Code.Page, url.Values{"code": {code.Code.UserCode}, "account": {"thwaite"}, "password": {"fog-and-fell"}, "name": {"Rowan Thwaite"}, "crew": {"fellgate"}, "standing": {standing}, "do": {"make"}})
	j = b.Ended(j)
	require.Equal(b.T, job.Done, j.State, "%v", j.Error)
}

// Types sends what a person types on the page of an authority, and returns what the page says.
func Types(t testing.TB, page string, values url.Values) string {
	t.Helper()
	c := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}} // a browser whose person has accepted it
	res, err := c.PostForm(page, values)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return string(raw)
}

// Kestles starts so many handsets with number keys, called kestle-1 and so on, that have let the
// bench in, and waits until all are linked. They take what an authority has signed.
func (b *Bench) Kestles(at *authorities.Authority, n int) *standin.Rig {
	b.T.Helper()
	var all []standin.Entry
	for i := range n {
		all = append(all, standin.Entry{Name: fmt.Sprintf("kestle-%d", i+1), Body: "kestle", Model: "K7", Serial: KestleSerial(i + 1),
			Begin: &body.Beginning{Settings: map[string]string{"visitors": "yes", "code": "done"}}})
	}
	return b.Lent(at, all...)
}

// Lent starts devices that have let the bench in, and waits until all are linked. They take what an
// authority has signed.
func (b *Bench) Lent(at *authorities.Authority, bodies ...standin.Entry) *standin.Rig {
	b.T.Helper()
	sc := standin.Scenario{Dir: b.T.TempDir(), Host: "loft", Drivers: true, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0",
		Socket: filepath.Join(b.T.TempDir(), "s"), Bodies: bodies, Authority: &standin.Authority{Authority: at.Checker(), URL: at.URL()}}
	for _, e := range sc.Bodies {
		e.Begin.Admits = map[string]string{ssh.FingerprintSHA256(b.Keys.Link.PublicKey()): "moor-desk"}
	}
	r, err := standin.Start(context.Background(), sc, slog.New(slog.DiscardHandler))
	require.NoError(b.T, err)
	b.T.Cleanup(func() { require.NoError(b.T, r.Close()) })
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: r.Addresses().Hub, Control: r.Addresses().Host})
	b.Eventually("all are linked", func() bool {
		all := b.Rack.All()
		return len(all) == len(bodies) && !slices.ContainsFunc(all, func(k *keeper.Keeper) bool { return k.Session() == nil || k.Device().Serial == "" })
	})
	return r
}

// KestleSerial is the serial of a handset that Kestles starts, from 1 on.
func KestleSerial(n int) string { return fmt.Sprintf("K 2 %05d", 10000+n) }

// BySerial finds a device of the rack.
func (b *Bench) BySerial(serial string) *keeper.Keeper {
	b.T.Helper()
	for _, k := range b.Rack.All() {
		if k.Device().Serial == serial {
			return k
		}
	}
	require.Fail(b.T, "not on the rack", serial)
	return nil
}

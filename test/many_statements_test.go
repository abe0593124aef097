package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// elsewhere starts stand-ins in a process of their own, until the test ends.
func elsewhere(t testing.TB, sc standin.Scenario) standin.Addresses {
	t.Helper()
	bin, err := program()
	require.NoError(t, err)
	cmd := exec.Command(bin, "standin", "serve")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		in.Close()
		require.NoError(t, cmd.Wait())
	})
	require.NoError(t, json.NewEncoder(in).Encode(sc))
	var at standin.Addresses
	require.NoError(t, json.NewDecoder(out).Decode(&at))
	return at
}

func TestATokenIsPutOnTwoHundredHandsetsOfAnotherProcessWithinTenSeconds(t *testing.T) {
	const n = 200
	b := benchtest.New(t)
	at := benchtest.Authority(t, &clock.Moved{})
	b.SignedIn(at, "full")
	sc := standin.Scenario{Dir: t.TempDir(), Host: "loft", Drivers: true, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0",
		Socket: filepath.Join(t.TempDir(), "s"), Authority: &standin.Authority{Authority: at.Checker(), URL: at.URL()}}
	begin := body.Beginning{Settings: map[string]string{"visitors": "yes", "code": "done"}, Admits: map[string]string{ssh.FingerprintSHA256(b.Keys.Link.PublicKey()): "moor-desk"}}
	for i := range n {
		sc.Bodies = append(sc.Bodies, standin.Entry{Name: fmt.Sprintf("kestle-%d", i+1), Body: "kestle", Model: "K7", Serial: benchtest.KestleSerial(i + 1), Begin: &begin})
	}
	there := elsewhere(t, sc)
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: there.Hub, Control: there.Host})
	linked := func() bool {
		all := b.Rack.All()
		return len(all) == n && !slices.ContainsFunc(all, func(k *keeper.Keeper) bool { return k.Session() == nil })
	}
	require.Eventually(t, linked, patience, 50*time.Millisecond, "all are linked")
	j, err := b.Belong.Start(t.Context(), belong.Ask{All: true})
	require.NoError(t, err)
	require.Equal(t, job.Done, b.Ended(j).State)
	var handles []string
	for _, k := range b.Rack.All() {
		handles = append(handles, k.Device().Handle)
	}
	st, err := b.Statements.Issue(t.Context(), statements.Ask{Kind: statement.DebugToken, Devices: handles, Debug: true})
	require.NoError(t, err)
	put := func(devices []string) (statements.Table, time.Duration) {
		began := time.Now()
		j, err := b.Statements.Start(context.Background(), statements.PutAsk{ID: st.ID, Devices: devices})
		require.NoError(t, err)
		j = b.Ended(j)
		table, ok := statements.TableOf(j.Result)
		require.True(t, ok, "%v", j.Error)
		return table, time.Since(began)
	}

	// Three are pulled at the moment when it begins.
	pulled := []string{"kestle-17", "kestle-101", "kestle-200"}
	lost := map[string]bool{}
	for _, name := range pulled {
		require.NoError(t, steerAt(there.Socket, standin.MethodPull, standin.Steer{Body: name}))
		for i := range n {
			if name == fmt.Sprintf("kestle-%d", i+1) {
				lost[b.BySerial(benchtest.KestleSerial(i+1)).Device().Handle] = true
			}
		}
	}
	table, took := put(handles)
	require.Less(t, took, 10*time.Second)
	require.Len(t, table.Rows, n)
	var again []string
	for _, r := range table.Rows {
		if lost[r.Device] {
			require.Equal(t, statements.Refuses, r.Outcome, r.Device)
			require.NotEmpty(t, r.Error.Remedy, r.Text)
			again = append(again, r.Device)
			continue
		}
		require.Equal(t, statements.Put, r.Outcome, "%s: %s", r.Device, r.Text)
	}
	require.Len(t, again, len(pulled))
	t.Logf("%d handsets: %s", n, took.Round(time.Millisecond))
	for _, name := range pulled {
		require.NoError(t, steerAt(there.Socket, standin.MethodPlug, standin.Steer{Body: name}))
	}
	require.Eventually(t, linked, patience, 50*time.Millisecond, "they are back")
	table, _ = put(again)
	require.Len(t, table.Rows, len(pulled), "the repeat touches only them")
	for _, k := range b.Rack.All() { // what each device says itself
		on, err := k.Session().Statements()
		require.NoError(t, err)
		list, err := on.List(t.Context())
		require.NoError(t, err)
		require.Equal(t, []string{st.Text}, list, k.Device().Handle)
	}
}

package test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// An app is signed at another bench, whose person consents there, and is tried here.
func TestAnAppIsSignedAtAnotherBenchByCommands(t *testing.T) {
	d := startWith(t, t.TempDir())
	h := d.harbour()
	dir := filepath.Join(t.TempDir(), "callout")
	require.NoError(t, os.CopyFS(dir, os.DirFS("../demo/apps/callout")))
	refused := d.run("app", "set", dir, "--identity", "@harbour-desk")
	require.Equal(t, 5, refused.code)
	require.Contains(t, refused.err, "harbour-desk does not sign for this bench")
	require.Contains(t, refused.err, "earlybench peer set moor-desk --sign")

	require.Contains(t, h.ok("peer", "set", "moor-desk", "--sign"), "have apps signed")
	missing := d.run("app", "set", dir, "--identity", "@harbour-desk")
	require.Contains(t, missing.err, "safe", "there is no key over there yet")
	key := filepath.Join(t.TempDir(), "harbour.key")
	h.ok("safe", "make", "--key-file", key)
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(raw, []byte("\nidentity: \"@harbour-desk\"\n")...), 0o600))
	d.ok("project", "add", dir)
	require.Regexp(t, `signer +.*it signs with its development key`, d.ok("peer", "check", "harbour-desk"))

	d.waits("heron-1", "linked", "open")
	work := d.command(context.Background(), "try", "fellgate/callout", "heron-1")
	var asked client.Safe
	h.eventually("somebody is asked over there", func() bool { h.json(&asked, "safe"); return len(asked.Requests) == 1 })
	require.Equal(t, "peer/moor-desk", asked.Requests[0].Actor)
	require.Equal(t, "fellgate/callout", asked.Requests[0].App)
	h.ok("safe", "consent", asked.Requests[0].ID, "--key-file", key)
	r := work.wait()
	require.Zero(t, r.code, "%s%s", r.out, r.err)
	require.Contains(t, r.out, "passed")
	require.Contains(t, h.ok("audit"), "sign-app")
	require.Contains(t, h.ok("safe", "uses"), "peer/moor-desk")

	// The same bench puts it onto a device of its own.
	put := d.command(context.Background(), "--json", "try", "fellgate/callout", "heron-9", "--at", "harbour-desk")
	h.eventually("somebody is asked again", func() bool { h.json(&asked, "safe"); return len(asked.Requests) == 1 })
	require.Contains(t, asked.Requests[0].Document, "onto heron-9")
	h.ok("safe", "consent", asked.Requests[0].ID, "--for", "1h", "--key-file", key)
	r = put.wait()
	require.Zero(t, r.code, "%s%s", r.out, r.err)
	var j client.Job
	require.NoError(t, json.Unmarshal([]byte(r.out), &j))
	require.True(t, j.Result.Passed)
	require.Equal(t, "harbour-desk", j.Result.Delivery.Peer)
	require.Contains(t, h.ok("tryout", "show", j.Result.Delivery.Tryout), "passed")
	again := d.ok("run", "fellgate/callout", "heron-9", "--at", "harbour-desk")
	require.Contains(t, again, "fellgate/callout 2.3 on heron-9 at harbour-desk: runs")
	for _, c := range []struct{ args, says string }{
		{"try fellgate/callout heron-99 --at harbour-desk", `harbour-desk does not install it on heron-99: there is no device "heron-99" that is shared with you`},
		{"try fellgate/callout --at harbour-desk", "give the app and one device of harbour-desk"},
		{"run fellgate/callout heron-9 --at harbour-desk --for 10s", "--for cannot be used with --at"},
		{"try fellgate/callout heron-9 --at harbour-desk --picture p.png", "--picture cannot be used with --at"},
		{"try fellgate/callout heron-9 --at nobody", `There is no peer "nobody"`},
	} {
		refused := d.run(strings.Fields(c.args)...)
		require.NotZero(t, refused.code, c.args)
		require.Contains(t, refused.err, c.says)
	}
	d.ok("loan", "start", "heron-9", "--from", "harbour-desk", "--for", "1h")
	taken := d.run("run", "fellgate/callout", "heron-9", "--at", "harbour-desk")
	require.Equal(t, 1, taken.code)
	require.Contains(t, taken.err, "heron-9 is in use just now. Wait until it is free: earlybench rack --peers. If it is lent to this bench, leave out --at.")
	d.ok("loan", "end", "heron-9")

	h.ok("safe", "lock")
	require.Contains(t, d.run("peer", "check", "harbour-desk").out, "its safe is locked")
	h.ok("peer", "set", "moor-desk", "--sign=false")
	require.Contains(t, d.run("peer", "check", "harbour-desk").out, "this bench does not sign for you")
}

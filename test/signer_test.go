package test

import (
	"context"
	"os"
	"path/filepath"
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
	require.Regexp(t, `signer +.*it signs by its development key`, d.ok("peer", "check", "harbour-desk"))

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

	h.ok("safe", "lock")
	require.Contains(t, d.run("peer", "check", "harbour-desk").out, "its safe is locked")
	h.ok("peer", "set", "moor-desk", "--sign=false")
	require.Contains(t, d.run("peer", "check", "harbour-desk").out, "this bench signs nothing for you")
}

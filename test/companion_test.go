package test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// watchProject is a project for watches that an identity signs.
func watchProject(t *testing.T, identity string) string {
	t.Helper()
	dir := benchtest.SmallApp(t, true)
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(raw), `minimum: "9"`, `minimum: "2"`, 1)+"identity: "+identity+"\n"), 0o600))
	return dir
}

// sleeps has a stand-in fall asleep, and waits until the bench knows.
func (d *demo) sleeps(handle string) {
	d.t.Helper()
	d.ok("standin", "fault", "add", handle, "asleep")
	d.eventually(handle+" sleeps", func() bool {
		w := d.device(handle).Ways

		return len(w) == 1 && w[0].State == "asleep"
	})
}

// From never introduced to tried, and off the rack again, while it sleeps whenever nobody needs it.
func TestAWatchIsTriedThroughItsHandsetByCommands(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--smaller", "60")
	d.signsIn(userCode.FindString(d.ok("account", "sign-in", "--wait=false")), "rowan")
	d.eventually("rowan is signed in", func() bool { return strings.Contains(d.ok("account"), "4471 0926") })
	d.ok("identity", "new", "moor-desk 2026")
	safe, err := d.api.Safe(t.Context())
	require.NoError(t, err)
	key := slices.IndexFunc(safe.Contents, func(i client.SafeItem) bool { return i.Name == "identity moor-desk 2026" })
	require.NoError(t, d.api.PermitSafe(t.Context(), client.SafePermit{Item: safe.Contents[key].ID, App: "fellgate/callout", Purpose: "sign an app", For: 3600,
		Proof: client.SafeOpening{KeyFile: filepath.Join(d.state, "demo", "unlock.key")}}))
	dir := watchProject(t, "moor-desk 2026")

	d.heardThrough("heron-1")
	require.Regexp(t, `near-\d+ +wick +through heron-1 .*a device that was not introduced`, d.ok("network"))
	d.eventually("why names it", func() bool {
		return strings.Contains(d.ok("why", "kittiwake-2"), "It was never introduced to this bench.")
	})
	d.ok("network", "introduce", d.heardThrough("heron-1"), "--as", "kittiwake-2")
	words := d.command(t.Context(), append([]string{"network", "words"}, strings.Fields(d.reading("kittiwake-2").Title)...)...)
	d.touch("kittiwake-2", "Always")
	r := words.wait()
	require.Zero(t, r.code, "%s%s", r.out, r.err)
	d.waits("kittiwake-2", "linked", "open")

	d.sleeps("kittiwake-2")
	b := d.signedInAt("/devices/kittiwake-2")
	b.sees("kittiwake-2 is asleep. Its log continues once it is awake.")
	time.Sleep(3 * time.Second)
	b.sees("through heron-1, asleep since") // looking at its page does not wake it
	require.Regexp(t, `link +through heron-1, asleep since \d\d:\d\d: it is woken when it is needed`, d.ok("rack", "show", "kittiwake-2"))
	require.Regexp(t, `kittiwake-2 +companion +heron-1 +asleep since \d\d:\d\d`, d.ok("link"))
	d.ok("project", "add", dir)

	d.ok("standin", "fault", "add", "kittiwake-2", "storage-full")
	r = d.run("prep", "kittiwake-2", "--app", "fellgate/callout", "--unattended")
	require.Equal(t, 6, r.code, "%s%s", r.out, r.err)
	require.Contains(t, r.out+r.err, "A person is needed at kittiwake-2: Remove something large from the device.")
	require.Zero(t, d.received("kittiwake-2"), "it is said before the first byte")
	require.Equal(t, "open", d.device("kittiwake-2").Gates["granted"])
	d.ok("standin", "fault", "drop", "kittiwake-2", "storage-full")

	d.sleeps("kittiwake-2")
	require.Contains(t, d.ok("try", dir, "kittiwake-2"), "passed")

	d.sleeps("kittiwake-2")
	require.Contains(t, d.ok("retire", "kittiwake-2", "--yes"), "with your hands; then say --confirm blow-out")
	d.ok("standin", "fault", "add", "kittiwake-2", "choice-off")
	d.ok("retire", "kittiwake-2", "--confirm", "blow-out")
	d.eventually("it is off the rack", func() bool {
		return !strings.Contains(d.ok("network"), "near-") && !strings.Contains(d.ok("rack"), "kittiwake-2")
	})
}

// heardThrough is the name of what is heard through a device and was not introduced.
func (d *demo) heardThrough(handle string) (name string) {
	d.t.Helper()
	d.eventually("something is heard through "+handle, func() bool {
		all, err := d.api.Network(d.t.Context())
		for _, e := range all {
			if e.Through == handle && e.State == "not met" {
				name = e.Name
			}
		}
		return err == nil && name != ""
	})
	return name
}

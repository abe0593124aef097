package test

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/cli"
)

// jsonWalk runs every command of the bench with --json. A word @NAME is filled with what an
// earlier command printed; a command without an entry here fails the test.
var jsonWalk = []struct {
	command string // its path, as docs/json.md names it
	args    string
	code    int
	prints  string // object, list, lines or nothing
}{
	{"rack", "rack", 0, "list"},
	{"rack show", "rack show heron-1", 0, "object"},
	{"rack add", "rack add kittiwake-9 --model Kittiwake", 0, "object"},
	{"rack set", "rack set kittiwake-9 --handle kittiwake-8", 0, "nothing"},
	{"rack find", "rack find heron-1", 0, "nothing"},
	{"rack drop", "rack drop kittiwake-8 --yes", 0, "nothing"},
	{"round", "round", 0, "object"},
	{"why", "why heron-2", 0, "object"},
	{"prep", "prep heron-1", 0, "object"},
	{"wait ready", "wait ready heron-1 --within 20s", 0, "list"},
	{"project add", "project add demo/apps/callout", 0, "object"},
	{"project", "project", 0, "list"},
	{"run", "run fellgate/callout heron-1 --follow=false", 0, "object"},
	{"try", "try fellgate/callout heron-1", 0, "object"},
	{"tryout", "tryout", 0, "list"},
	{"tryout show", "tryout show @tryout", 0, "object"},
	{"log", "log heron-1 --for 300ms", 0, "lines"},
	{"app", "app", 0, "list"},
	{"app stop", "app stop fellgate/callout heron-1", 0, "nothing"},
	{"app remove", "app remove fellgate/callout heron-1", 0, "nothing"},
	{"app pack", "app pack demo/apps/callout @ebapp", 0, "object"},
	{"app check", "app check @ebapp", 0, "object"},
	{"job", "job", 0, "list"},
	{"job show", "job show @job", 0, "object"},
	{"job stop", "job stop @job", 1, "nothing"},
	{"job repeat", "job repeat @job", 0, "object"},
	{"host", "host", 0, "list"},
	{"depot", "depot", 0, "list"},
	{"depot add", "depot add https://127.0.0.1:1/", 1, "nothing"},
	{"depot drop", "depot drop nothing", 1, "nothing"},
	{"support", "support", 0, "list"},
	{"support add", "support add no-such-file", 1, "nothing"},
	{"support drop", "support drop --unused", 0, "nothing"},
	{"link", "link", 0, "list"},
	{"link restart", "link restart heron-1", 0, "list"},
	{"network", "network", 0, "list"},
	{"network add", "network add 127.0.0.1:9", 0, "object"},
	{"network login", "network login server-9", 1, "nothing"},
	{"port", "port heron-1 nothing", 1, "nothing"},
	{"adapter", "adapter", 0, "list"},
	{"adapter add", "adapter add demo/adapters/reed-py", 6, "object"},
	{"adapter actions", "adapter actions heron-1", 1, "nothing"},
	{"adapter act", "adapter act heron-1 lamp.blink times=3", 1, "nothing"},
	{"adapter drop", "adapter drop nothing", 1, "nothing"},
	{"adapter check", "adapter check demo/adapters/reed-py", 0, "object"},
	{"standin reed", "standin reed /nowhere/at/all", 1, "nothing"},
	{"peer", "peer", 0, "list"},
	{"peer add", "peer add no-such-file", 2, "nothing"},
	{"peer words", "peer words maple otter bugle", 1, "nothing"},
	{"peer stop", "peer stop", 1, "nothing"},
	{"peer accept", "peer accept SHA256:nobody", 1, "nothing"},
	{"peer refuse", "peer refuse SHA256:nobody", 1, "nothing"},
	{"peer invite", "peer invite --out @invitation", 3, "nothing"},
	{"peer set", "peer set nobody --may look", 1, "nothing"},
	{"peer check", "peer check nobody", 1, "nothing"},
	{"peer drop", "peer drop nobody", 1, "nothing"},
	{"loan", "loan", 0, "list"},
	{"loan start", "loan start heron-9 --from nobody --for 1h", 1, "nothing"},
	{"loan extend", "loan extend heron-9 --for 1h", 1, "nothing"},
	{"loan end", "loan end heron-9", 1, "nothing"},
	{"hands", "hands", 0, "list"},
	{"hands ask", "hands ask heron-1", 1, "nothing"},
	{"hands answer", "hands answer nothing --done", 1, "nothing"},
	{"hands withdraw", "hands withdraw nothing", 1, "nothing"},
	{"hands page", "hands page nothing --address 127.0.0.1", 1, "nothing"},
	{"reservation", "reservation", 0, "list"},
	{"reservation end", "reservation end nothing", 1, "nothing"},
	{"with", "with --where device.handle==\"heron-1\" -- true", 0, "object"},
	{"network drop", "network drop 127.0.0.1:9", 0, "nothing"},
	{"network introduce", "network introduce nothing", 1, "nothing"},
	{"network words", "network words maple otter bugle", 1, "nothing"},
	{"network stop", "network stop", 1, "nothing"},
	{"network join", "network join heron-1", 0, "object"},
	{"network leave", "network leave heron-1", 0, "nothing"},
	{"kit", "kit", 0, "list"},
	{"kit show", "kit show go", 0, "object"},
	{"kit add", "kit add go @go", 0, "object"},
	{"kit env", "kit env go", 0, "object"},
	{"kit fetch", "kit fetch go --from nobody", 1, "nothing"},
	{"kit drop", "kit drop go @go", 0, "nothing"},
	{"host needs", "host needs", 0, "object"},
	{"authority", "authority", 0, "list"},
	{"authority add", "authority add https://127.0.0.1:1/", 1, "nothing"},
	{"account", "account", 0, "list"},
	{"account sign-in", "account sign-in --wait=false", 0, "object"},
	{"account set", "account set nobody", 1, "nothing"},
	{"account sign-out", "account sign-out nobody", 1, "nothing"},
	{"register", "register", 6, "nothing"},
	{"register add", "register add", 6, "nothing"},
	{"register drop", "register drop heron-1", 6, "nothing"},
	{"identity", "identity", 0, "list"},
	{"identity new", "identity new x", 6, "nothing"},
	{"identity show", "identity show x", 2, "nothing"},
	{"identity renew", "identity renew x", 1, "nothing"},
	{"identity revoke", "identity revoke x --yes", 2, "nothing"},
	{"identity drop", "identity drop x --yes", 1, "nothing"},
	{"identity import", "identity import x no-such-file", 2, "nothing"},
	{"identity export", "identity export x no-such-file --key-file @unlock --export-passphrase-file @passphrase", 1, "nothing"},
	{"endings", "endings", 0, "object"},
	{"endings notify", "endings notify", 0, "object"},
	{"endings calendar", "endings calendar", 0, "object"},
	{"handover", "handover", 2, "nothing"},
	{"handover request", "handover request fellgate/callout @none/x", 1, "nothing"},
	{"handover reply", "handover reply no-such-file heron-1", 2, "nothing"},
	{"handover make", "handover make no-such-file x y", 2, "nothing"},
	{"handover put", "handover put no-such-file heron-1", 2, "nothing"},
	{"grant", "grant", 0, "list"},
	{"grant new", "grant new kestle-1 --identity x", 1, "nothing"},
	{"grant show", "grant show x", 2, "nothing"},
	{"grant put", "grant put x kestle-1", 2, "nothing"},
	{"grant drop", "grant drop x", 2, "nothing"},
	{"token", "token", 0, "list"},
	{"token new", "token new kestle-1", 6, "nothing"},
	{"token show", "token show x", 2, "nothing"},
	{"token put", "token put x kestle-1", 2, "nothing"},
	{"token drop", "token drop x", 2, "nothing"},
	{"explain", "explain fellgate/callout heron-1", 0, "object"},
	{"explain", "explain", 0, "object"},
	{"app show", "app show no-such-file", 2, "nothing"},
	{"app sign", "app sign no-such-file x", 2, "nothing"},
	{"app compare", "app compare no-such-file x", 2, "nothing"},
	{"app set", "app set demo/apps/callout --identity nobody", 2, "nothing"},
	{"app secret", "app secret", 0, "list"},
	{"app secret set", "app secret set fellgate/callout weather --from @passphrase", 0, "nothing"},
	{"app secret drop", "app secret drop fellgate/callout weather", 0, "nothing"},
	{"authority drop", "authority drop nothing", 1, "nothing"},
	{"safe", "safe", 0, "object"},
	{"safe make", "safe make", 1, "nothing"},
	{"safe uses", "safe uses", 0, "list"},
	{"safe consent", "safe consent", 0, "list"},
	{"safe withdraw", "safe withdraw nothing", 2, "nothing"},
	{"safe set", "safe set --idle 2h", 0, "object"},
	{"safe export", "safe export @export --key-file @unlock --export-passphrase-file @passphrase", 0, "nothing"},
	{"safe import", "safe import @export --passphrase-file @passphrase", 0, "list"},
	{"safe lock", "safe lock", 0, "nothing"},
	{"safe unlock", "safe unlock --key-file @unlock", 0, "object"},
	{"host tree", "host tree", 0, "list"},
	{"host give", "host give heron-1", 0, "nothing"},
	{"host check", "host check", 0, "list"},
	{"host add", "host add bad --usbip 127.0.0.1:1 --control 127.0.0.1:1", 4, "nothing"},
	{"host set shared", "host set shared bad", 0, "nothing"},
	{"host set own", "host set own bad", 0, "nothing"},
	{"host drop", "host drop bad", 0, "nothing"},
	{"driver", "driver", 0, "list"},
	{"driver add", "driver add no-such-file", 2, "nothing"},
	{"driver show", "driver show heron-2", 0, "list"},
	{"driver set", "driver set heron-2 0123456789", 1, "nothing"},
	{"driver drop", "driver drop heron-2", 1, "nothing"},
	{"sheet", "sheet", 0, "object"},
	{"sheet show", "sheet show heron-1", 0, "object"},
	{"sheet check", "sheet check sheets/wick/wick.yaml", 0, "list"},
	{"sheet add", "sheet add no-such-file", 2, "nothing"},
	{"sheet drop", "sheet drop no-such-sheet", 1, "nothing"},
	{"sheet new", "sheet new --from unknown-1", 2, "nothing"},
	{"console", "console", 0, "object"},
	{"access add", "access add nightly --may use --for 1h", 0, "object"},
	{"access", "access", 0, "list"},
	{"access drop", "access drop nightly", 0, "nothing"},
	{"access browsers", "access browsers", 0, "list"},
	{"access browsers drop", "access browsers drop nobody", 1, "nothing"},
	{"audit", "audit", 0, "list"},
	{"tidy", "tidy", 0, "object"},
	{"tidy rules", "tidy rules --jobs 60d", 0, "object"},
	{"backup make", "backup make @backup", 0, "object"},
	{"backup check", "backup check @backup", 0, "object"},
	{"backup restore", "backup restore @backup --yes", 1, "nothing"}, // the bench runs
	{"standin", "standin", 0, "list"},
	{"standin card", "standin card heron-1", 0, "list"},
	{"standin screen", "standin screen heron-1", 0, "object"},
	{"standin fault", "standin fault", 0, "list"},
	{"standin fault add", "standin fault add heron-2 battery-low", 0, "nothing"},
	{"standin fault drop", "standin fault drop heron-2 battery-low", 0, "nothing"},
	{"standin depot", "standin depot slow", 0, "object"},
	{"standin authority", "standin authority slow", 0, "object"},
	{"standin sign-out", "standin sign-out nobody", 1, "nothing"},
	{"standin press", "standin press heron-2 power", 0, "nothing"},
	{"standin slide", "standin slide heron-2 up", 0, "nothing"},
	{"standin touch", "standin touch heron-2 Nowhere", 1, "nothing"},
	{"standin type", "standin type heron-1 1", 1, "nothing"},
	{"standin pull", "standin pull heron-2", 0, "nothing"},
	{"standin plug", "standin plug heron-2", 0, "nothing"},
	{"standin clock", "standin clock --by 1s", 0, "object"},
	{"retire", "retire heron-2 --yes", 0, "object"},
	{"serve", "serve", 1, "nothing"},
	{"demo", "demo", 1, "nothing"},
}

func TestEveryCommandPrintsTheJSONThatTheDocumentationSays(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	doc, err := os.ReadFile("../docs/json.md")
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "passphrase"), []byte("for the harbour\n"), 0o600))
	known := map[string]string{"@ebapp": filepath.Join(dir, "callout.ebapp"), "@go": goDirectory(t), "@passphrase": filepath.Join(dir, "passphrase"),
		"@export": filepath.Join(dir, "safe-export.age"), "@invitation": filepath.Join(dir, "bench.invitation"), "@unlock": filepath.Join(d.state, "demo", "unlock.key"), "@backup": filepath.Join(dir, "bench.ebbackup")}
	walked := map[string]bool{}
	for _, c := range jsonWalk {
		walked[c.command] = true
		args := strings.Fields(c.args)
		for i, a := range args {
			if v, ok := known[a]; ok {
				args[i] = v
			}
		}
		end := len(args)
		if i := slices.Index(args, "--"); i >= 0 { // what follows is another command
			end = i
		}
		r := d.run(slices.Insert(args, end, "--json")...)
		require.Equal(t, c.code, r.code, "%s: %s%s", c.args, r.out, r.err)
		if c.code != 0 {
			requireFailure(t, c.args, r)
		}
		first := requireJSON(t, c.args, c.prints, r.out)
		switch c.command {
		case "tryout":
			known["@tryout"] = first
		case "run":
			known["@job"] = first
		}
		if c.prints != "nothing" {
			require.Contains(t, string(doc), "`"+c.command, "docs/json.md names it")
		}
	}
	for _, path := range leaves(cli.Command(), "") {
		require.True(t, walked[path], "earlybench %s has no entry in the walk", path)
	}
}

// requireFailure checks the error of a command that failed.
func requireFailure(t *testing.T, args string, r result) {
	t.Helper()
	at := strings.Index(r.err, "{")
	require.GreaterOrEqual(t, at, 0, "%s: an error is an object: %s", args, r.err)
	var got struct {
		Error struct {
			Kind, Text string
			Code       int `json:"exit_code"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.err[at:]), &got), "%s: %s", args, r.err)
	require.NotEmpty(t, got.Error.Kind, args)
	require.NotEmpty(t, got.Error.Text, args)
	require.Equal(t, r.code, got.Error.Code, args)
}

// requireJSON checks what a command has printed, and returns the id of it, or of its first item.
func requireJSON(t *testing.T, args, prints, out string) string {
	t.Helper()
	if prints == "nothing" {
		require.Empty(t, out, args)
		return ""
	}
	values := json.NewDecoder(strings.NewReader(out))
	n := 0
	id := ""
	for ; ; n++ {
		var v map[string]any
		err := values.Decode(&v)
		if err == io.EOF {
			break
		}
		require.NoError(t, err, "%s: only JSON on standard output: %s", args, out)
		items, list := v["items"].([]any)
		require.Equal(t, prints == "list", list && prints != "object", "%s: %s", args, out)
		if s, ok := v["id"].(string); ok {
			id = s
		}
		if list && len(items) > 0 {
			id, _ = items[0].(map[string]any)["id"].(string)
		}
	}
	if prints != "lines" {
		require.Equal(t, 1, n, "%s prints one object: %s", args, out)
	}
	return id
}

// leaves are the paths of the commands that do something.
func leaves(c *cobra.Command, above string) (out []string) {
	for _, sub := range c.Commands() {
		path := strings.TrimSpace(above + " " + sub.Name())
		if sub.Hidden || sub.Name() == "help" || sub.Name() == "completion" || sub.Name() == "wait" || path == "host set" {
			out = append(out, leaves(sub, path)...)
			continue
		}
		if sub.Runnable() {
			out = append(out, path)
		}
		out = append(out, leaves(sub, path)...)
	}
	return out
}

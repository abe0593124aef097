package test

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// guideSheet is the sheet of docs/guides/writing-a-sheet.md.
func guideSheet(t *testing.T) string {
	t.Helper()
	guide, err := os.ReadFile("../docs/guides/writing-a-sheet.md")
	require.NoError(t, err)
	m := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindSubmatch(guide)
	require.NotNil(t, m)
	return string(m[1])
}

func TestTheGuidesSheetWorksFromNothingToALedDevice(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few", "--unknown")
	d.eventually("it is shown", func() bool { return strings.Contains(d.ok("rack"), "sheet new --from unknown-1") })

	file := filepath.Join(t.TempDir(), "slate.yaml")
	d.ok("sheet", "new", "--from", "unknown-1", "--name", "slate", "--out", file)
	again := d.run("sheet", "new", "--from", "unknown-1", "--name", "slate", "--out", file)
	require.Equal(t, 2, again.code)
	require.Contains(t, again.err, "already exists")
	require.Contains(t, d.ok("sheet", "check", file), "no errors")
	draft, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(draft), "#   interface ff/00/00 slate-sync")
	ofAnAdapter := filepath.Join(t.TempDir(), "reed.yaml")
	d.ok("sheet", "new", "--from", "demo/adapters/reed-sh", "--name", "reed", "--out", ofAnAdapter)
	require.Contains(t, d.ok("sheet", "check", ofAnAdapter), "no errors")

	twice := filepath.Join(t.TempDir(), "twice.yaml")
	require.NoError(t, os.WriteFile(twice, []byte("sheet: another\nextends: tarn/halden\nmaker: Halden\nmodels:\n  - {usb: \"f3e0:0104\", code: MY, name: Mine, handle: mine}\n"), 0o600))
	wrong := d.run("sheet", "add", twice)
	require.Equal(t, 1, wrong.code)
	require.Contains(t, wrong.out+wrong.err, "twice.yaml:5:11: model f3e0:0104 has a sheet already: tarn/halden", "the newcomer's file is to blame")

	require.NoError(t, os.WriteFile(file, []byte(guideSheet(t)), 0o600))
	require.Contains(t, d.ok("sheet", "check", file), "no errors; 10 models in all")
	added := d.run("sheet", "add", file)
	require.Equal(t, 0, added.code, added.err)
	require.Contains(t, added.err, "It is active")
	require.Contains(t, d.ok("rack"), "Switch Open desk on", "at once")
	require.NotContains(t, d.ok("rack"), "unknown-1")
	why := d.ok("why", "slate-1")
	require.Contains(t, why, "Open desk is off.")
	require.Contains(t, why, "is lent out")
	w := whyOf(t, d, "slate-1", "--answer", "machine-running=no", "--answer", "lamp=yes")
	require.Equal(t, "lent-out", w.Causes[0].ID)
	require.Contains(t, d.ok("sheet", "show", "slate-1", "--only", "word"), "Open desk")

	edited(t, d, added.err)
}

func TestANewcomerIsLedByTheGuidesSheet(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few", "--unknown")
	file := filepath.Join(t.TempDir(), "slate.yaml")
	require.NoError(t, os.WriteFile(file, []byte(guideSheet(t)), 0o600))
	d.ok("sheet", "add", file)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("slate-1")
	d.ok("rack", "set", "slate-1", "--hands", d.at.Hands+"/held/slate-1")
	n := &newcomer{d: d, b: b, handle: "slate-1"}
	require.Contains(t, n.leads(), "There is no app here that is made for", "%s", strings.Join(n.story, "\n"))
}

// edited edits the sheet beside the bench, well and badly.
func edited(t *testing.T, d *demo, said string) {
	t.Helper()
	file := strings.TrimSpace(said[strings.LastIndex(said, " "):])
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	write := func(old, new string) {
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(good), old, new, 1)), 0o600))
	}
	write("switch: Open desk", "switch: Open house")
	d.eventually("the edit is taken", func() bool { return strings.Contains(d.ok("rack"), "Switch Open house on") })
	write("open: fact.usb.link #", "open: fact.usb.lnk #")
	d.eventually("the broken edit is told", func() bool { return strings.Contains(d.ok("sheet"), "did you mean fact.usb.link?") })
	require.Contains(t, d.ok("sheet"), "has errors and is not active")
	require.Contains(t, d.ok("rack"), "there is no fact.usb.lnk", "and on the rack")
	require.Contains(t, d.ok("rack"), "Switch Open house on", "the last valid version stays active")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("An edit of a sheet is not active")
	b.sees("there is no fact.usb.lnk")

	bench := processOf(t, d.cmd.Process.Pid, "serve")
	require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))
	d.eventually("the service answers again", func() bool {
		_, err := d.api.Bench(context.Background())
		return err == nil && processOf(t, d.cmd.Process.Pid, "serve") != bench
	})
	d.eventually("over a restart too", func() bool { return strings.Contains(d.run("rack").out, "Gritstone Slate One") })
	require.Contains(t, d.ok("sheet"), "did you mean fact.usb.link?")
	write("switch: Open desk", "switch: Open desk")
	d.eventually("the mended one is taken", func() bool { return strings.Contains(d.ok("rack"), "Switch Open desk on") })
	require.NotContains(t, d.ok("sheet"), "not active")

	require.Equal(t, 1, d.run("sheet", "drop", "tarn").code, "a shipped sheet stays")
	require.Contains(t, d.run("sheet", "drop", "tarn/halden").err, "ships with Early Bench")
	d.ok("sheet", "drop", "slate")
	d.eventually("it has gone", func() bool { return !strings.Contains(d.ok("sheet"), "slate") })
}

package tryout_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/standin"
)

// desk is a bench with one linked handset.
type desk struct {
	*benchtest.Bench
	t      *testing.T
	rig    *standin.Rig
	keeper *keeper.Keeper
	tries  *tryout.Tryouts
}

func TestMain(m *testing.M) { leaks.None(m) }

func linked(t *testing.T) *desk {
	t.Helper()
	b := benchtest.New(t)
	d := &desk{Bench: b, t: t, rig: benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))}
	d.keeper = b.Watch(d.rig)
	b.First(d.keeper, "admitted")
	go benchtest.Touch(t, d.rig, "Until withdrawn")
	state, err := b.Ask(t.Context(), d.keeper)
	require.NoError(t, err)
	require.Equal(t, device.Admitted, state)
	b.First(d.keeper, "")
	b.Linked(d.keeper)
	d.tries = b.Tryouts
	return d
}

// project makes a project whose build is a shell script and whose entry is what
// that writes.
func (d *desk) project(change map[string]string) string {
	d.t.Helper()
	dir := d.t.TempDir()
	text := `id: fellgate/callout
name: Callout
version: "1"
families: [tarn]
build: {command: [sh, -c, "echo built; cp source app.wasm"]}
files: [app.wasm]
entry: app.wasm
try: {log: ready, within: 5s}
`
	for old, new := range change {
		require.Contains(d.t, text, old)
		text = strings.ReplaceAll(text, old, new)
	}
	require.NoError(d.t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(text), 0o600))
	require.NoError(d.t, os.WriteFile(filepath.Join(dir, "source"), []byte("no wasm at all"), 0o600))
	_, err := d.tries.AddProject(d.t.Context(), dir)
	require.NoError(d.t, err)
	return dir
}

func (d *desk) run(try bool) job.Job {
	d.t.Helper()
	j, err := d.tries.Start(d.t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-1"}, Try: try})
	require.NoError(d.t, err)
	return d.Ended(j)
}

func failed(j job.Job) string {
	for _, p := range j.Phases {
		if p.State == job.Failed {
			return p.Name
		}
	}
	return ""
}

func TestEveryPhaseThatFailsSaysWhatAndWhy(t *testing.T) {
	d := linked(t)
	for _, c := range []struct {
		name   string
		change map[string]string
		phase  string
		kind   problem.Kind
		says   string
	}{
		{"the build fails", map[string]string{"echo built; cp source app.wasm": "echo mistake in line 7; exit 3"}, "build", problem.Failed, "exit code 3.\nmistake in line 7"},
		{"the build's program is missing", map[string]string{"sh, -c,": "no-such-compiler, -c,"}, "build", problem.Failed, "no-such-compiler, which is not on this computer's search path"},
		{"the build makes no file", map[string]string{"cp source app.wasm": "true"}, "pack", problem.Failed, "app.wasm"},
		{"the files lie outside", map[string]string{"files: [app.wasm]": "files: [../source]"}, "pack", problem.Failed, "../source"},
		{"it needs a later release", map[string]string{"families: [tarn]": "families: [tarn]\nminimum: \"13\""}, "copy", problem.Blocked, "needs release 13, this is 12"},
		{"it is no app", nil, "log", problem.Failed, "did not keep running on heron-1: it crashed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d.t = t
			d.project(c.change)
			j := d.run(true)
			require.Equal(t, job.Failed, j.State)
			require.Equal(t, c.phase, failed(j))
			require.Equal(t, c.kind, j.Error.Kind)
			require.Contains(t, j.Error.Text, c.says)
		})
	}
	all, err := d.Store.Tryouts(t.Context(), "", "", 100)
	require.NoError(t, err)
	require.Len(t, all, 1, "only what reached the device is kept")
	require.False(t, all[0].Passed)
	require.Contains(t, all[0].Failed, "log: ")
}

func TestADamagedFileOfTheBenchIsNamedAndNotTheTransfer(t *testing.T) {
	d := linked(t)
	d.project(nil)
	require.Empty(t, failed(d.run(false)))
	all, err := d.Store.AppFiles(t.Context())
	require.NoError(t, err)
	files := d.tries.Files
	raw, err := os.ReadFile(files.Path(all[0].File))
	require.NoError(t, err)
	require.NoError(t, d.tries.RemoveApp(t.Context(), "heron-1", "fellgate/callout"))
	at := strings.Index(string(raw), "no wasm at all")
	require.Positive(t, at, "it is not compressed")
	raw[at] ^= 1
	require.NoError(t, os.WriteFile(files.Path(all[0].File), raw, 0o600))
	j, err := d.tries.Start(t.Context(), tryout.Ask{File: all[0].Digest, Devices: []string{"heron-1"}})
	require.NoError(t, err)
	j = d.Ended(j)
	require.Equal(t, "install", failed(j))
	require.Contains(t, j.Error.Text, files.Path(all[0].File)+" is damaged")
	j, err = d.tries.Start(t.Context(), tryout.Ask{File: all[0].Digest, Devices: []string{"heron-1"}})
	if err == nil {
		err = d.Ended(j).Error
	}
	require.ErrorContains(t, err, "is gone")
	require.Empty(t, failed(d.run(false)), "built anew, it is there again")
}

func TestAnAppForAnotherFamilyIsRefusedBeforeItIsBuilt(t *testing.T) {
	d := linked(t)
	d.project(map[string]string{"families: [tarn]": "families: [ostler]"})
	_, err := d.tries.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-1"}})
	require.Equal(t, problem.Blocked, problem.KindOf(err))
	require.ErrorContains(t, err, "Callout is not made for tarn. It is made for ostler")
}

func TestAnAppThatFitsNoMoreIsRefusedBeforeAByteIsSent(t *testing.T) {
	d := linked(t)
	dir := d.project(map[string]string{"cp source app.wasm": "truncate -s 600M app.wasm"})
	j := d.run(false)
	require.Equal(t, "copy", failed(j))
	require.Contains(t, j.Error.Text, "bytes, 512000000 are free")
	require.Zero(t, j.Phases[2].Done)
	require.Equal(t, "never-tried", d.Outlook.Look(d.keeper, "fellgate/callout").Why.Causes[0].ID, "a run is no tryout")
	require.Equal(t, "copy", failed(d.run(true)))
	why := d.Outlook.Look(d.keeper, "fellgate/callout").Why
	require.Equal(t, "tried", why.Gate)
	require.Equal(t, "storage-full", why.Causes[0].ID)
	require.Greater(t, why.Causes[0].Probability, 0.99)
	os.Remove(filepath.Join(dir, "app.wasm"))
}

func TestAFullHandsetIsNamedAndWithRoomItIsNotTheCauseAnyMore(t *testing.T) {
	d := linked(t)
	d.project(nil)
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodFault, standin.Steer{Body: "heron-2", Text: "storage-full"}))
	require.Equal(t, "copy", failed(d.run(true)))
	why := d.Outlook.Look(d.keeper, "fellgate/callout").Why
	require.Equal(t, "storage-full", why.Causes[0].ID)
	require.NotEmpty(t, why.Evidence)
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodFault, standin.Steer{Body: "heron-2", Text: "storage-full", Off: true}))
	require.NotEqual(t, "copy", failed(d.run(true)), "the remedy lets it through")
	require.NotEqual(t, "storage-full", d.Outlook.Look(d.keeper, "fellgate/callout").Why.Causes[0].ID)
}

func TestACableThatIsPulledInATryoutIsTheCause(t *testing.T) {
	d := linked(t)
	dir := d.project(map[string]string{"cp source app.wasm": "truncate -s 60M app.wasm"})
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodPull, standin.Steer{Body: "heron-2", After: 3 << 20}))
	j := d.run(true)
	require.Equal(t, "copy", failed(j))
	require.Equal(t, problem.Gone, j.Error.Kind)
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodPlug, standin.Steer{Body: "heron-2"}))
	d.Linked(d.keeper)
	why := d.Outlook.Look(d.keeper, "fellgate/callout").Why
	require.Equal(t, "cable-pulled", why.Causes[0].ID)
	require.Greater(t, why.Causes[0].Probability, 0.99)
	os.Remove(filepath.Join(dir, "app.wasm"))
}

func TestADeviceThatMayNotInstallAnyMoreSaysSo(t *testing.T) {
	d := linked(t)
	d.project(nil)
	benchtest.Touch(t, d.rig, "Settings", "Care", "Inside label", "Batch", "Computers may", "debug", "Let them")
	d.First(d.keeper, "mode")
	d.Linked(d.keeper)
	j := d.run(false)
	require.Equal(t, problem.Blocked, j.Error.Kind)
	require.Equal(t, "mode", j.Error.Gate)
	require.Contains(t, j.Error.Text, "computers may not install on this device")
	require.Contains(t, d.Outlook.Look(d.keeper, "").Why.Text, "lets computers debug, but not install")
}

func TestWhatCannotBeRunIsSaidBeforeAJobBegins(t *testing.T) {
	d := linked(t)
	start := func(a tryout.Ask) error {
		_, err := d.tries.Start(t.Context(), a)
		return err
	}
	require.ErrorIs(t, start(tryout.Ask{App: "fellgate/none", Devices: []string{"heron-1"}}), store.ErrNotFound)
	require.ErrorIs(t, start(tryout.Ask{File: strings.Repeat("0", 64), Devices: []string{"heron-1"}}), store.ErrNotFound)
	dir := d.project(nil)
	require.ErrorIs(t, start(tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-9"}}), store.ErrNotFound)
	require.NoError(t, os.Remove(filepath.Join(dir, ".earlybench.yaml")))
	require.ErrorContains(t, start(tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-1"}}), "has no .earlybench.yaml")
	_, err := d.tries.AddProject(t.Context(), "relative/path")
	require.ErrorContains(t, err, "absolute path")
	_, err = d.tries.TakeIn(t.Context(), filepath.Join(dir, "source"))
	require.Equal(t, problem.Invalid, problem.KindOf(err))
	require.Empty(t, d.Outlook.Look(d.keeper, "").Working)
	jobs, err := d.Store.Jobs(t.Context(), "", 10)
	require.NoError(t, err)
	require.Empty(t, jobs)
}

func TestAStoppedBuildIsEndedWithAllItsProcesses(t *testing.T) {
	d := linked(t)
	dir := d.project(map[string]string{"echo built; cp source app.wasm": "sleep 300 & echo $! > pid; wait"})
	j, err := d.tries.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-1"}})
	require.NoError(t, err)
	var pid string
	d.Eventually("the build runs", func() bool {
		raw, _ := os.ReadFile(filepath.Join(dir, "pid"))
		pid = strings.TrimSpace(string(raw))
		return pid != ""
	})
	require.True(t, d.Jobs.Stop(j.ID))
	require.Equal(t, job.Stopped, d.Ended(j).State)
	d.Eventually("its processes end", func() bool {
		stat, err := os.ReadFile("/proc/" + pid + "/stat")
		return err != nil || strings.Contains(string(stat), ") Z ")
	})
}

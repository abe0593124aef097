package tryout_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/tryout"
)

func TestSeveralDevicesAreOneJobWithATableAndEachGetsItsTurn(t *testing.T) {
	d := linked(t)
	for _, handle := range []string{"away-1", "away-2"} {
		_, err := d.Rack.Add(t.Context(), handle, "Heron 4")
		require.NoError(t, err)
	}
	dir := d.project(map[string]string{"echo built; cp source app.wasm": "echo x >> builds; cp source app.wasm"})
	j, err := d.tries.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"away-1", "heron-1", "away-2"}, Actor: "owner/ada"})
	require.NoError(t, err)
	j = d.Ended(j)
	require.Equal(t, job.Failed, j.State, "not all could be done")
	require.Equal(t, "It failed on 2 of 3 devices.", j.Error.Text)
	r, ok := tryout.ResultOf(j.Result)
	require.True(t, ok)
	require.Len(t, r.Devices, 3)
	for i, want := range []struct {
		device string
		state  job.State
		kind   problem.Kind
	}{{"away-1", job.Failed, problem.Blocked}, {"heron-1", job.Done, ""}, {"away-2", job.Failed, problem.Blocked}} {
		row := r.Devices[i]
		require.Equal(t, want.device, row.Device)
		require.Equal(t, want.state, row.State, "%s", row.Device)
		if want.kind != "" {
			require.Equal(t, want.kind, row.Error.Kind)
		}
	}
	children, err := d.Store.Children(t.Context(), j.ID)
	require.NoError(t, err)
	require.Len(t, children, 1, "only what could begin is a job")
	require.Equal(t, "owner/ada", children[0].Actor)

	built, err := os.ReadFile(filepath.Join(dir, "builds"))
	require.NoError(t, err)
	require.Equal(t, "x\n", string(built), "it is built once")

	again, err := d.Tryouts.Repeat(t.Context(), j, "owner/bea")
	require.NoError(t, err)
	require.Equal(t, "Run fellgate/callout on 2 devices", again.Title, "those on which it failed")
	require.Equal(t, "owner/bea", again.Actor)
	d.Ended(again)
	done, err := d.Store.Job(t.Context(), children[0].ID)
	require.NoError(t, err)
	again, err = d.Tryouts.Repeat(t.Context(), done, "owner/bea")
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(again).State, "the same on one device")
	_, err = d.Tryouts.Repeat(t.Context(), job.Job{ID: "x", Kind: "admission.ask", Ended: time.Now()}, "owner/bea")
	require.ErrorContains(t, err, "cannot be repeated")

	for name, ask := range map[string]tryout.Ask{
		"no device":      {App: "fellgate/callout"},
		"a device twice": {App: "fellgate/callout", Devices: []string{"heron-1", "heron-1"}},
	} {
		_, err := d.tries.Start(t.Context(), ask)
		require.Equal(t, problem.Invalid, problem.KindOf(err), name)
	}
}

func TestATryoutThatLooksForNothingSaysSo(t *testing.T) {
	d := linked(t)
	dir := benchtest.SmallApp(t, true)
	file := filepath.Join(dir, ".earlybench.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, _, _ := strings.Cut(string(text), "# A tryout passes")
	require.NoError(t, os.WriteFile(file, []byte(before), 0o600))
	_, err = d.tries.AddProject(t.Context(), dir)
	require.NoError(t, err)
	j := d.run(true)
	require.Equal(t, job.Done, j.State, "%+v", j.Error)
	r, _ := tryout.ResultOf(j.Result)
	kept, err := d.Store.Tryout(t.Context(), r.Tryout)
	require.NoError(t, err)
	said := ""
	for _, p := range kept.Points {
		if p.Name == "log" {
			said = p.Text
		}
	}
	require.Contains(t, said, "started, but nothing was checked")

	require.NoError(t, os.WriteFile(file, []byte("id: [broken"), 0o600))
	_, err = d.tries.Start(t.Context(), tryout.Ask{File: kept.Digest, Devices: []string{"heron-1"}, Try: true})
	require.ErrorContains(t, err, "the project of fellgate/callout is broken")
}

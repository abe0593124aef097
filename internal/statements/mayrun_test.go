package statements_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

func TestWhatMayRunWhereIsOneTable(t *testing.T) {
	d := newDesk(t, 0)
	d.project("")
	opened := func(settings ...string) *body.Beginning {
		b := &body.Beginning{Settings: map[string]string{}}
		for i := 0; i < len(settings); i += 2 {
			b.Settings[settings[i]] = settings[i+1]
		}
		return b
	}
	bodies := []standin.Entry{
		{Name: "heron-1", Body: "halden", Model: "H4", Serial: "HH4 0077 3C1E", Begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"}}},
		{Name: "kestle-1", Body: "kestle", Model: "K7", Serial: benchtest.KestleSerial(1), Begin: opened("visitors", "yes", "code", "done")},
		{Name: "kestle-2", Body: "kestle", Model: "K7", Serial: benchtest.KestleSerial(2), Begin: opened("visitors", "yes", "code", "done")},
		{Name: "whimbrel-1", Body: "ostler", Model: "WT", Serial: "OH W 4410", Begin: opened("crew", "yes", "lodgers", "yes")},
	}
	d.rig = d.Lent(d.at, bodies...)
	d.Eventually("the register was read", func() bool { return d.Belong.Serials() != nil })
	cells := func() map[string]statements.Cell {
		out := map[string]statements.Cell{}
		for _, c := range d.Statements.MayRun([]string{app})[app] {
			out[c.Device] = c
		}
		require.Len(t, out, 4)
		return out
	}
	d.Eventually("what is on the handset is known", func() bool { return cells()["kestle-1"].State == ready.Shut })
	now := cells()
	require.Equal(t, ready.NotNeeded, now["heron-1"].State)
	require.Equal(t, "registered", now["kestle-1"].Gate, "no token can name it before it is in the register")
	require.Equal(t, "granted", now["whimbrel-1"].Gate)
	e := d.Statements.Explain(d.device(1), app, nil)
	require.Contains(t, e.Remedy, "earlybench register add kestle-1")

	j, err := d.Statements.Allow(t.Context(), "heron-1", app, nil, false, "owner/ada")
	require.ErrorContains(t, err, "needs neither", j.ID)
	d.registers("kestle-1")
	j, err = d.Statements.Allow(t.Context(), "kestle-1", app, nil, false, "owner/ada")
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	d.Eventually("it may run there", func() bool { return cells()["kestle-1"].State == ready.Open })
	require.True(t, cells()["kestle-1"].Ends.IsZero(), "its end is far away")

	// Once it has left the register it still holds a token that lets the app run: that is what counts.
	require.NoError(t, d.Belong.Leave(t.Context(), "kestle-1"))
	require.Equal(t, ready.Open, cells()["kestle-1"].State)

	// An end that is near is told.
	d.puts(d.signed("z", func(s *statement.Statement) { s.Devices = []string{benchtest.KestleSerial(2)} }), false, "kestle-2")
	d.Eventually("it may run there, too", func() bool { return cells()["kestle-2"].State == ready.Open })
	require.False(t, cells()["kestle-2"].Ends.IsZero())

	// An app that is made for others is told apart from one that something stands against.
	dir := benchtest.SmallApp(t, true)
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(raw), "[tarn, ostler, kestle, wick]", "[tarn]", 1)), 0o600))
	_, err = d.Tryouts.AddProject(t.Context(), dir)
	require.NoError(t, err)
	d.Eventually("the bench knows for which families it is", func() bool { return cells()["kestle-2"].Unfit })
	e = d.Statements.Explain(d.device(2), app, nil)
	require.False(t, e.Allowed())
	require.Contains(t, e.Text, "is made for tarn")
}

// registers registers devices.
func (d *desk) registers(handles ...string) {
	d.T.Helper()
	j, err := d.Belong.Start(d.T.Context(), belong.Ask{Devices: handles, Actor: "owner/ada"})
	require.NoError(d.T, err)
	require.Equal(d.T, job.Done, d.Ended(j).State)
}

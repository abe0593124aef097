package statements_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/standin"
	authorities "earlybench.invalid/earlybench/standin/authority"
)

func TestMain(m *testing.M) { leaks.None(m) }

const app = "fellgate/callout"

// desk is a bench that is signed in at a stand-in authority, with registered handsets.
type desk struct {
	*benchtest.Bench
	at   *authorities.Authority
	rig  *standin.Rig
	time *clock.Moved // the authority's
}

func newDesk(t *testing.T, devices int) *desk {
	t.Helper()
	return newDeskOf(t, "full", devices)
}

func newDeskOf(t *testing.T, standing string, devices int) *desk {
	t.Helper()
	d := &desk{Bench: benchtest.New(t), time: &clock.Moved{}}
	d.at = benchtest.Authority(t, d.time)
	d.SignedIn(d.at, standing)
	if devices == 0 {
		return d
	}
	d.rig = d.Kestles(d.at, devices)
	j, err := d.Belong.Start(t.Context(), belong.Ask{All: true, Actor: "owner/ada"})
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	return d
}

// device is the handset with a number, from 1 on.
func (d *desk) device(n int) *keeper.Keeper { return d.BySerial(benchtest.KestleSerial(n)) }

// gate is how the gate token of the app stands on a device.
func (d *desk) gate(n int) string {
	return string(d.Outlook.Look(d.device(n), app).Readiness.Gate("token").State)
}

// handles are those of some devices.
func (d *desk) handles(numbers ...int) (out []string) {
	for _, n := range numbers {
		out = append(out, d.device(n).Device().Handle)
	}
	return out
}

// signed is a debug token that the authority has signed; change may change what it says.
func (d *desk) signed(id string, change func(*statement.Statement)) string {
	d.T.Helper()
	now := d.Clock.Now()
	s := statement.Statement{Kind: statement.DebugToken, Subject: "fellgate/thwaite", Confirmation: statement.Confirmation{Thumbprint: d.Safe.Thumbprint()}, App: statement.Any,
		Devices: []string{statement.Any}, Debug: true, Features: []string{}, Made: now.Unix(), Begins: now.Add(-time.Hour).Unix(), Ends: now.Add(100 * time.Hour).Unix(), ID: strings.Repeat(id, 16)}
	if change != nil {
		change(&s)
	}
	text, err := d.at.Signs(s)
	require.NoError(d.T, err)
	return text
}

// puts puts a statement on devices, and returns the rows.
func (d *desk) puts(text string, replace bool, devices ...string) []statements.Row {
	d.T.Helper()
	st, err := d.Statements.Add(context.Background(), text)
	require.NoError(d.T, err)
	j, err := d.Statements.Start(context.Background(), statements.PutAsk{ID: st.ID, Devices: devices, Replace: replace, Actor: "owner/ada"})
	require.NoError(d.T, err)
	j = d.Ended(j)
	t, ok := statements.TableOf(j.Result)
	require.True(d.T, ok, "%v", j.Error)
	failed := slices.ContainsFunc(t.Rows, statements.Row.Failed)
	require.Equal(d.T, failed, j.State == job.Failed, "%v", j.Error)
	return t.Rows
}

// anothers makes a token another developer's.
func anothers(t *testing.T) func(*statement.Statement) {
	t.Helper()
	key, err := developer.New()
	require.NoError(t, err)
	return func(s *statement.Statement) {
		s.Subject, s.Confirmation.Thumbprint = "harbour/bea", key.Public().Thumbprint()
	}
}

func TestWhatAnAppNeedsIsIssuedAndPut(t *testing.T) {
	d := newDesk(t, 2)
	d.Eventually("it has none", func() bool { return d.gate(1) == "shut" })
	e := d.Statements.Explain(d.device(1), app, nil)
	require.False(t, e.Allowed())
	require.Contains(t, e.Text, "has no debug token")
	for n := range 2 {
		j, err := d.Statements.Allow(t.Context(), d.handles(n + 1)[0], app, nil, false, "owner/ada")
		require.NoError(t, err)
		require.Equal(t, job.Done, d.Ended(j).State, "%v", j.Error)
		d.Eventually("its gate is open", func() bool { return d.gate(n+1) == "open" })
	}
	all := d.Statements.All()
	require.Len(t, all, 1, "one token names both")
	require.ElementsMatch(t, []string{benchtest.KestleSerial(1), benchtest.KestleSerial(2)}, all[0].Devices)
	require.True(t, d.Statements.Explain(d.device(2), app, nil).Allowed())
	require.True(t, d.Statements.Mine(all[0].Confirmation.Thumbprint))

	// It is withdrawn: the bench and its devices hear of that.
	require.NoError(t, d.Statements.Drop(t.Context(), all[0].ID, true))
	d.Eventually("its gate is shut", func() bool { return d.gate(1) == "shut" })
	e = d.Statements.Explain(d.device(1), app, nil)
	require.Equal(t, statement.LineID, e.Line)
	require.Equal(t, "withdrawn", d.state(1))
	require.Empty(t, d.Statements.All())
	d.Eventually("the device refuses it", func() bool {
		j := d.puts(all[0].Text, false, d.handles(2)...)
		return j[0].Outcome == statements.Already // it is there still
	})
	require.NoError(t, d.Statements.TakeOff(t.Context(), d.handles(2)[0], all[0].ID))
	d.Eventually("it has none", func() bool { return d.state(2) == "none" })
	rows := d.puts(all[0].Text, false, d.handles(2)...)
	require.Equal(t, statements.Refuses, rows[0].Outcome)
	require.Contains(t, rows[0].Text, "withdrawn by Fell Authority")

	j, err := d.Statements.Allow(t.Context(), d.handles(2)[0], app, nil, false, "owner/ada")
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State, "a new one is issued")
}

// state is the fact token.state of a device for the app.
func (d *desk) state(n int) string {
	for _, f := range d.Statements.Facts(d.device(n), app) {
		if f.Key == fact.TokenState {
			return f.Value.Text()
		}
	}
	return ""
}

func TestEachReasonWhyAnAppMayNotRunIsSaid(t *testing.T) {
	d := newDesk(t, 1)
	h := d.handles(1)[0]
	other := anothers(t)
	for i, c := range []struct {
		name, state string
		change      func(*statement.Statement)
		line        statement.Line
		text        string
	}{
		{"another developer's", "other", other, statement.LineKey, "is harbour/bea's"},
		{"another crew's, by the same key", "other", func(s *statement.Statement) { s.Subject = "harbour/thwaite" }, statement.LineSubject, "is for the crew harbour"},
		{"for another app", "other", func(s *statement.Statement) { s.App = "fellgate/muster" }, statement.LineApp, "is for fellgate/muster"},
		{"it covers", "good", nil, "", "may run fellgate/callout until"},
	} {
		t.Run(c.name, func(t *testing.T) {
			rows := d.puts(d.signed(fmt.Sprint(i), c.change), true, h)
			require.NotEqual(t, statements.Refuses, rows[0].Outcome, rows[0].Text)
			d.Eventually("the bench has seen it", func() bool { return d.state(1) == c.state })
			e := d.Statements.Explain(d.device(1), app, nil)
			require.Equal(t, c.line, e.Line)
			require.Contains(t, e.Text, c.text)
			require.Equal(t, c.line == "", e.Allowed())
			require.Equal(t, c.line == "", e.Remedy == "")
			require.Equal(t, c.line == "", d.gate(1) == "open")
		})
	}

	// What happens to one that is on the device.
	t.Run("it ends", func(t *testing.T) {
		d.puts(d.signed("e", func(s *statement.Statement) { s.Ends = d.Clock.Now().Add(time.Minute).Unix() }), true, h)
		d.Eventually("it is good", func() bool { return d.state(1) == "good" })
		d.Clock.Move(2 * time.Minute)
		require.Equal(t, statement.LineEnds, d.Statements.Explain(d.device(1), app, nil).Line)
		require.Equal(t, "shut", d.gate(1))
		d.Clock.Move(-2 * time.Minute)
	})
	t.Run("the device's clock is two hours behind, which is said", func(t *testing.T) {
		d.puts(d.signed("c", nil), true, h)
		require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodFault, standin.Steer{Body: "kestle-1", Text: "clock-wrong"}))
		d.Eventually("the bench has heard of its clock", func() bool { return d.state(1) == "ended" })
		e := d.Statements.Explain(d.device(1), app, nil)
		require.Equal(t, statement.LineBegins, e.Line)
		require.Contains(t, e.Remedy, "The clock of "+h+" is off by")
		require.NotContains(t, e.Text, "signature")
		rows := d.puts(d.signed("d", nil), true, h)
		require.Equal(t, statements.Refuses, rows[0].Outcome)
		require.Contains(t, rows[0].Text, "the clock of this device says")
	})
}

// This computer's clock is set a day ahead: devices judge by their own, so that nothing stops. A token that
// has ended for the device has ended, whatever this computer says.
func TestAClockOfThisComputerThatIsWrongByADayIsSeenAndStopsNothing(t *testing.T) {
	d := newDesk(t, 1)
	d.project("")
	d.puts(d.signed("a", func(s *statement.Statement) { s.Ends = d.Clock.Now().Add(6 * time.Hour).Unix() }), false, d.handles(1)...)
	d.Eventually("it may run", func() bool { return d.gate(1) == "open" })
	off := func(key fact.Key) time.Duration {
		f, ok := d.device(1).Facts().View().Get(key, d.Clock.Now())
		if !ok {
			return 0
		}
		return time.Duration(f.Value.Int()) * time.Second
	}
	d.Clock.Move(24 * time.Hour)
	d.Eventually("both are seen", func() bool { return off(fact.HostClock) > 23*time.Hour && off(fact.DeviceClock) < -23*time.Hour })
	require.Equal(t, "open", d.gate(1), "by the device's clock it is good")
	require.True(t, d.Statements.Explain(d.device(1), app, nil).Allowed())

	// The device's and the authority's clocks go on: now it has ended for the device.
	d.time.Move(7 * time.Hour)
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodClock, standin.Steer{By: (7 * time.Hour).String()}))
	d.Belong.Again()
	d.names(d.device(1), "token", "token-ended")
}

func TestATokenIsPutOnManyDevicesWithARowForEach(t *testing.T) {
	d := newDesk(t, 4)
	h := d.handles(1, 2, 3, 4)
	d.puts(d.signed("o", anothers(t)), false, h[2])
	named := func(s *statement.Statement) {
		s.Devices = []string{benchtest.KestleSerial(1), benchtest.KestleSerial(2), benchtest.KestleSerial(3)}
	}
	text := d.signed("n", named)
	require.Equal(t, statements.Put, d.puts(text, false, h[1])[0].Outcome)
	rows := d.puts(text, false, h...)
	require.Equal(t, []statements.Outcome{statements.Put, statements.Already, statements.Asks, statements.Refuses}, []statements.Outcome{rows[0].Outcome, rows[1].Outcome, rows[2].Outcome, rows[3].Outcome})
	require.Contains(t, rows[2].Text, "of harbour/bea is on it")
	require.Equal(t, problem.Person, rows[2].Error.Kind)
	require.Contains(t, rows[3].Text, "does not name "+h[3])
	rows = d.puts(text, true, h[2])
	require.Equal(t, statements.Replaced, rows[0].Outcome)
	require.Equal(t, "that of harbour/bea", rows[0].Text)

	_, err := d.Statements.Start(t.Context(), statements.PutAsk{ID: strings.Repeat("n", 16)})
	require.ErrorContains(t, err, "name a device")
	_, err = d.Statements.Start(t.Context(), statements.PutAsk{ID: strings.Repeat("n", 16), Devices: []string{h[0], h[0]}})
	require.ErrorContains(t, err, "twice")
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodPull, standin.Steer{Body: "kestle-1"}))
	d.Eventually("it is gone", func() bool { return d.device(1).Session() == nil })
	rows = d.puts(d.signed("m", nil), false, h[:2]...)
	require.Equal(t, []statements.Outcome{statements.Refuses, statements.Put}, []statements.Outcome{rows[0].Outcome, rows[1].Outcome}, "one that is not there does not keep it from the others")
	require.NotNil(t, rows[0].Error)
}

func TestWhatIsNotSignedByAnAuthorityIsRefusedOffline(t *testing.T) {
	d := newDesk(t, 1)
	good := d.signed("g", nil)
	d.at.Set(authorities.Dead)
	defer d.at.Set(authorities.Well)
	_, err := d.Statements.Add(t.Context(), "\n"+good+"\n")
	require.NoError(t, err, "it is checked without the authority")
	other := benchtest.Authority(t, &clock.Moved{})
	foreign, err := other.Signs(*d.read(good))
	require.NoError(t, err)
	flipped := "A"
	if good[len(good)-10:len(good)-9] == flipped {
		flipped = "B"
	}
	for name, text := range map[string]string{"nothing": "", "no statement": "hello", "another authority's": foreign, "a bit is flipped": good[:len(good)-10] + flipped + good[len(good)-9:]} {
		_, err := d.Statements.Add(t.Context(), text)
		require.Equal(t, problem.Refused, problem.KindOf(err), name)
	}
	require.Len(t, d.Statements.All(), 1)
}

func (d *desk) read(text string) *statement.Statement {
	d.T.Helper()
	s, err := d.at.Checker().Read(text)
	require.NoError(d.T, err)
	return s
}

func TestWhatTheAuthorityDoesNotIssueIsSaidWithWhatToDo(t *testing.T) {
	d := newDesk(t, 1)
	h := d.handles(1)[0]
	for name, c := range map[string]struct {
		ask  statements.Ask
		text string
	}{
		"a device that is not registered": {statements.Ask{Kind: statement.DebugToken, Devices: []string{"KS 9999"}}, "earlybench register add"},
		"no devices":                      {statements.Ask{Kind: statement.DebugToken}, "name the devices"},
		"a device that nobody knows":      {statements.Ask{Kind: statement.DebugToken, Devices: []string{"nobody"}}, "nobody"},
		"a grant for a bare key":          {statements.Ask{Kind: statement.Grant, Devices: []string{h}}, "earlybench identity"},
		"a feature that is none":          {statements.Ask{Kind: statement.DebugToken, Devices: []string{h}, Features: []string{"<b>"}}, "features"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := d.Statements.Issue(t.Context(), c.ask)
			require.Error(t, err)
			p := problem.Of(err)
			require.Contains(t, p.Text+" "+p.Remedy, c.text)
		})
	}
	require.Empty(t, d.Statements.All())
}

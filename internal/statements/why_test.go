package statements_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// names waits until why names a cause first for the app, and checks its evidence.
func (d *desk) names(k *keeper.Keeper, gate, id string) {
	d.T.Helper()
	var why cause.Explanation
	defer func() {
		if d.T.Failed() {
			d.T.Logf("why says: %s: %s %v", why.Gate, why.Text, why.Causes)
		}
	}()
	d.Eventually("why names "+id, func() bool {
		why = d.Outlook.Look(k, app).Why
		return len(why.Causes) > 0 && why.Causes[0].ID == id
	})
	require.Equal(d.T, gate, why.Gate)
	require.NotEmpty(d.T, why.Causes[0].Because, "it says how it knows")
	require.NotContains(d.T, why.Text+why.Causes[0].Text, "signature")
}

// held is a device that holds a statement already, and what the bench says of it.
type held struct {
	name  string
	kind  statement.Kind
	model string // K7 or WT
	// change is what the statement says; nil for a device without one.
	change func(s *statement.Statement, serial string)
	cause  string
	line   statement.Line
	fault  string // of the device
}

// lends starts a device for each case, all registered, with the statement that it holds.
func (d *desk) lends(cases []held) []*keeper.Keeper {
	d.T.Helper()
	var entries []standin.Entry
	for i, c := range cases {
		e := standin.Entry{Name: fmt.Sprintf("kestle-%d", i+1), Body: "kestle", Model: "K7", Serial: benchtest.KestleSerial(i + 1), Begin: &body.Beginning{Settings: map[string]string{"visitors": "yes", "code": "done"}}}
		if c.model == "WT" {
			e = standin.Entry{Name: fmt.Sprintf("whimbrel-%d", i+1), Body: "ostler", Model: "WT", Serial: fmt.Sprintf("OH W 44%02d", i+1), Begin: &body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}}
		}
		if c.change != nil {
			e.Begin.Statements = []string{d.signed(string(rune('a'+i)), func(s *statement.Statement) {
				s.Kind, s.Features = c.kind, []string{positions}
				c.change(s, e.Serial)
			})}
		}
		entries = append(entries, e)
	}
	d.rig = d.Lent(d.at, entries...)
	j, err := d.Belong.Start(d.T.Context(), belong.Ask{All: true, Actor: "owner/ada"})
	require.NoError(d.T, err)
	require.Equal(d.T, job.Done, d.Ended(j).State)
	var out []*keeper.Keeper
	for i, c := range cases {
		if c.fault != "" {
			require.NoError(d.T, benchtest.Steer(d.T, d.rig, standin.MethodFault, standin.Steer{Body: entries[i].Name, Text: c.fault}))
		}
		out = append(out, d.BySerial(entries[i].Serial))
	}
	return out
}

const positions = "background positions"

func TestWhyAndExplainNameWhatIsWrongWithADebugTokenOnADevice(t *testing.T) {
	d := newDesk(t, 0)
	d.project("", "features: ["+positions+"]\n")
	other := anothers(t)
	d.says("token", []held{
		{"none", statement.DebugToken, "K7", nil, "token-missing", "", ""},
		{"another developer's", statement.DebugToken, "K7", func(s *statement.Statement, _ string) { other(s) }, "token-of-another", statement.LineKey, ""},
		{"another crew's", statement.DebugToken, "K7", func(s *statement.Statement, _ string) { s.Subject = "harbour/thwaite" }, "token-of-another", statement.LineSubject, ""},
		{"for another app", statement.DebugToken, "K7", func(s *statement.Statement, _ string) { s.App = "fellgate/muster" }, "token-of-another", statement.LineApp, ""},
		{"it does not name the device", statement.DebugToken, "K7", unnamed, "token-unnamed", statement.LineDevices, ""},
		{"it has ended", statement.DebugToken, "K7", ended, "token-ended", statement.LineEnds, ""},
		{"the device's clock is behind", statement.DebugToken, "K7", func(*statement.Statement, string) {}, "device-clock-wrong", statement.LineBegins, "clock-wrong"},
		{"it was withdrawn", statement.DebugToken, "K7", nil, "token-withdrawn", statement.LineID, ""},
		{"it does not give a feature", statement.DebugToken, "K7", func(s *statement.Statement, _ string) { s.Features = []string{} }, "token-lacking", statement.LineFeatures, ""},
		{"it does not let the app be debugged", statement.DebugToken, "K7", func(s *statement.Statement, _ string) { s.Debug = false }, "token-lacking", statement.LineDebug, ""},
	})
}

func TestWhyAndExplainNameWhatIsWrongWithAGrantOnADevice(t *testing.T) {
	d := newDesk(t, 0)
	i, err := d.Belong.NewIdentity(t.Context(), "moor-desk")
	require.NoError(t, err)
	d.project("moor-desk", "features: ["+positions+"]\n")
	other := anothers(t)
	mine := func(change func(s *statement.Statement, serial string)) func(s *statement.Statement, serial string) {
		return func(s *statement.Statement, serial string) {
			s.Confirmation.Thumbprint = i.Thumbprint()
			change(s, serial)
		}
	}
	d.says("granted", []held{
		{"none", statement.Grant, "WT", nil, "grant-missing", "", ""},
		{"another developer's", statement.Grant, "WT", mine(func(s *statement.Statement, _ string) { other(s) }), "grant-of-another", statement.LineKey, ""},
		{"it does not name the device", statement.Grant, "WT", mine(unnamed), "grant-unnamed", statement.LineDevices, ""},
		{"it has ended", statement.Grant, "WT", mine(ended), "grant-ended", statement.LineEnds, ""},
		{"it was withdrawn", statement.Grant, "WT", nil, "grant-withdrawn", statement.LineID, ""},
		{"it does not give a feature", statement.Grant, "WT", mine(func(s *statement.Statement, _ string) { s.Features = []string{} }), "grant-lacking", statement.LineFeatures, ""},
		{"it does not let the app be debugged", statement.Grant, "WT", mine(func(s *statement.Statement, _ string) { s.Debug = false }), "grant-lacking", statement.LineDebug, ""},
	})
}

func unnamed(s *statement.Statement, _ string) { s.Devices = []string{"K 2 99999"} }

func ended(s *statement.Statement, _ string) {
	s.Begins, s.Ends = s.Begins-200, s.Begins
	s.Made = s.Begins
}

// says checks what why and explain say of each case.
func (d *desk) says(gate string, cases []held) {
	d.T.Helper()
	all := d.lends(cases)
	for i, c := range cases {
		if c.line == statement.LineID {
			j, err := d.Statements.Allow(d.T.Context(), all[i].Device().Handle, app, nil, false, "owner/ada")
			require.NoError(d.T, err)
			require.Equal(d.T, job.Done, d.Ended(j).State)
			require.NoError(d.T, d.at.Revokes("fellgate", d.Statements.All()[0].ID))
			d.Statements.Again()
		}
	}
	if gate == "granted" { // the gate before it is open, too
		at, _ := benchtest.Depot(d.T, nil, benchtest.Pack("6.2", 1000))
		d.Accept(at)
		d.Eventually("a depot has their support pack", func() bool { return len(d.Supply.Needs()) == 1 })
		jobs, err := d.Supply.Fetch(d.T.Context(), d.Supply.Needs()[0].Offer.Consent(), "owner/ada")
		require.NoError(d.T, err)
		require.Equal(d.T, job.Done, d.Ended(jobs[0]).State)
	}
	for i, c := range cases {
		d.T.Log(c.name)
		d.names(all[i], gate, c.cause)
		e := d.Statements.Explain(all[i], app, nil)
		require.Equal(d.T, ready.Shut, e.State, "%s: %s", c.name, e.Text)
		require.Equal(d.T, c.line, e.Line, "%s: %s", c.name, e.Text)
		require.Equal(d.T, gate, e.Gate, c.name)
		require.NotEmpty(d.T, e.Remedy, c.name)
	}
}

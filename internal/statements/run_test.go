package statements_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// project adds a small app to the bench; identity signs it, "" for a bare key.
func (d *desk) project(identity string, more ...string) {
	d.T.Helper()
	dir := benchtest.SmallApp(d.T, true)
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(d.T, err)
	text := strings.Replace(string(raw), `minimum: "9"`, `minimum: "3"`, 1) + strings.Join(more, "")
	if identity != "" {
		text += "identity: " + identity + "\n"
	}
	require.NoError(d.T, os.WriteFile(file, []byte(text), 0o600))
	_, err = d.Tryouts.AddProject(d.T.Context(), dir)
	require.NoError(d.T, err)
	d.Eventually("the bench knows who signs it", func() bool {
		f, ok := d.Book.Of(facts.Subject{Kind: facts.App, ID: app}).View().Get(fact.AppSigned, d.Clock.Now())
		return ok && f.Value.IsTrue() == (identity != "")
	})
}

func (d *desk) tries(handle string) (job.Job, error) {
	j, err := d.Tryouts.Start(d.T.Context(), tryout.Ask{App: app, Devices: []string{handle}, Try: true, Actor: "owner/ada"})
	if err != nil {
		return j, err
	}
	return d.Ended(j), nil
}

func TestAnUnsignedAppRunsUnderADebugTokenOfItsDeveloperOnly(t *testing.T) {
	d := newDesk(t, 1)
	d.project("")
	h := d.handles(1)[0]
	d.Eventually("the gate is shut", func() bool { return d.gate(1) == "shut" })
	_, err := d.tries(h)
	p := problem.Of(err)
	require.Equal(t, "token", p.Gate, "it is found before anything is built")
	j, err := d.Statements.Allow(t.Context(), h, app, nil, false, "owner/ada")
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	d.Eventually("the gate is open", func() bool { return d.gate(1) == "open" })
	j, err = d.tries(h)
	require.NoError(t, err)
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	for _, text := range []string{"Back", "Settings", "Ledger"} { // the app is in front
		require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodTouch, standin.Steer{Body: "kestle-1", Text: text}))
	}
	require.Contains(t, screen(t, d.rig, "kestle-1"), "of fellgate/thwaite")

	// Another developer's token takes its place: the device itself refuses the app.
	d.puts(d.signed("o", anothers(t)), true, h)
	session := d.Linked(d.device(1))
	apps, err := session.Apps()
	require.NoError(t, err)
	require.NoError(t, apps.Stop(t.Context(), app))
	_, err = apps.Start(t.Context(), app)
	require.ErrorContains(t, err, "was signed by another key")
}

// screen is all that a device's screen says.
func screen(t *testing.T, r *standin.Rig, name string) string {
	t.Helper()
	reading := benchtest.Read(t, r, name)
	text := reading.Title + "\n" + reading.Text
	for _, e := range reading.Elements {
		text += "\n" + e.Text + " " + e.Value
	}
	return text
}

func TestASignedAppRunsUnderAGrantForItsIdentity(t *testing.T) {
	d := newDesk(t, 0)
	d.rig = d.Lent(d.at, standin.Entry{Name: "whimbrel-1", Body: "ostler", Model: "WT", Serial: "OH W 4410", Begin: &body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}})
	k := d.BySerial("OH W 4410")
	h := k.Device().Handle
	j, err := d.Belong.Start(t.Context(), belong.Ask{Devices: []string{h}})
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	gate := func() string { return string(d.Outlook.Look(k, app).Readiness.Gate("granted").State) }

	// By a bare key it does not run there.
	d.project("")
	_, err = d.Statements.Allow(t.Context(), h, app, nil, false, "owner/ada")
	require.ErrorContains(t, err, "only runs apps signed with a signing identity")
	require.Contains(t, d.Outlook.Look(k, app).BlockedAt("granted").Text, "this one is signed by a bare key")
	require.Equal(t, statement.LineType, d.Statements.Explain(k, app, nil).Line)
	require.Contains(t, problem.Of(err).Remedy, "earlybench app set")

	i, err := d.Belong.NewIdentity(t.Context(), "moor-desk")
	require.NoError(t, err)
	d.project("moor-desk")
	d.Eventually("the gate is shut", func() bool { return gate() == "shut" })
	j, err = d.Statements.Allow(t.Context(), h, app, nil, false, "owner/ada")
	require.NoError(t, err)
	j = d.Ended(j)
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	d.Eventually("the gate is open", func() bool { return gate() == "open" })
	j, err = d.tries(h)
	require.NoError(t, err)
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	all := d.Statements.All()
	require.Len(t, all, 1)
	require.Equal(t, statement.Grant, all[0].Kind)
	require.Equal(t, i.Thumbprint(), all[0].Confirmation.Thumbprint)

	// The grant is withdrawn: the tablet, which has heard of that, refuses the app by itself.
	require.NoError(t, d.at.Revokes("fellgate", all[0].ID))
	d.Statements.Again()
	session := d.Linked(k)
	apps, err := session.Apps()
	require.NoError(t, err)
	d.Eventually("the tablet refuses it", func() bool {
		require.NoError(t, apps.Stop(t.Context(), app))
		_, err = apps.Start(t.Context(), app)
		return err != nil
	})
	require.ErrorContains(t, err, "was withdrawn by Fell Authority")
	require.Equal(t, statement.LineID, d.Statements.Explain(k, app, nil).Line)
	_, ok := statements.TableOf(j.Result)
	require.False(t, ok, "a tryout has another result")
}

// What the bench renews by itself never ends, however the time goes on and although nobody comes: its
// safe was opened by the service.
func TestThroughFourHundredDaysNothingEndsThatIsRenewedByItself(t *testing.T) {
	d := newDesk(t, 2)
	d.project("")
	for _, h := range d.handles(1, 2) {
		j, err := d.Statements.Allow(t.Context(), h, app, nil, false, "owner/ada")
		require.NoError(t, err)
		require.Equal(t, job.Done, d.Ended(j).State)
	}
	_, err := d.Belong.NewIdentity(t.Context(), "moor-desk")
	require.NoError(t, err)
	const step = 48 * time.Hour // under half of the shortest notice
	tokens := map[string]bool{}
	for day := time.Duration(0); day < 400*24*time.Hour; day += step {
		d.Clock.Move(step)
		d.time.Move(step)
		require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodClock, standin.Steer{By: step.String()}))
		require.Equal(t, "open", d.gate(1), "on day %d, before anything could be renewed", day/24/time.Hour)
		d.Statements.Again()
		d.Belong.Again()
		d.Eventually("what is due is renewed", func() bool {
			all, err := d.Endings.All(t.Context())
			require.NoError(t, err)
			for _, term := range all {
				require.NotEqual(t, ending.Ended, term.At(d.Clock.Now()), "%s %s ended on day %d", term.Kind, term.Name, day/24/time.Hour)
				if term.Mine && term.Alone && term.At(d.Clock.Now()) == ending.Soon {
					d.Statements.Again()
					d.Belong.Again()
					return false
				}
				tokens[term.ID] = true
			}
			for n := range 2 { // and the devices have what was renewed
				e := d.Statements.Explain(d.device(n+1), app, nil)
				if !e.Allowed() || e.Statement.End().Sub(d.Clock.Now()) < 12*24*time.Hour {
					d.Statements.Again()
					return false
				}
			}
			return d.gate(1) == "open" && d.gate(2) == "open"
		})
	}
	kinds := 0
	for id := range tokens {
		if !strings.HasPrefix(id, "identity-") && !strings.HasPrefix(id, "admission-") {
			kinds++
		}
	}
	require.GreaterOrEqual(t, kinds, 3, "tokens of 150 days were renewed")
	texts := d.Statements.All()
	require.LessOrEqual(t, len(texts), 2, "those that have ended are forgotten")
}

// moves moves the clocks of the bench, its devices and the authority together.
func (d *desk) moves(by time.Duration) {
	d.T.Helper()
	d.time.Move(by)
	require.NoError(d.T, benchtest.Steer(d.T, d.rig, standin.MethodClock, standin.Steer{By: by.String()}))
	d.Clock.Move(by)
}

func TestAfterOneJumpOfFortyDaysTheBenchSaysWhatHasEndedAndMendsWhatItCan(t *testing.T) {
	d := newDeskOf(t, "starter", 2) // grants of 21 days
	d.project("")
	h := d.handles(1)[0]
	j, err := d.Statements.Allow(t.Context(), h, app, nil, false, "owner/ada")
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	require.NoError(t, d.Safe.Lock()) // nobody is there meanwhile
	d.moves(40 * 24 * time.Hour)
	require.Equal(t, "shut", d.gate(1))
	require.Equal(t, statement.LineEnds, d.Statements.Explain(d.device(1), app, nil).Line)
	f, err := d.Endings.On(t.Context(), d.Clock.Now())
	require.NoError(t, err)
	require.Empty(t, f.Alone)
	require.Len(t, f.Stops, 1, "it was to be renewed, and was not")
	d.Eventually("somebody opens the safe", func() bool { return d.Safe.OpenAtStart(t.Context(), d.UnlockKey()) == nil })
	d.Eventually("the bench has mended it", func() bool {
		d.Statements.Again()
		return d.gate(1) == "open"
	})
	require.True(t, d.Statements.Explain(d.device(1), app, nil).Allowed())
}

// A tablet of a maker that wants developers accepted does so for signed apps, too.
func TestADeviceStopsTheSignedAppOfADeveloperThatItDoesNotKnow(t *testing.T) {
	d := newDesk(t, 0)
	d.rig = d.Lent(d.at, standin.Entry{Name: "ivory-1", Body: "ivory-reach", Model: "OF", Serial: "IR 55 1108",
		Begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}}})
	_, err := d.Belong.NewIdentity(t.Context(), "moor-desk")
	require.NoError(t, err)
	d.project("moor-desk")
	k := d.BySerial("IR 55 1108")
	j, err := d.Tryouts.Start(t.Context(), tryout.Ask{App: app, Devices: []string{k.Device().Handle}, Try: true, Actor: "owner/ada"})
	require.NoError(t, err)
	d.Eventually("it asks for the four figures", func() bool {
		now, ok := d.Jobs.Job(j.ID)
		return ok && slices.ContainsFunc(now.Phases, func(p job.Phase) bool { return figures.MatchString(p.Asks) })
	})
	now, _ := d.Jobs.Job(j.ID)
	code := ""
	for _, p := range now.Phases {
		if m := figures.FindString(p.Asks); m != "" {
			code = m
		}
	}
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodTouch, standin.Steer{Body: "ivory-1", Text: "Callout"}))
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodType, standin.Steer{Body: "ivory-1", Text: code}))
	for _, e := range benchtest.Read(t, d.rig, "ivory-1").Elements {
		if e.Kind == "key" && len(e.Text) > 3 && e.Text != "Delete" {
			require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodTouch, standin.Steer{Body: "ivory-1", Text: e.Text}))
		}
	}
	j = d.Ended(j)
	require.Equal(t, job.Done, j.State, "%v", j.Error)
}

var figures = regexp.MustCompile(`\b[0-9]{4}\b`)

// One project has two builds: the bare one runs on a handset under a token, the signed one on a
// tablet under a grant for any device.
func TestEachBuildOfAnAppIsAllowedAsItIsSigned(t *testing.T) {
	d := newDesk(t, 0)
	opened := &body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}
	d.rig = d.Lent(d.at, standin.Entry{Name: "whimbrel-1", Body: "ostler", Model: "WT", Serial: "OH W 4410", Begin: opened},
		standin.Entry{Name: "kestle-1", Body: "kestle", Model: "K7", Serial: benchtest.KestleSerial(1), Begin: &body.Beginning{Settings: map[string]string{"visitors": "yes", "code": "done"}}})
	j, err := d.Belong.Start(t.Context(), belong.Ask{All: true})
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	i, err := d.Belong.NewIdentity(t.Context(), "moor-desk")
	require.NoError(t, err)
	d.project("")
	p, err := d.Tryouts.Project(t.Context(), app, "")
	require.NoError(t, err)
	file := filepath.Join(p.Dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(raw, "builds:\n  field: {devices: any, debug: false, identity: moor-desk}\n"...), 0o600))
	tablet, handset := d.BySerial("OH W 4410").Device().Handle, d.handles(1)[0]
	field := &statements.Build{Key: i.Thumbprint(), Signed: true, Any: true}

	// Before that each is refused with its own reason, and nothing is built.
	d.Eventually("what is on them is known", func() bool {
		return d.Statements.Explain(d.BySerial("OH W 4410"), app, field).State == ready.Shut && d.Statements.Explain(d.device(1), app, nil).State == ready.Shut
	})
	_, err = d.Tryouts.Start(t.Context(), tryout.Ask{App: app, Build: "field", Devices: []string{tablet}})
	require.ErrorContains(t, err, tablet+" has no grant")
	require.Equal(t, "granted", problem.Of(err).Gate)
	require.Contains(t, problem.Of(err).Remedy, "earlybench grant new "+tablet)
	_, err = d.Tryouts.Start(t.Context(), tryout.Ask{App: app, Devices: []string{tablet}})
	require.ErrorContains(t, err, "only apps that a signing identity has signed")
	_, err = d.Tryouts.Start(t.Context(), tryout.Ask{App: app, Devices: []string{handset}})
	require.Equal(t, "token", problem.Of(err).Gate)
	require.Equal(t, ready.NotNeeded, d.Statements.Explain(d.device(1), app, field).State, "a signed app needs no token there")
	for handle, build := range map[string]*statements.Build{tablet: field, handset: nil} {
		j, err := d.Statements.Allow(t.Context(), handle, app, build, false, "owner/ada")
		require.NoError(t, err)
		require.Equal(t, job.Done, d.Ended(j).State, handle)
	}
	grants := 0
	for _, st := range d.Statements.All() {
		if st.Kind == statement.Grant {
			grants++
			require.Equal(t, []string{statement.Any}, st.Devices)
			require.False(t, st.Debug)
		}
	}
	require.Equal(t, 1, grants)
	for handle, build := range map[string]string{tablet: "field", handset: ""} {
		j, err := d.Tryouts.Start(t.Context(), tryout.Ask{App: app, Build: build, Devices: []string{handle}, Try: true, Actor: "owner/ada"})
		require.NoError(t, err, handle)
		j = d.Ended(j)
		require.Equal(t, job.Done, j.State, "%s: %v", handle, j.Error)
	}
	_, err = d.Tryouts.Start(t.Context(), tryout.Ask{App: app, Build: "other", Devices: []string{tablet}})
	require.ErrorContains(t, err, "there are field")
}

func TestADeviceThatHasLeftTheRegisterKeepsNothingFromBeingRenewed(t *testing.T) {
	d := newDeskOf(t, "starter", 2) // grants of 21 days
	d.project("")
	for n := range 2 {
		j, err := d.Statements.Allow(t.Context(), d.handles(n + 1)[0], app, nil, false, "owner/ada")
		require.NoError(t, err)
		require.Equal(t, job.Done, d.Ended(j).State)
	}
	require.NoError(t, d.Belong.Leave(t.Context(), d.handles(2)[0]))
	d.moves(15 * 24 * time.Hour)
	d.Eventually("somebody opens the safe", func() bool { return d.Safe.OpenAtStart(t.Context(), d.UnlockKey()) == nil })
	d.Eventually("the other has one that lasts longer", func() bool {
		d.Statements.Again()
		e := d.Statements.Explain(d.device(1), app, nil)
		return e.Allowed() && e.Statement.End().After(d.Clock.Now().AddDate(0, 0, 10))
	})
	e := d.Statements.Explain(d.device(1), app, nil)
	require.Equal(t, []string{benchtest.KestleSerial(1)}, e.Statement.Devices)
}

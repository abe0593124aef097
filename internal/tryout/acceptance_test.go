package tryout_test

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// ivory is a bench with a linked handset whose owner accepts developers, and an app.
func ivory(t *testing.T) *desk {
	t.Helper()
	d := &desk{Bench: benchtest.New(t), t: t}
	begin := body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"},
		Admits: map[string]string{ssh.FingerprintSHA256(d.Keys.Link.PublicKey()): "moor-desk"}}
	var err error
	d.rig, err = standin.Start(t.Context(), standin.Scenario{Dir: t.TempDir(), Host: "loft", Drivers: true, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0",
		HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "ivory-1", Body: "ivory-reach", Model: "OF", Serial: "IR 55-0817", Begin: &begin}}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.rig.Close()) })
	d.Hosts.Watch(store.Host{Name: "loft", USBIP: d.rig.Addresses().Hub, Control: d.rig.Addresses().Host})
	d.Eventually("it is on the rack", func() bool { return len(d.Rack.All()) == 1 })
	d.keeper = d.Rack.All()[0]
	d.Linked(d.keeper)
	_, err = d.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, true))
	require.NoError(t, err)
	return d
}

// gate is how the gate accepted stands for the app.
func (d *desk) gate() string {
	return string(d.Outlook.Glance(d.keeper, "fellgate/callout").Readiness.Gate("accepted").State)
}

func (d *desk) hand(texts ...string) {
	d.t.Helper()
	for _, text := range texts {
		d.Eventually(text, func() bool {
			return benchtest.Steer(d.t, d.rig, standin.MethodTouch, standin.Steer{Body: "ivory-1", Text: text}) == nil
		})
	}
}

func (d *desk) ask(unattended bool) job.Job {
	d.t.Helper()
	require.NoError(d.t, d.Safe.Permit(d.t.Context(), safe.Use{Item: d.Safe.Development(), Actor: "owner/ada", App: "fellgate/callout", Purpose: safe.SignApp}, time.Hour, "owner/ada"))
	j, err := d.Tryouts.Start(d.t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"ivory-1"}, Try: true, Unattended: unattended, Actor: "owner/ada"})
	require.NoError(d.t, err)
	return j
}

func TestATryoutWaitsUntilTheOwnerHasAcceptedTheDeveloper(t *testing.T) {
	d := ivory(t)
	d.Eventually("the device has said whom it accepts", func() bool { return d.gate() == "shut" })
	j := d.ask(false)
	d.Eventually("it says what to type", func() bool {
		now, _ := d.Jobs.Job(j.ID)
		for _, p := range now.Phases {
			if p.Name == "start" && p.Asks != "" && d.figures() != "" {
				return p.Asks == "Open the app in the app list of ivory-1, type "+d.figures()+", and choose Let run. Then it is started again."
			}
		}
		return false
	})
	require.Equal(t, "waiting", d.gate())
	d.hand("Callout")
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodType, standin.Steer{Body: "ivory-1", Text: d.figures()}))
	d.hand("Let run")
	j = d.Ended(j)
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	require.Equal(t, "open", d.gate())

	j = d.Ended(d.ask(true))
	require.Equal(t, job.Done, j.State, "known once, it is known for good: %v", j.Error)
}

// figures are those that the bench shows.
func (d *desk) figures() string {
	f := d.Outlook.Glance(d.keeper, "fellgate/callout").Words["figures"]
	if len(f) != 4 {
		return ""
	}
	return f
}

func TestATryoutThatNobodyAttendsToDoesNotWaitForTheOwner(t *testing.T) {
	d := ivory(t)
	j := d.Ended(d.ask(true))
	require.Equal(t, job.Failed, j.State)
	require.Equal(t, problem.Person, j.Error.Kind)
	require.Equal(t, "accepted", j.Error.Gate)
}

func TestAnAppOfNobodyIsRefusedBeforeAByteIsSent(t *testing.T) {
	d := ivory(t)
	a, err := d.Tryouts.TakeIn(t.Context(), unsigned(t))
	require.NoError(t, err)
	j, err := d.Tryouts.Start(t.Context(), tryout.Ask{File: a.Digest, Devices: []string{"ivory-1"}, Try: true})
	require.NoError(t, err)
	j = d.Ended(j)
	require.Equal(t, job.Failed, j.State)
	require.Equal(t, "accepted", j.Error.Gate)
	require.Contains(t, j.Error.Text, "names no developer")
	require.Contains(t, j.Error.Remedy, "earlybench run")
}

// unsigned is an app file that nobody has signed.
func unsigned(t *testing.T) string {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "callout.ebapp"))
	require.NoError(t, err)
	defer f.Close()
	m := appfile.Manifest{ID: "fellgate/callout", Name: "Callout", Version: "1", Families: []string{"tarn"}, Entry: "main.wasm"}
	_, err = appfile.Pack(f, m, fstest.MapFS{"main.wasm": {Data: []byte("x")}}, []string{"main.wasm"}, nil)
	require.NoError(t, err)
	return f.Name()
}

func TestADeviceThatFallsAsleepInTheCopyIsNamedAndIsTheCause(t *testing.T) {
	d := linked(t)
	dir := d.project(map[string]string{"cp source app.wasm": "head -c 40000000 /dev/urandom > app.wasm"})
	require.NotEmpty(t, dir)
	j, err := d.tries.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-1"}, Try: true})
	require.NoError(t, err)
	d.Eventually("it is being copied", func() bool {
		now, _ := d.Jobs.Job(j.ID)
		return len(now.Phases) > 2 && now.Phases[2].Done > 0
	})
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodFault, standin.Steer{Body: "heron-2", Text: "rests"}))
	j = d.Ended(j)
	require.Equal(t, job.Failed, j.State)
	require.Equal(t, "awake", j.Error.Gate)
	require.Regexp(t, `^heron-1 fell asleep in the middle of the copy, at byte \d+ of 40000000\.$`, j.Error.Text)

	st := d.Outlook.Look(d.keeper, "fellgate/callout")
	require.Equal(t, "awake", st.Readiness.First)
	require.Equal(t, "wake", st.Readiness.Next.ID)
	require.NoError(t, benchtest.Steer(t, d.rig, standin.MethodFault, standin.Steer{Body: "heron-2", Text: "rests", Off: true}))
	d.Eventually("it is awake", func() bool { return d.Outlook.Glance(d.keeper, "fellgate/callout").Readiness.First == "tried" })
	st = d.Outlook.Look(d.keeper, "fellgate/callout")
	require.Equal(t, "rested-in-copy", st.Why.Causes[0].ID)
	require.Equal(t, "rest-later", st.Readiness.Next.ID)
}

package prep_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
	authorities "earlybench.invalid/earlybench/standin/authority"
	"earlybench.invalid/earlybench/standin/body"
)

// patient is one device with a bench that leads it.
type patient struct {
	*benchtest.Bench
	t   *testing.T
	at  *authorities.Authority // whose debug tokens a device of kestle takes
	rig *standin.Rig
	k   *keeper.Keeper
	app string // that the device is looked at for; "" for none
}

const patientName = "device-1"

func TestMain(m *testing.M) { leaks.None(m) }

// newPatient starts one device of a maker, opened and admitted, on a host that
// needs no drivers.
func newPatient(t *testing.T, maker, model string, begin body.Beginning) *patient {
	t.Helper()
	p := &patient{Bench: benchtest.New(t), t: t}
	sc := standin.Scenario{Dir: t.TempDir(), Host: "loft", Answer: "1s", Boot: "300ms", Drivers: true, HubAddress: "127.0.0.1:0",
		HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: patientName, Body: maker, Model: model, Serial: "0000 1111", Begin: &begin}}}
	if maker == "kestle" {
		p.at = benchtest.Authority(t, p.Clock)
		sc.Authority = &standin.Authority{Authority: p.at.Checker(), URL: p.at.URL()}
		found, err := p.Authorities.Look(t.Context(), p.at.URL())
		require.NoError(t, err)
		_, err = p.Authorities.Add(t.Context(), p.at.URL(), found.Accept)
		require.NoError(t, err)
	}
	rig, err := standin.Start(t.Context(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rig.Close()) })
	p.rig = rig
	p.Hosts.Watch(store.Host{Name: "loft", USBIP: rig.Addresses().Hub, Control: rig.Addresses().Host})
	if maker == "wick" { // no bus shows it
		p.k, err = p.Rack.Add(t.Context(), patientName, model)
		require.NoError(t, err)
	}
	p.Eventually("it is on the rack", func() bool {
		if all := p.Rack.All(); len(all) == 1 {
			p.k = all[0]
		}
		return p.k != nil
	})
	return p
}

// hand does one thing at the device or its cable: "VERB: TEXT", a touch where no
// verb stands.
func (p *patient) hand(things ...string) {
	p.t.Helper()
	methods := map[string]string{"type": standin.MethodType, "press": standin.MethodPress, "slide": standin.MethodSlide, "fault": standin.MethodFault,
		"mend": standin.MethodFault, "pull": standin.MethodPull, "plug": standin.MethodPlug}
	for _, thing := range things {
		verb, text, _ := strings.Cut(thing, ": ")
		steer := standin.Steer{Body: patientName, Text: text, Off: verb == "mend"}
		method, ok := methods[verb]
		switch {
		case verb == "wait":
			d, _ := time.ParseDuration(text)
			time.Sleep(d)
			continue
		case verb == "restart the link":
			require.NoError(p.t, p.Prep.RestartLink(p.t.Context(), p.k.Device().Handle))
			continue
		case verb == "ask":
			p.ask()
			continue
		case verb == "pick": // the number that the bench shows
			method, steer.Text = standin.MethodTouch, p.look().Words["number"]
		case verb == "hold":
			p.hold()
			continue
		case verb == "token":
			p.token()
			continue
		case !ok:
			method, steer.Text = standin.MethodTouch, thing
		}
		var err error
		p.Eventually(thing, func() bool { err = benchtest.Steer(p.t, p.rig, method, steer); return err == nil })
		if verb == "pull" && p.k != nil { // else what is asked next is asked of the session that ends
			p.Eventually("the bench has seen that", func() bool { return len(p.k.Ways()) == 0 })
		}
	}
}

// hold holds the two keys together that the device names.
func (p *patient) hold() {
	p.t.Helper()
	r := benchtest.Read(p.t, p.rig, patientName)
	keys := regexp.MustCompile(`hold (\d) and (\d) together`).FindStringSubmatch(r.Text)
	require.Len(p.t, keys, 3, r.Text)
	p.hand("Key "+keys[1], "Key "+keys[2])
}

// token puts a debug token on the device that began half an hour ago.
func (p *patient) token() {
	p.t.Helper()
	now := p.Clock.Now()
	text, err := p.at.Signs(statement.Statement{Kind: statement.DebugToken, Subject: "fellgate/thwaite", Confirmation: statement.Confirmation{Thumbprint: p.Safe.Thumbprint()}, App: statement.Any,
		Devices: []string{statement.Any}, Debug: true, Features: []string{}, Made: now.Unix(), Begins: now.Add(-30 * time.Minute).Unix(), Ends: now.AddDate(0, 1, 0).Unix(), ID: "tokenoffellgate0"})
	require.NoError(p.t, err)
	on, err := p.Linked(p.k).Statements()
	require.NoError(p.t, err)
	require.NoError(p.t, on.Put(p.t.Context(), text))
}

// ask has the device ask, without waiting for the answer.
func (p *patient) ask() {
	p.Eventually("it can be asked", func() bool {
		st := p.look()
		key, ok := st.View.Get(fact.LinkKey, st.Now)
		return st.Readiness.First == "admitted" && ok && key.Value.Text() == "known"
	})
	done := make(chan struct{})
	go func() { defer close(done); p.Ask(context.WithoutCancel(p.t.Context()), p.k) }() // the gate tells
	p.t.Cleanup(func() { <-done })
	p.Eventually("it asks", func() bool {
		st := p.look()
		return st.Readiness.Gate("admitted").State == "waiting" || len(st.Why.Causes) > 0 && st.Why.Causes[0].ID == "question-refused"
	})
}

func (p *patient) look() outlook.Standing { return p.Outlook.Look(p.k, p.app) }

// names waits until why names a cause first, and returns what it says.
func (p *patient) names(id string) cause.Explanation {
	p.t.Helper()
	var why cause.Explanation
	deadline := time.Now().Add(benchtest.Patience)
	for time.Now().Before(deadline) {
		why = p.look().Why
		if len(why.Causes) > 0 && why.Causes[0].ID == id {
			return why
		}
		time.Sleep(10 * time.Millisecond)
	}
	var all []string
	for _, c := range why.Causes {
		all = append(all, fmt.Sprintf("%s %.2f", c.ID, c.Probability))
	}
	require.Fail(p.t, "why does not name it", "%s at gate %q (%s): %s", id, why.Gate, why.Text, strings.Join(all, ", "))
	return why
}

// Beginnings in which the mode is open.
var (
	lodging  = body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}
	visiting = body.Beginning{Settings: map[string]string{"visitors": "yes", "code": "done"}}
)

var opened = body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"}}

// TestEveryFaultIsNamedAndItsRemedyOpensTheGate puts every fault that bodies and
// cables can have on a device, asks why, does what the remedy says, and sees the
// gate open. With FAULTS set to a file it writes the table of docs/benchmarks.md.
func TestEveryFaultIsNamedAndItsRemedyOpensTheGate(t *testing.T) {
	way := slices.Concat([]string{"Settings", "Care", "Inside label"}, slices.Repeat([]string{"Batch"}, 7))
	allow := []string{"Computers may", "debug and install", "Let them"}
	in := []string{"ask", "Until withdrawn"}
	var table strings.Builder
	for _, f := range []struct {
		fault, cause string
		maker, model string
		begin        body.Beginning
		before       []string    // what was done before
		after        []string    // what shows it, once the fault is on
		answers      [][2]string // what a person answers, where no computer can see
		remedy       []string    // as told
		gate         string      // that the remedy opens
		app          bool        // for an app that needs release 9
	}{
		{fault: "not-plugged", cause: "not-plugged", begin: opened, answers: [][2]string{{"plugged", "no"}}, remedy: []string{"plug: "}, gate: "seen"},
		{fault: "cable-charges-only", cause: "cable-charges-only", begin: opened, answers: [][2]string{{"plugged", "yes"}, {"charging", "yes"}}, remedy: []string{"mend: cable-charges-only"}, gate: "seen"},
		{fault: "port-dead", cause: "port-dead", begin: opened, answers: [][2]string{{"plugged", "yes"}, {"charging", "no"}, {"other-port", "appears"}}, remedy: []string{"mend: port-dead"}, gate: "seen"},
		{fault: "cable-worn", cause: "cable-worn", begin: opened, after: []string{"wait: 18s"}, remedy: []string{"mend: cable-worn"}, gate: "seen"},
		{fault: "held-by-machine", cause: "held-by-machine", begin: opened, remedy: []string{"mend: held-by-machine"}, gate: "seen"},
		{fault: "way-closed", cause: "hidden-again", begin: opened, before: in, remedy: append(slices.Clone(way), allow...), gate: "mode"},
		{fault: "choice-off", cause: "choice-off", begin: opened, before: in, answers: [][2]string{{"back-room", "yes"}}, remedy: append([]string{"Settings", "Care", "Inside label", "Batch"}, allow...), gate: "mode"},
		{fault: "locked", cause: "locked", begin: opened, after: []string{"ask"}, remedy: []string{"Unlock", "type: 2580", "Done", "ask", "Until withdrawn"}, gate: "admitted"},
		{fault: "stale-link", cause: "stale-link", begin: opened, after: []string{"ask", "wait: 1200ms"}, answers: [][2]string{{"unlock", "no"}}, remedy: []string{"restart the link: ", "ask", "Until withdrawn"}, gate: "admitted"},
		{fault: "admission-withdrawn", cause: "never-asked", begin: opened, before: in, after: []string{"pull: ", "plug: "}, remedy: in, gate: "admitted"},
		{fault: "question-refused", cause: "question-refused", begin: opened, after: []string{"ask", "wait: 300ms"}, remedy: []string{"mend: question-refused", "ask", "Until withdrawn"}, gate: "admitted"},
		{fault: "key-changed", cause: "key-changed", begin: opened, before: in, after: append(slices.Clone(way), allow...), remedy: []string{"pin: ", "ask", "Until withdrawn"}, gate: "admitted"},
		{fault: "battery-low", cause: "battery-low", maker: "ostler", model: "DH", begin: lodging, before: []string{"ask", "pick"}, remedy: []string{"mend: battery-low"}, gate: "awake"},
		{fault: "release-old", cause: "release-too-old", begin: opened, before: in, app: true, remedy: []string{"mend: release-old"}, gate: "support"},
		{fault: "clock-wrong", cause: "device-clock-wrong", maker: "kestle", model: "K7", begin: visiting,
			before: []string{"ask", "hold", "token"}, app: true, remedy: []string{"mend: clock-wrong"}, gate: "token"},
		{fault: "locked", cause: "locked", maker: "ostler", model: "WT", begin: lodging, after: []string{"ask"}, remedy: []string{"Unlock", "type: 1066", "Done", "pick"}, gate: "admitted"},
	} {
		if f.maker == "" {
			f.maker, f.model = "halden", "H4"
		}
		t.Run(f.maker+" "+f.fault, func(t *testing.T) {
			p := newPatient(t, f.maker, f.model, f.begin)
			p.Eventually("it is seen", func() bool { return p.look().Readiness.Gate("seen").State == "open" })
			p.hand(f.before...)
			if len(f.before) > 0 {
				p.Eventually("it is linked", func() bool { return p.look().Readiness.Gate("linked").State == "open" })
			}
			if f.app {
				p.app = "fellgate/callout"
				_, err := p.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, true))
				require.NoError(t, err)
				require.NoError(t, p.Book.Observe(t.Context(), facts.Subject{Kind: facts.Device, ID: p.k.Device().ID},
					fact.Fact{Key: fact.RegisterState, Value: fact.Of("in"), Source: fact.Authority, At: p.Clock.Now()}))
			}
			p.hand("fault: " + f.fault)
			p.hand(f.after...)
			if len(f.answers) > 0 {
				p.Eventually("a gate has shut", func() bool {
					r := p.look().Readiness // a device that shows itself anew is away for a moment, and words about it end then
					return r.First == f.gate && r.Gate(f.gate).State != "open"
				})
			}
			for _, a := range f.answers {
				require.NoError(t, p.Outlook.Answer(t.Context(), p.Said(p.k), a[0], a[1]))
			}
			p.names(f.cause)
			time.Sleep(300 * time.Millisecond) // what is still being observed settles
			why := p.names(f.cause)
			require.NotZero(t, len(why.Evidence)+len(why.Answers), "with its evidence")
			for _, thing := range f.remedy {
				if thing == "pin: " {
					key := p.fingerprint()
					require.NoError(t, p.Rack.Set(t.Context(), p.k.Device().Handle, rack.Change{Key: &key}))
					continue
				}
				p.hand(thing)
			}
			p.Eventually(f.gate+" opens", func() bool { return p.look().Readiness.Gate(f.gate).State == "open" })
			seen := "observed"
			if len(f.answers) > 0 {
				seen = fmt.Sprintf("%d answered", len(f.answers))
			}
			fmt.Fprintf(&table, "| %s | %s | %s | %s | first, %.0f %% | %s | %s |\n", f.fault, f.maker, why.Gate, f.cause, 100*why.Causes[0].Probability, seen, "yes")
		})
	}
	if file := os.Getenv("FAULTS"); file != "" {
		require.NoError(t, os.WriteFile(file, []byte(table.String()), 0o600))
	}
}

func TestEveryWrongTurnHasItsOwnSentence(t *testing.T) {
	sentences := map[string]string{}
	for _, turn := range []struct {
		name, maker, model string
		begin              body.Beginning
		things             []string
		told               string
		says               string
	}{
		{"the wrong row", "halden", "H4", body.Beginning{}, append([]string{"Settings", "Care", "Inside label"}, slices.Repeat([]string{"Rinse"}, 9)...), "", "does not let computers debug"},
		{"the question refused", "halden", "H4", opened, []string{"ask", "No"}, "", "Somebody answered No on"},
		{"the question not answered", "halden", "H4", opened, []string{"ask", "wait: 1200ms"}, "", "Nobody answered on"},
		{"no crew number", "ostler", "WT", body.Beginning{}, nil, "", "takes no lodgers in"},
		{"the number not picked yet", "ostler", "WT", lodging, []string{"ask"}, "", "asks which number moor-desk shows"},
		{"none of the numbers", "ostler", "WT", lodging, []string{"ask", "None of these"}, "", "Somebody picked another number"},
		{"the number not picked in time", "ostler", "WT", lodging, []string{"ask", "wait: 1200ms"}, "", "Nobody answered on"},
		{"no restart yet", "kestle", "K7", body.Beginning{}, []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them"}, "", "lets no visitors in"},
		{"turned away", "kestle", "K7", visiting, []string{"ask", "turn away"}, "", "turned moor-desk away"},
		{"one key only", "kestle", "K7", visiting, []string{"ask", "Key 1", "wait: 1200ms"}, "", "Nobody answered on"},
	} {
		t.Run(turn.name, func(t *testing.T) {
			p := newPatient(t, turn.maker, turn.model, turn.begin)
			p.Eventually("it is seen", func() bool { return p.look().Readiness.Gate("seen").State == "open" })
			p.hand(turn.things...)
			p.Eventually("it says "+turn.says, func() bool { return strings.Contains(p.look().Why.Text, turn.says) })
			key := turn.maker + ": " + turn.says
			require.Empty(t, sentences[key], "a sentence of its own")
			sentences[key] = turn.name
			require.NotEmpty(t, p.look().Why.Remedy)
		})
	}
	t.Run("asleep", func(t *testing.T) {
		b := benchtest.New(t)
		k, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
		require.NoError(t, err)
		require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(k), "mode.loose", "yes"))
		require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(k), "device.asleep", "yes"))
		why := b.Look(k).Why
		require.Equal(t, "asleep", why.Causes[0].ID)
		require.GreaterOrEqual(t, why.Causes[0].Probability, cause.Named)
	})
}

// fingerprint reads the device key that the device shows, as its owner does.
func (p *patient) fingerprint() string {
	p.t.Helper()
	p.Eventually("it shows another key", func() bool { return strings.Contains(p.look().Words["trouble"], "it shows ") })
	_, key, _ := strings.Cut(p.look().Words["trouble"], "it shows ")
	return strings.TrimSuffix(key, ".")
}

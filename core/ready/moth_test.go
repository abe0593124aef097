package ready_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/sheets"
)

// moth is the sheet of a family that no code knows.
func moth(t testing.TB) *sheet.Sheet {
	t.Helper()
	text, err := os.ReadFile("testdata/moth.yaml")
	require.NoError(t, err)
	lib, err := sheet.LoadWith(sheets.Files, map[string][]byte{"moth.yaml": text})
	require.NoError(t, err)
	return lib.Fits(usb.ID{Vendor: 0xf3ef, Product: 0x0001}).At("")
}

// mothFacts are facts for which all of moth's gates are open.
func mothFacts() []fact.Fact {
	return []fact.Fact{
		cable(fact.USBPresent, fact.Of(true), fact.Bus), seen(fact.Asleep, fact.Of(false), fact.Device), seen(fact.Battery, fact.Of(70), fact.Device),
		seen("mode.lamp", fact.Of("lit"), fact.Adapter), seen("mode.moths", fact.Of(3), fact.Adapter), seen("dusk.ends", fact.Of(now.Add(time.Hour)), fact.Adapter),
		cable(fact.DriverBound, fact.Of(true), fact.Host), cable(fact.AdmitState, fact.Of("admitted"), fact.Device), cable(fact.LinkUp, fact.Of(true), fact.Device),
		seen(fact.SupportState, fact.Of("here"), fact.Host), seen(fact.RegisterState, fact.Of("in"), fact.Authority), seen(fact.GrantState, fact.Of("good"), fact.Device),
		seen(fact.OSRelease, fact.Of(fact.Release("10")), fact.Device), seen(fact.TokenState, fact.Of("good"), fact.Device), seen(fact.AcceptDevelopers, fact.Of([]string{"ada"}), fact.Device),
		seen(fact.AppTried, fact.Of(true), fact.Device)}
}

func TestAnOutsidersFamilyIsOneSheetToReady(t *testing.T) {
	s := moth(t)
	v := fact.NewView(s.Registry, []string{"cable:1"})
	at := func() ready.Readiness { return ready.Evaluate(s, withApp(s), v, now) }
	require.Equal(t, "seen", at().First)
	var firsts []string
	for _, f := range mothFacts() {
		v = v.With(f)
		if first := at().First; len(firsts) == 0 || firsts[len(firsts)-1] != first {
			firsts = append(firsts, first)
		}
	}
	require.Equal(t, []string{"awake", "mode", "driver", "admitted", "linked", "support", "registered", "granted", "token", "accepted", "tried", ""}, firsts)
	require.Equal(t, ready.Ready, at().Summary)
	for _, g := range at().Gates {
		require.Equal(t, ready.Open, g.State, g.Name)
	}
	require.Equal(t, now.Add(10*time.Minute), at().NextChange, "the battery and being awake are good for ten minutes")
}

func TestAnOutsidersFamilyIsExplained(t *testing.T) {
	s := moth(t)
	few := seen("mode.moths", fact.Of(1), fact.Adapter)
	few.At = now.Add(time.Second)
	v := fact.NewView(s.Registry, []string{"cable:1"}, append(mothFacts(), few)...)
	r := ready.Evaluate(s, withApp(s), v, now)
	words := s.Words("")
	words["handle"] = "moth-1"
	q := cause.Question{Sheet: s, Subject: withApp(s), Readiness: &r, View: v, Now: now, Words: words}
	e := cause.Explain(q)
	require.Equal(t, "moth-1 has too few moths at its lamp.", e.Text)
	require.Equal(t, "too-few-moths", e.Causes[0].ID)
	require.Greater(t, e.Causes[0].Probability, 0.99)
	require.Equal(t, "wait", cause.Next(q, e).Step.ID)
}

func TestAPersonsWordForAFactGivesWayToAnAdapters(t *testing.T) {
	s := moth(t)
	told := seen("mode.lamp", fact.Of("lit"), fact.Person)
	told.By = "ines"
	v := fact.NewView(s.Registry, nil, told, seen("mode.lamp", fact.Of("dark"), fact.Adapter))
	f, ok := v.Get("mode.lamp", now)
	require.True(t, ok)
	require.Equal(t, "dark", f.Value.Text())
	require.Equal(t, []fact.Contradiction{{Told: told, Observed: f}}, v.Contradictions(now))
	require.Empty(t, v.Contradictions(now.Add(3*time.Hour)), "both are outdated")
}

func BenchmarkEvaluateTwelveGates(b *testing.B) {
	s := moth(b)
	v := fact.NewView(s.Registry, []string{"cable:1"}, mothFacts()...)
	subject := withApp(s)
	require.Equal(b, ready.Ready, ready.Evaluate(s, subject, v, now).Summary)
	for b.Loop() {
		ready.Evaluate(s, subject, v, now)
	}
}

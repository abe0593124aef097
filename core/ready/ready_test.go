package ready_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/sheets"
)

var now = time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)

func heron(t testing.TB) *sheet.Sheet {
	t.Helper()
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	s := lib.Fits(usb.ID{Vendor: 0xf3e0, Product: 0x0104})
	require.NotNil(t, s)
	return s
}

func seen(k fact.Key, v fact.Value, src fact.Source) fact.Fact {
	return fact.Fact{Key: k, Value: v, Source: src, At: now}
}

func cable(k fact.Key, v fact.Value, src fact.Source) fact.Fact {
	f := seen(k, v, src)
	f.Scope = "cable:1"
	return f
}

func TestGatesOpenOneAfterAnother(t *testing.T) {
	s := heron(t)
	told := cable(sheet.Told("find"), fact.Of(true), fact.Person)
	onBus := []fact.Fact{cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(false), fact.Bus)}
	link := cable(fact.USBLink, fact.Of(true), fact.Bus)
	link.At = now.Add(time.Second)
	bound := cable(fact.DriverBound, fact.Of(true), fact.Host)
	asking := cable(fact.AdmitState, fact.Of("asking"), fact.Device)
	admitted := cable(fact.AdmitState, fact.Of("admitted"), fact.Device)
	admitted.At = now.Add(time.Second)
	up := cable(fact.LinkUp, fact.Of(true), fact.Device)
	mayDebug := cable(fact.ModeComputers, fact.Of("debug"), fact.Device)

	steps := []struct {
		name    string
		facts   []fact.Fact
		first   string
		state   ready.State
		next    string
		summary ready.Summary
	}{
		{"nothing is known", nil, "seen", ready.Unknown, "plug", ready.Unseen},
		{"it is on the bus with one interface", onBus, "mode", ready.Shut, "find", ready.Blocked},
		{"somebody says the row is found", append(onBus, told), "mode", ready.Shut, "tap", ready.Blocked},
		{"the bench link appears", append(onBus, link), "driver", ready.Unknown, "driver", ready.Blocked},
		{"the driver is bound", append(onBus, link, bound), "admitted", ready.Unknown, "admit", ready.Blocked},
		{"the device asks", append(onBus, link, bound, asking), "admitted", ready.Waiting, "admit", ready.Readying},
		{"the bench is let in", append(onBus, link, bound, asking, admitted), "linked", ready.Unknown, "link", ready.Blocked},
		{"the link is up", append(onBus, link, bound, admitted, up), "", "", "", ready.Ready},
		{"it may debug and not install", append(onBus, link, bound, admitted, up, mayDebug), "mode", ready.Shut, "allow", ready.Blocked},
	}
	for _, c := range steps {
		t.Run(c.name, func(t *testing.T) {
			v := fact.NewView(s.Registry, []string{"cable:1"}, c.facts...)
			r := ready.Evaluate(s, ready.Subject{}, v, now)
			require.Equal(t, c.first, r.First)
			require.Equal(t, c.state, r.Gate(c.first).State)
			require.Equal(t, c.summary, r.Summary)
			if c.next == "" {
				require.Nil(t, r.Next)
			} else {
				require.Equal(t, c.next, r.Next.ID)
			}
		})
	}
}

func TestWhatWasSeenOverACableEndsWithIt(t *testing.T) {
	s := heron(t)
	v := fact.NewView(s.Registry, []string{"cable:1"}, cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(true), fact.Bus))
	require.Equal(t, ready.Open, ready.Evaluate(s, ready.Subject{}, v, now).Gate("mode").State)
	r := ready.Evaluate(s, ready.Subject{}, v.Live(), now)
	require.Equal(t, ready.Unknown, r.Gate("mode").State)
	require.Equal(t, ready.Unseen, r.Summary)
}

// anyFacts draws facts of the shipped sheet's keys, of any age and scope.
func anyFacts(t *rapid.T, s *sheet.Sheet) []fact.Fact {
	specs := s.Registry.All()
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) fact.Fact {
		spec := rapid.SampledFrom(specs).Draw(t, "key")
		f := fact.Fact{Key: spec.Key, Source: rapid.SampledFrom(spec.Sources).Draw(t, "source"),
			At: now.Add(-time.Duration(rapid.IntRange(0, 1200).Draw(t, "age")) * time.Second), Scope: rapid.SampledFrom([]string{"", "cable:1", "cable:0"}).Draw(t, "scope")}
		switch spec.Type {
		case fact.Bool:
			f.Value = fact.Of(rapid.Bool().Draw(t, "bool"))
		case fact.Int:
			f.Value = fact.Of(rapid.IntRange(0, 100).Draw(t, "int"))
		case fact.Texts:
			f.Value = fact.Of([]string{"a"})
		case fact.Version:
			f.Value = fact.Of(fact.Release(rapid.SampledFrom([]string{"8", "12"}).Draw(t, "release")))
		default:
			f.Value = fact.Of(rapid.SampledFrom([]string{"", "admitted", "asking", "refused", "install", "debug", "known", "changed"}).Draw(t, "text"))
		}
		return f
	}), 0, 25).Draw(t, "facts")
}

func TestTheLawsOfReadinessHold(t *testing.T) {
	s := heron(t)
	rapid.Check(t, func(t *rapid.T) {
		facts := anyFacts(t, s)
		subject := ready.Subject{WithApp: rapid.Bool().Draw(t, "app")}
		v := fact.NewView(s.Registry, []string{"cable:1"}, facts...)
		r := ready.Evaluate(s, subject, v, now)

		require.Equal(t, r, ready.Evaluate(s, subject, v, now), "calling twice gives the same")

		shuffled := rapid.Permutation(facts).Draw(t, "shuffled")
		require.Equal(t, r, ready.Evaluate(s, subject, fact.NewView(s.Registry, []string{"cable:1"}, shuffled...), now), "the order of arrival does not matter")

		for _, g := range r.Gates {
			if g.State != ready.Open {
				continue
			}
			require.NotEmpty(t, g.Evidence, "%s is open with a fact behind it", g.Name)
			for _, f := range g.Evidence {
				require.True(t, v.Good(f, now), "%s is open on a good fact", g.Name)
			}
		}

		other := fact.Fact{Key: fact.Free, Value: fact.Of(5), Source: fact.Device, At: now, Scope: "cable:1"}
		require.Equal(t, r.Gates, ready.Evaluate(s, subject, v.With(other), now).Gates, "an unrelated fact changes nothing")

		at := now.Add(time.Duration(rapid.IntRange(0, 3600).Draw(t, "later")) * time.Second)
		if r.NextChange.IsZero() || at.Before(r.NextChange) {
			require.Equal(t, r.Gates, ready.Evaluate(s, subject, v, at).Gates, "nothing changes before NextChange")
		}

		gone := ready.Evaluate(s, subject, v.Live(), now)
		for _, g := range gone.Gates {
			for _, f := range g.Evidence {
				require.Empty(t, f.Scope, "nothing of a cable that was pulled counts")
			}
		}
	})
}

func TestAPersonsWordIsMarkedAndGivesWayToWhatIsSeen(t *testing.T) {
	s := heron(t)
	told := cable(sheet.Told("tap"), fact.Of(true), fact.Person)
	v := fact.NewView(s.Registry, []string{"cable:1"}, cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(false), fact.Bus), told)
	step := func(r ready.Readiness, id string) ready.Step {
		for _, st := range r.Steps {
			if st.ID == id {
				return st
			}
		}
		return ready.Step{}
	}
	r := ready.Evaluate(s, ready.Subject{}, v, now)
	require.True(t, step(r, "tap").Told)
	require.NotEqual(t, ready.Open, r.Gate("mode").State, "a word opens no gate that the bench can see")

	link := cable(fact.USBLink, fact.Of(true), fact.Bus)
	link.At = now.Add(time.Second)
	r = ready.Evaluate(s, ready.Subject{}, v.With(link), now)
	require.True(t, step(r, "tap").Done)
	require.False(t, step(r, "tap").Told, "now it was seen")
}

func BenchmarkEvaluate(b *testing.B) {
	s := heron(b)
	v := fact.NewView(s.Registry, []string{"cable:1"}, cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(true), fact.Bus),
		cable(fact.DriverBound, fact.Of(true), fact.Host), cable(fact.AdmitState, fact.Of("admitted"), fact.Device), cable(fact.LinkUp, fact.Of(true), fact.Device))
	for b.Loop() {
		ready.Evaluate(s, ready.Subject{}, v, now)
	}
}

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
	return s.At("12")
}

// every returns a sheet of each shipped model and range of releases.
func every(t testing.TB) []*sheet.Sheet {
	t.Helper()
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	var out []*sheet.Sheet
	for _, s := range lib.All() {
		out = append(out, s.Sheets...)
	}
	require.Greater(t, len(out), 10)
	return out
}

// withApp is a subject that an app is meant for.
func withApp(s *sheet.Sheet) ready.Subject {
	return ready.Subject{Attributes: sheet.Attributes{Family: s.Family, Maker: s.Maker, Code: s.Model.Code, App: "fellgate/callout", By: "ada", Needs: "9"}}
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
		{"the device link appears", append(onBus, link), "driver", ready.Unknown, "driver", ready.Blocked},
		{"the driver is bound", append(onBus, link, bound), "admitted", ready.Unknown, "admit", ready.Blocked},
		{"the device asks", append(onBus, link, bound, asking), "admitted", ready.Waiting, "admit", ready.Preparing},
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

// anyFacts draws facts of a sheet's keys, of any age and scope.
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
		case fact.Moment:
			f.Value = fact.Of(now.Add(time.Duration(rapid.IntRange(-200, 200).Draw(t, "hours")) * time.Hour))
		case fact.Version:
			f.Value = fact.Of(fact.Release(rapid.SampledFrom([]string{"6.1", "8", "12"}).Draw(t, "release")))
		default:
			f.Value = fact.Of(rapid.SampledFrom([]string{"", "admitted", "asking", "refused", "install", "debug", "known", "changed", "in", "here", "good", "done", "yes"}).Draw(t, "text"))
		}
		return f
	}), 0, 40).Draw(t, "facts")
}

// plain takes the pointers out of a readiness, so that two can be compared.
func plain(r ready.Readiness) (out []any) {
	for _, gates := range [][]ready.Gate{r.Gates, r.Host} {
		for _, g := range gates {
			out = append(out, g.Name, g.State, g.Waits)
			for _, f := range g.Evidence {
				out = append(out, *f)
			}
		}
	}
	for _, st := range r.Steps {
		out = append(out, st.ID, st.Done, st.Told, st.Denied != nil)
	}
	return append(out, r.Path.Name, r.First, r.Summary, r.Ending)
}

func TestTheLawsOfReadinessHold(t *testing.T) {
	sheets := every(t)
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.SampledFrom(sheets).Draw(t, "sheet")
		facts := anyFacts(t, s)
		subject := ready.Subject{}
		if rapid.Bool().Draw(t, "app") {
			subject = withApp(s)
		}
		v := fact.NewView(s.Registry, []string{"cable:1"}, facts...)
		r := ready.Evaluate(s, subject, v, now)

		require.Equal(t, plain(r), plain(ready.Evaluate(s, subject, v, now)), "calling twice gives the same")

		shuffled := rapid.Permutation(facts).Draw(t, "shuffled")
		require.Equal(t, plain(r), plain(ready.Evaluate(s, subject, fact.NewView(s.Registry, []string{"cable:1"}, shuffled...), now)), "the order of arrival does not matter")

		for _, g := range append(r.Gates, r.Host...) {
			if g.State != ready.Open {
				continue
			}
			require.NotEmpty(t, g.Evidence, "%s is open with a fact behind it", g.Name)
			for _, f := range g.Evidence {
				require.True(t, v.Good(*f, now), "%s is open on a good fact", g.Name)
			}
		}

		unrelated(t, s, subject, v, r)

		if at := now.Add(time.Duration(rapid.IntRange(0, 300*3600).Draw(t, "later")) * time.Second); r.NextChange.IsZero() || at.Before(r.NextChange) {
			require.Equal(t, plain(r), plain(ready.Evaluate(s, subject, v, at)), "nothing changes before NextChange")
		}

		gone := ready.Evaluate(s, subject, v.Live(), now)
		for _, g := range gone.Gates {
			for _, f := range g.Evidence {
				require.Empty(t, f.Scope, "nothing of a cable that was pulled counts")
			}
		}
	})
}

// unrelated checks that a fact that no gate of any path reads changes none.
func unrelated(t *rapid.T, s *sheet.Sheet, subject ready.Subject, v fact.View, r ready.Readiness) {
	read := map[fact.Key]bool{}
	for _, p := range s.Paths {
		for _, g := range p.Gates {
			for _, c := range []*sheet.Condition{g.Open, g.Waiting, g.Needed} {
				if c != nil {
					for _, k := range c.Facts {
						read[k] = true
					}
				}
			}
		}
	}
	for _, f := range anyFacts(t, s) {
		if f.Scope = ""; !read[f.Key] {
			require.Equal(t, gates(r), gates(ready.Evaluate(s, subject, v.With(f), now)), "%s has nothing to do with any gate", f.Key)
		}
	}
}

func gates(r ready.Readiness) (out []string) {
	for _, g := range r.Gates {
		out = append(out, g.Name+" "+string(g.State))
	}
	return out
}

func TestTheBestPathCounts(t *testing.T) {
	s := heron(t)
	air := fact.Fact{Key: fact.AirSeen, Value: fact.Of(true), Source: fact.Host, At: now, Scope: "air:1"}
	admitted := seen(fact.AdmitState, fact.Of("admitted"), fact.Device)
	computers := seen(fact.ModeComputers, fact.Of("install"), fact.Device)
	r := ready.Evaluate(s, ready.Subject{}, fact.NewView(s.Registry, nil), now)
	require.Equal(t, "cable", r.Path.Name, "nothing known: the sheet's own path")
	r = ready.Evaluate(s, ready.Subject{}, fact.NewView(s.Registry, []string{"air:1"}, air, admitted, computers), now)
	require.Equal(t, "wireless", r.Path.Name)
	require.Equal(t, ready.Open, r.Gate("seen").State)
	require.Equal(t, ready.NotNeeded, r.Gate("driver").State)
	r = ready.Evaluate(s, ready.Subject{}, fact.NewView(s.Registry, []string{"cable:1", "air:1"}, air, cable(fact.USBPresent, fact.Of(true), fact.Bus),
		cable(fact.USBLink, fact.Of(true), fact.Bus)), now)
	require.Equal(t, "cable", r.Path.Name, "on the cable it is further")
	later := ready.Evaluate(s, ready.Subject{}, fact.NewView(s.Registry, nil, air), now)
	require.Equal(t, ready.Unseen, later.Summary, "what was heard before does not count")
}

func TestTheComputerCanBeWhatStandsInTheWay(t *testing.T) {
	s := heron(t)
	all := []fact.Fact{cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(true), fact.Bus), cable(fact.DriverBound, fact.Of(true), fact.Host),
		cable(fact.AdmitState, fact.Of("admitted"), fact.Device), cable(fact.LinkUp, fact.Of(true), fact.Device), seen(fact.OSRelease, fact.Of(fact.Release("8")), fact.Bus)}
	kit := func(state string) fact.Fact { return seen(fact.KitState, fact.Of(state), fact.Host) }
	at := func(subject ready.Subject, facts ...fact.Fact) ready.Readiness {
		return ready.Evaluate(s, subject, fact.NewView(s.Registry, []string{"cable:1"}, append(facts, all...)...), now)
	}
	require.Equal(t, "", at(ready.Subject{}, kit("missing")).First, "without an app nothing is built")
	require.Equal(t, "support", at(withApp(s), kit("missing")).First, "release 8 is below what the app needs")
	all[len(all)-1].Value = fact.Of(fact.Release("12"))
	r := at(withApp(s), kit("missing"))
	require.Equal(t, "kit", r.First)
	require.Equal(t, ready.Shut, r.Gate("kit").State)
	require.Len(t, r.Host, 2)
	require.Equal(t, "tried", at(withApp(s), kit("here")).First)
	require.Equal(t, "tried", at(withApp(s)).First, "an app that is not built here needs no kit")
}

func TestWhatWaitsForWhatAndWhatEndsSoonIsTold(t *testing.T) {
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	s := lib.Named("kestle", "Kestle Works", "K7").At("3")
	f := func(k fact.Key, v fact.Value, src fact.Source) fact.Fact { return seen(k, v, src) }
	facts := []fact.Fact{f(fact.USBPresent, fact.Of(true), fact.Bus), f(fact.USBLink, fact.Of(true), fact.Bus), f(fact.DriverBound, fact.Of(true), fact.Host),
		f(fact.AdmitState, fact.Of("admitted"), fact.Device), f(fact.LinkUp, fact.Of(true), fact.Device), f(fact.AppTried, fact.Of(true), fact.Device),
		f(fact.RegisterState, fact.Of("in"), fact.Authority),
		f(fact.TokenState, fact.Of("good"), fact.Device), f(fact.TokenEnds, fact.Of(now.Add(7*24*time.Hour)), fact.Device)}
	v := fact.NewView(s.Registry, nil, facts...)
	r := ready.Evaluate(s, withApp(s), v, now)
	require.Equal(t, ready.Ready, r.Summary)
	require.Equal(t, []ready.Ending{{Gate: "token", At: now.Add(7 * 24 * time.Hour)}}, r.Ending)
	require.Equal(t, now.Add(12*time.Hour), r.NextChange, "what the device said of its token grows old")

	fresh := f(fact.TokenState, fact.Of("good"), fact.Device)
	fresh.At = now.Add(3 * 24 * time.Hour)
	registered := f(fact.RegisterState, fact.Of("in"), fact.Authority)
	registered.At = fresh.At
	r = ready.Evaluate(s, withApp(s), v.With(fresh).With(registered), fresh.At)
	require.Equal(t, ready.Expiring, r.Summary, "within the notice of 120 hours")
	require.True(t, r.Ending[0].Soon)
	require.Equal(t, ready.Shut, ready.Evaluate(s, withApp(s), v.With(f(fact.TokenEnds, fact.Of(now), fact.Authority)), now.Add(8*24*time.Hour)).Gate("token").State)

	r = ready.Evaluate(s, withApp(s), fact.NewView(s.Registry, nil, facts[0]), now)
	require.Equal(t, []string{"mode", "drivers"}, r.Gate("driver").Waits)
	require.Equal(t, []string{"linked", "token"}, r.Gate("tried").Waits)
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
	r = ready.Evaluate(s, ready.Subject{}, v.With(cable(sheet.Told("allow"), fact.Of(true), fact.Person)), now)
	require.False(t, step(r, "allow").Done, "what is seen stands against the word")
	require.NotNil(t, step(r, "allow").Denied)

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

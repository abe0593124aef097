package cause_test

import (
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/sheets"
)

var now = time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)

var loaded = sync.OnceValues(func() (*sheet.Library, error) { return sheet.Load(sheets.Files) })

func library(t testing.TB) *sheet.Library {
	t.Helper()
	lib, err := loaded()
	require.NoError(t, err)
	return lib
}

func heron(t testing.TB) *sheet.Sheet { return library(t).Named("tarn", "Halden", "H4").At("12") }

func seen(k fact.Key, v fact.Value, src fact.Source) fact.Fact {
	return fact.Fact{Key: k, Value: v, Source: src, At: now}
}

func said(check, answer string) fact.Fact {
	f := seen(sheet.Said(check), fact.Of(answer), fact.Person)
	f.By = "ines"
	return f
}

// ask explains a device of which some facts are known.
func ask(s *sheet.Sheet, learned cause.Learned, facts ...fact.Fact) (cause.Question, cause.Explanation) {
	words := s.Words("")
	for k, v := range map[string]string{"handle": "heron-2", "bench": "moor-desk", "fingerprint": "SHA256:x", "set": "halden-link 4.1", "trouble": "no answer", "holder": "virtual machine pit", "number": "47", "battery": "4", "shown": "SHA256:y", "kit": "fell-kit", "amiss": "bin/x in /opt/y is missing", "copy": "/opt/x", "companion": "heron-1", "signer": "harbour-desk", "lender": "harbour-desk", "away": "the way in is hidden", "there": "Open the Back room"} {
		words[k] = v
	}
	subject := ready.Subject{Attributes: sheet.Attributes{Family: s.Family, Maker: s.Maker, Code: s.Model.Code, App: "fellgate/callout", By: "ada", Needs: "9"}}
	q := cause.Question{Sheet: s, Subject: subject, View: fact.NewView(s.Registry, nil, facts...), Now: now, Words: words, Learned: learned}
	r := ready.Evaluate(s, subject, q.View, now)
	q.Readiness = &r
	return q, cause.Explain(q)
}

func top(e cause.Explanation) string { return e.Causes[0].ID }

func probability(e cause.Explanation, id string) float64 {
	for _, c := range e.Causes {
		if c.ID == id {
			return c.Probability
		}
	}
	return 0
}

func TestEveryWayOfNotBeingLetInHasItsOwnSentenceAndCause(t *testing.T) {
	s := heron(t)
	sentences := map[string]string{}
	for state, want := range map[string]string{"none": "never-asked", "asking": "question-unanswered", "refused": "question-refused", "expired": "question-expired", "busy": "question-busy"} {
		_, e := ask(s, nil, seen(fact.USBPresent, fact.Of(true), fact.Bus), seen(fact.USBLink, fact.Of(true), fact.Bus),
			seen(fact.DriverBound, fact.Of(true), fact.Host), seen(fact.AdmitState, fact.Of(state), fact.Device))
		require.Equal(t, "admitted", e.Gate)
		require.NotContains(t, e.Text+e.Remedy, "{")
		require.NotContains(t, sentences, e.Text, "%s says what %s says", state, sentences[e.Text])
		sentences[e.Text] = state
		require.Equal(t, fact.AdmitState, e.Evidence[0].Key, "the gate's own evidence comes first")
		require.Equal(t, want, top(e))
		require.Greater(t, e.Causes[0].Probability, 0.95)
		require.Equal(t, fact.AdmitState, e.Causes[0].Because[0].Key)
	}
}

func TestAnswersNarrowTheCausesDownAndCanBeTakenBack(t *testing.T) {
	s := heron(t)
	plugged := []fact.Fact{seen(fact.USBPresent, fact.Of(true), fact.Bus), seen(fact.USBLink, fact.Of(false), fact.Bus)}
	q, fresh := ask(s, nil, plugged...)
	require.Equal(t, "mode", fresh.Gate)
	require.Equal(t, "way-hidden", top(fresh), "it is brand new, as far as the bench knows")
	require.Equal(t, "find", cause.Next(q, fresh).Step.ID)
	plugged = append(plugged, seen(fact.Met, fact.Of(true), fact.Device))
	q, before := ask(s, nil, plugged...)
	require.Equal(t, cause.AsCheck, cause.Next(q, before).Kind)
	_, e := ask(s, nil, append(plugged, said("back-room", "yes"))...)
	require.Equal(t, "choice-off", top(e))
	require.Equal(t, "ines", e.Answers[0].Fact.By)
	q, e = ask(s, nil, append(plugged, said("back-room", "no"))...)
	require.Equal(t, "hidden-again", top(e))
	require.Greater(t, e.Causes[0].Probability, cause.Named)
	require.Equal(t, cause.AsRemedy, cause.Next(q, e).Kind, "what is named is remedied")
	view := q.View.Without(fact.Person, sheet.Said("back-room"))
	q.View = view
	require.Equal(t, before.Causes, cause.Explain(q).Causes)
}

func TestWhatTheBenchSeesCountsBeforeWhatSomebodySaid(t *testing.T) {
	s := heron(t)
	_, e := ask(s, nil, said("machine-running", "no"), seen(fact.USBHolder, fact.Of("pit"), fact.Bus))
	require.Equal(t, "seen", e.Gate)
	require.Equal(t, "held-by-machine", top(e))
	i := slices.IndexFunc(e.Answers, func(g cause.Given) bool { return g.Check.ID == "machine-running" })
	require.True(t, e.Answers[i].Seen)
	require.Equal(t, "yes", e.Answers[i].Answer.ID)
	require.Equal(t, fact.USBHolder, e.Answers[i].Fact.Key)
}

func TestARemedyDoneInVainMakesItsCauseUnlikely(t *testing.T) {
	s := library(t).Base("any")
	_, before := ask(s, nil, said("charging", "yes"))
	require.Equal(t, "cable-charges-only", top(before))
	did := seen(sheet.Did("cable-charges-only"), fact.Of(true), fact.Person)
	_, after := ask(s, nil, said("charging", "yes"), did)
	require.Less(t, probability(after, "cable-charges-only"), probability(before, "cable-charges-only")/5)
	i := slices.IndexFunc(after.Causes, func(c cause.Ranked) bool { return c.ID == "cable-charges-only" })
	require.True(t, after.Causes[i].Done)
}

func TestWhatWasLearnedMovesThePriors(t *testing.T) {
	s := library(t).Base("any")
	_, before := ask(s, nil)
	_, after := ask(s, cause.Learned{"port-dead": 40})
	require.Equal(t, "port-dead", top(after))
	require.Greater(t, probability(after, "port-dead"), 3*probability(before, "port-dead"))
}

func TestTheProbabilitiesAlwaysSumToOne(t *testing.T) {
	lib := library(t)
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.SampledFrom(lib.All()).Draw(t, "series").At("")
		var facts []fact.Fact
		for _, c := range s.Checks {
			if rapid.IntRange(0, 3).Draw(t, "answered") == 0 {
				facts = append(facts, said(c.ID, rapid.SampledFrom(c.Answers).Draw(t, "answer").ID))
			}
		}
		for _, c := range s.Causes {
			if rapid.IntRange(0, 6).Draw(t, "did") == 0 {
				facts = append(facts, seen(sheet.Did(c.ID), fact.Of(true), fact.Person))
			}
		}
		_, e := ask(s, nil, facts...)
		var sum float64
		for i, c := range e.Causes {
			require.GreaterOrEqual(t, c.Probability, 0.0)
			require.True(t, i == 0 || c.Probability <= e.Causes[i-1].Probability, "the most probable first")
			sum += c.Probability
		}
		if len(e.Causes) > 0 {
			require.InDelta(t, 1, sum, 1e-9)
		}
	})
}

func TestWhatOpenedAGateIsTold(t *testing.T) {
	s := library(t).Base("any")
	_, e := ask(s, nil, said("charging", "yes"))
	did := func(c string, later time.Duration) fact.Fact {
		f := seen(sheet.Did(c), fact.Of(true), fact.Person)
		f.At = now.Add(later)
		return f
	}
	require.Equal(t, "", cause.Turned(e, nil), "nobody did anything, and nothing is sure")
	require.Equal(t, "port-dead", cause.Turned(e, []fact.Fact{did("cable-charges-only", 0), did("port-dead", time.Minute)}), "what was done last helped")
	_, sure := ask(s, nil, seen(fact.USBHolder, fact.Of("pit"), fact.Bus))
	require.Equal(t, "held-by-machine", cause.Turned(sure, nil))
}

func TestAReportTellsAllThatHelpsAndNothingThatIsSecret(t *testing.T) {
	s := heron(t)
	q, e := ask(s, nil, seen(fact.USBPresent, fact.Of(true), fact.Bus), seen(fact.USBLink, fact.Of(true), fact.Bus), said("screen-shows", "plain"),
		seen(fact.DriverBound, fact.Of(true), fact.Host), seen(fact.LinkTrouble, fact.Of("Pinned is SHA256:abcdef, it shows SHA256:123456."), fact.Device))
	text := cause.Report("heron-2: Halden Heron 4", q, e)
	for _, want := range []string{"heron-2: Halden Heron 4", "admitted    unknown", "never-asked", "What does its screen show? - Nothing of the kind (told)", "usb.link = yes (observed, bus, 06:52:00)"} {
		require.Contains(t, text, want)
	}
	for _, secret := range []string{"abcdef", "123456", "ines", "SHA256:x"} {
		require.NotContains(t, text, secret)
	}
	require.NotContains(t, text, "**")
}

// catalogue is every fault of the scenario, with the cause that it is in some
// sheet.
var catalogue = map[string][]string{
	"charge-only cable": {"cable-charges-only"}, "worn cable": {"cable-worn"}, "dead port": {"port-dead"},
	"driver missing": {"driver-missing"}, "driver fetched but not bound": {"driver-not-bound"}, "driver unsigned": {"driver-unsigned"}, "driver for a similar model": {"driver-similar"},
	"support pack ticked but not fetched": {"support-not-fetched"}, "support pack outdated": {"support-outdated"},
	"kit missing": {"kit-missing", "program-missing"}, "kit path wrong": {"kit-path", "kit-moved", "kit-broken"}, "kit too old": {"kit-version"}, "kit not described": {"kit-unknown"},
	"way in hidden": {"way-hidden"}, "choice off": {"choice-off", "may-not-install"}, "half-way": {"restart-forgotten", "code-not-typed", "code-forgotten", "crew-not-given"},
	"question unanswered": {"question-unanswered"}, "question refused": {"question-refused"}, "question expired": {"question-expired"},
	"locked": {"locked"}, "stale link": {"stale-link"}, "asleep": {"asleep"}, "battery low": {"battery-low"}, "held by a virtual machine": {"held-by-machine"},
	"wrong network": {"wrong-network"}, "hotspot": {"on-hotspot"}, "new address": {"new-address"}, "device key changed": {"key-changed"},
	"storage full": {"storage-full"}, "device clock wrong": {"device-clock-wrong"}, "host clock wrong": {"host-clock-wrong"},
	"identity ended, withdrawn, another's":          {"identity-ended", "identity-withdrawn", "identity-of-another"},
	"grant ended, withdrawn, another's, not naming": {"grant-ended", "grant-withdrawn", "grant-of-another", "grant-unnamed"},
	"token ended, withdrawn, another's, not naming": {"token-ended", "token-withdrawn", "token-of-another", "token-unnamed"},
	"not accepted": {"not-accepted"}, "register full": {"register-full"}, "account signed out": {"account-out"}, "standing too low": {"standing-low"},
	"authority down": {"authority-down"}, "authority slow": {"authority-slow"}, "depot slow": {"depot-slow"}, "depot cut": {"depot-cut"},
	"cable pulled": {"cable-pulled"}, "release too old": {"release-too-old"},
}

func TestEveryFaultIsACauseInSomeSheet(t *testing.T) {
	for fault, causes := range catalogue {
		for _, id := range causes {
			require.True(t, slices.ContainsFunc(library(t).All(), func(s *sheet.Series) bool { return s.At("").Cause(id) != nil }), "%s: %s", fault, id)
		}
	}
}

func TestACheckSplitsEveryCauseFromItsNeighbours(t *testing.T) {
	for _, series := range library(t).All() {
		for _, s := range series.Sheets {
			for _, a := range s.Causes {
				for _, b := range s.Causes {
					if a.ID < b.ID && slices.ContainsFunc(a.Gates, func(g string) bool { return slices.Contains(b.Gates, g) }) {
						require.Greater(t, apart(s, a, b), 0.4, "%s: %s and %s", s.Name, a.ID, b.ID)
					}
				}
			}
		}
	}
}

// apart is how well the best check tells two causes apart: from 0, not at all,
// to 1 (the total variation distance of their answers).
func apart(s *sheet.Sheet, a, b *sheet.Cause) (best float64) {
	for _, c := range s.Checks {
		var d float64
		for i, p := range c.Share(a.ID) {
			d += max(p-c.Share(b.ID)[i], 0)
		}
		best = max(best, d)
	}
	return best
}

func TestEverySentenceOfEverySheetIsWhole(t *testing.T) {
	for _, series := range library(t).All() {
		for _, s := range series.Sheets {
			for _, lang := range append([]string{""}, s.Languages()...) {
				words := s.Words(lang)
				for _, k := range sheet.OfDevice {
					words[k] = "x"
				}
				for _, c := range s.Causes {
					for _, text := range []string{c.Text, c.Remedy.Text, c.Remedy.Sight} {
						require.NotContains(t, sheet.Fill(text, words), "{", c.ID)
					}
					require.True(t, strings.HasSuffix(c.Text, "."), "%s: %s", s.Name, c.Text)
				}
				for _, c := range s.Checks {
					require.NotContains(t, sheet.Fill(c.Text, words), "{", c.ID)
				}
			}
		}
	}
}

package fact_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/fact"
)

var now = time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)

func registry(t require.TestingT) *fact.Registry {
	r, err := fact.NewRegistry(
		fact.Spec{Key: "usb.present", Type: fact.Bool, Sources: []fact.Source{fact.Bus}, Ends: fact.EndsUnplug},
		fact.Spec{Key: "register.state", Type: fact.Text, Sources: []fact.Source{fact.Authority, fact.Device, fact.Person}, Good: time.Hour},
	)
	require.NoError(t, err)
	return r
}

func TestTheStrongestSourceThatIsStillGoodIsAnswered(t *testing.T) {
	state := func(v string, src fact.Source, age time.Duration) fact.Fact {
		return fact.Fact{Key: "register.state", Value: fact.Of(v), Source: src, At: now.Add(-age)}
	}
	cases := []struct {
		name  string
		facts []fact.Fact
		want  string
	}{
		{"nothing is known", nil, ""},
		{"a person's word, where there is nothing better", []fact.Fact{state("in", fact.Person, 0)}, "in"},
		{"the authority before the device, though it is older", []fact.Fact{state("in", fact.Device, 0), state("out", fact.Authority, 50*time.Minute)}, "out"},
		{"the device, once the authority's word is outdated", []fact.Fact{state("in", fact.Device, 0), state("out", fact.Authority, 61*time.Minute)}, "in"},
		{"exactly at its end it is no longer good", []fact.Fact{state("in", fact.Device, time.Hour)}, ""},
		{"the later of two of one source", []fact.Fact{state("in", fact.Device, 2*time.Minute), state("out", fact.Device, time.Minute)}, "out"},
		{"a source that may not tell is passed over", []fact.Fact{state("in", fact.Bus, 0)}, ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f, ok := fact.NewView(registry(t), nil, c.facts...).Get("register.state", now)
			require.Equal(t, c.want != "", ok)
			require.Equal(t, c.want, f.Value.Text())
		})
	}
}

func TestWhatWasSeenOverACableIsGoodOnlyWhileItLasts(t *testing.T) {
	f := fact.Fact{Key: "usb.present", Value: fact.Of(true), Source: fact.Bus, At: now, Scope: "cable:1"}
	v := fact.NewView(registry(t), []string{"cable:1"}, f)
	_, ok := v.Get("usb.present", now.Add(1000*time.Hour))
	require.True(t, ok)
	_, ok = v.Live("cable:2").Get("usb.present", now)
	require.False(t, ok)
}

func TestTheOrderOfArrivalDoesNotMatter(t *testing.T) {
	r := registry(t)
	sources := []fact.Source{fact.Authority, fact.Device, fact.Person}
	rapid.Check(t, func(t *rapid.T) {
		facts := rapid.SliceOf(rapid.Custom(func(t *rapid.T) fact.Fact {
			return fact.Fact{Key: "register.state", Value: fact.Of(rapid.SampledFrom([]string{"in", "out", "full"}).Draw(t, "value")),
				Source: rapid.SampledFrom(sources).Draw(t, "source"), At: now.Add(-time.Duration(rapid.IntRange(0, 90).Draw(t, "age")) * time.Minute)}
		})).Draw(t, "facts")
		shuffled := rapid.Permutation(facts).Draw(t, "shuffled")
		a, okA := fact.NewView(r, nil, facts...).Get("register.state", now)
		b, okB := fact.NewView(r, nil, shuffled...).Get("register.state", now)
		require.Equal(t, okA, okB)
		require.Equal(t, a, b)
		one := fact.NewView(r, nil)
		for _, f := range facts {
			one = one.With(f)
		}
		c, _ := one.Get("register.state", now)
		require.Equal(t, a, c, "one by one is the same as all at once")
	})
}

func TestNextChangeIsWhenAgeFirstEndsAFact(t *testing.T) {
	r := registry(t)
	rapid.Check(t, func(t *rapid.T) {
		var facts []fact.Fact
		for _, src := range []fact.Source{fact.Authority, fact.Device} {
			facts = append(facts, fact.Fact{Key: "register.state", Value: fact.Of(string(src)), Source: src,
				At: now.Add(-time.Duration(rapid.IntRange(0, 80).Draw(t, "age")) * time.Minute)})
		}
		v := fact.NewView(r, nil, facts...)
		before, _ := v.Get("register.state", now)
		next := v.At(now).NextChange([]int{r.Index("register.state")})
		at := now.Add(time.Duration(rapid.IntRange(0, 7200).Draw(t, "later")) * time.Second)
		if next.IsZero() || at.Before(next) {
			after, _ := v.Get("register.state", at)
			require.Equal(t, before, after)
		}
	})
}

func TestReleasesAreOrderedByTheirParts(t *testing.T) {
	for _, c := range []struct {
		a, b fact.Release
		want int
	}{{"9", "12", -1}, {"12", "12.0", 0}, {"6.10", "6.2", 1}, {"6.2.1", "6.2", 1}, {"", "1", -1}} {
		require.Equal(t, c.want, c.a.Compare(c.b), "%s and %s", c.a, c.b)
		require.Equal(t, -c.want, c.b.Compare(c.a))
	}
	for _, bad := range []string{"", "twelve", "1.2.3.4.5", "-1", "1..2"} {
		_, err := fact.ParseRelease(bad)
		require.Error(t, err, bad)
	}
}

func TestValuesComeBackFromJSON(t *testing.T) {
	for _, v := range []fact.Value{fact.Of(true), fact.Of(7), fact.Of("x"), fact.Of(fact.Release("6.2")), fact.Of([]string{"a", "b c"}), fact.Of([]string{})} {
		raw, err := json.Marshal(v)
		require.NoError(t, err)
		back, err := fact.ParseValue(v.Type(), raw)
		require.NoError(t, err)
		require.Equal(t, v, back)
	}
	_, err := fact.ParseValue(fact.Int, []byte(`"seven"`))
	require.ErrorContains(t, err, "not of type int")
}

func TestARegistryRefusesWhatIsDeclaredTwiceOrHalf(t *testing.T) {
	ok := fact.Spec{Key: "a", Type: fact.Bool, Sources: []fact.Source{fact.Bus}}
	_, err := fact.NewRegistry(ok, ok)
	require.ErrorContains(t, err, "twice")
	_, err = fact.NewRegistry(fact.Spec{Key: "a"})
	require.ErrorContains(t, err, "type and sources")
	_, err = fact.NewRegistry(fact.Builtin()...)
	require.NoError(t, err)
}

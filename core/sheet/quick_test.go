package sheet

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/fact"
)

// expression draws a condition that may be quick.
func expression(t *rapid.T, depth int) string {
	leaf := rapid.SampledFrom([]string{"fact.usb.present", "fact.link.up", "known.link.up", "known.admit.state", `fact.admit.state == "admitted"`,
		`fact.admit.state != "asking"`, "fact.device.battery >= 10", "fact.device.battery < 50", "fact.device.battery == 7", "fact.device.battery != 7",
		`fact.device.release < version("12")`, `fact.device.release == version("12.0")`, "fact.device.release >= app.release", "fact.device.release != app.release",
		`endsWithin(fact.grant.ends, duration("48h"))`, `endsWithin(fact.grant.ends, duration("0s"))`,
		"app.developer in fact.accept.developers"})
	if depth == 0 {
		return leaf.Draw(t, "leaf")
	}
	switch rapid.IntRange(0, 3).Draw(t, "kind") {
	case 0:
		return "!(" + expression(t, depth-1) + ")"
	case 1:
		return "(" + expression(t, depth-1) + " && " + expression(t, depth-1) + ")"
	case 2:
		return "(" + expression(t, depth-1) + " || " + expression(t, depth-1) + ")"
	}
	return leaf.Draw(t, "leaf")
}

func TestQuickConditionsComeToTheSameAsByCEL(t *testing.T) {
	r, err := fact.NewRegistry(fact.Builtin()...)
	require.NoError(t, err)
	l, err := newLanguage(r)
	require.NoError(t, err)
	now := time.Now()
	rapid.Check(t, func(t *rapid.T) {
		c, err := l.compile(expression(t, 3))
		require.NoError(t, err)
		require.NotNil(t, c.quick, c.Source)
		var facts []fact.Fact
		add := func(k fact.Key, v fact.Value, src fact.Source) {
			if rapid.Bool().Draw(t, "known") {
				facts = append(facts, fact.Fact{Key: k, Value: v, Source: src, At: now})
			}
		}
		add(fact.USBPresent, fact.Of(rapid.Bool().Draw(t, "present")), fact.Bus)
		add(fact.LinkUp, fact.Of(rapid.Bool().Draw(t, "up")), fact.Device)
		add(fact.AdmitState, fact.Of(rapid.SampledFrom([]string{"admitted", "asking"}).Draw(t, "state")), fact.Device)
		add(fact.Battery, fact.Of(rapid.SampledFrom([]int{7, 10, 60}).Draw(t, "battery")), fact.Device)
		add(fact.OSRelease, fact.Of(rapid.SampledFrom([]fact.Release{"6.2", "12", "12.1"}).Draw(t, "release")), fact.Device)
		add(fact.GrantEnds, fact.Of(now.Add(time.Duration(rapid.IntRange(-3, 3).Draw(t, "days"))*24*time.Hour)), fact.Device)
		add(fact.AcceptDevelopers, fact.Of(rapid.SampledFrom([][]string{{}, {""}, {"ada"}, {"bea", "ada"}}).Draw(t, "developers")), fact.Device)
		who := &Attributes{By: rapid.SampledFrom([]string{"", "ada", "ad"}).Draw(t, "by"), Needs: rapid.SampledFrom([]fact.Release{"", "9", "12"}).Draw(t, "needs")}
		k := fact.NewView(r, nil, facts...).At(now)
		require.Equal(t, c.interpret(who, k), c.quick.eval(who, k), c.Source)
	})
}

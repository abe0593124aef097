package cause_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
)

// trials are gates that are small enough to look at all that may happen.
var trials = []struct{ family, maker, code, gate string }{
	{"wick", "Wick & Daughters", "W2", "awake"}, {"ostler", "Ostler House", "WT", "registered"}, {"ostler", "Ostler House", "WT", "support"},
	{"ostler", "Ostler House", "WT", "mode"}, {"linux", "", "ssh", "seen"},
}

// mean is the seconds that a way takes, over cases of all causes by their
// probability.
func mean(tr *cause.Trial, w cause.Way, cases int) (sum float64) {
	ids, p := tr.Causes()
	for i, id := range ids {
		n := max(int(p[i]*float64(cases)), 1)
		var of float64
		for k := range n {
			of += tr.Seconds(w, cause.Case{Truth: id, Seed: uint64(k)}) / float64(n)
		}
		sum += p[i] * of
	}
	return sum
}

func TestTheEngineIsNearlyAsGoodAsLookingAtEverything(t *testing.T) {
	var engine, exact, written, remedies float64
	for _, c := range trials {
		tr := cause.NewTrial(library(t).Named(c.family, c.maker, c.code).At(""), c.gate, nil)
		require.True(t, tr.Small(), c.gate)
		engine += mean(tr, cause.Engine, 400)
		exact += mean(tr, cause.Exact, 400)
		written += mean(tr, cause.Checks, 400)
		remedies += mean(tr, cause.Remedies, 400)
	}
	require.LessOrEqual(t, engine, 1.1*exact)
	require.Less(t, engine, written)
	require.Less(t, engine, remedies/2)
}

func TestWhatWasLearnedAtADeskSavesTime(t *testing.T) {
	s := library(t).Named("tarn", "Halden", "H4").At("12")
	learned := cause.Learned{"port-dead": 30, "cable-worn": 15, "held-by-machine": 5} // a desk with a bad hub
	mix := func(tr *cause.Trial) (sum float64) {
		for id, n := range learned {
			for k := range uint64(20) {
				sum += n / 50 / 20 * tr.Seconds(cause.Greedy, cause.Case{Truth: id, Seed: k})
			}
		}
		return sum
	}
	before, after := mix(cause.NewTrial(s, "seen", nil)), mix(cause.NewTrial(s, "seen", learned))
	require.Less(t, after, 0.8*before)
}

package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"time"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/sheets"
)

// sheetsLoaded measures reading and compiling all sheets that ship.
func sheetsLoaded() error {
	var took []float64
	for range runs {
		began := time.Now()
		if _, err := sheet.Load(sheets.Files); err != nil {
			return err
		}
		took = append(took, float64(time.Since(began).Microseconds())/1000)
	}
	row("all shipped sheets read and compiled", "200 ms", "ms", "%.0f", took)
	return nil
}

// twelve is the family of the tests whose twelve gates are all needed.
func twelve() (*sheet.Sheet, ready.Subject, []fact.Fact, error) {
	text, err := os.ReadFile("core/ready/testdata/moth.yaml")
	if err != nil {
		return nil, ready.Subject{}, nil, err
	}
	lib, err := sheet.LoadWith(sheets.Files, map[string][]byte{"moth.yaml": text})
	if err != nil {
		return nil, ready.Subject{}, nil, err
	}
	s := lib.Named("moth", "Lamplight", "M1").At("")
	now := time.Now()
	var facts []fact.Fact
	for k, v := range map[fact.Key]fact.Value{fact.USBPresent: fact.Of(true), fact.Asleep: fact.Of(false), fact.Battery: fact.Of(70), "mode.lamp": fact.Of("lit"),
		"mode.moths": fact.Of(3), "dusk.ends": fact.Of(now.Add(time.Hour)), fact.DriverBound: fact.Of(true), fact.AdmitState: fact.Of("admitted"), fact.LinkUp: fact.Of(true),
		fact.SupportState: fact.Of("here"), fact.RegisterState: fact.Of("in"), fact.GrantState: fact.Of("good"), fact.OSRelease: fact.Of(fact.Release("10")),
		fact.TokenState: fact.Of("good"), fact.AcceptDevelopers: fact.Of([]string{"ada"}), fact.AppTried: fact.Of(true)} {
		spec, _ := s.Registry.Lookup(k)
		facts = append(facts, fact.Fact{Key: k, Value: v, Source: spec.Sources[0], At: now})
	}
	return s, ready.Subject{Attributes: sheet.Attributes{Family: "moth", Maker: "Lamplight", Code: "M1", App: "fellgate/callout", By: "ada", Needs: "9"}}, facts, nil
}

// readiness measures 10,000 devices of twelve gates, one after the other on one
// core, all facts known, and with a third of the facts missing.
func readiness() error {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	s, subject, facts, err := twelve()
	if err != nil {
		return err
	}
	now := time.Now()
	for _, kind := range []struct {
		what    string
		missing int
	}{{"all facts known", 0}, {"a third of the facts missing", 3}} {
		views := make([]fact.View, 10_000)
		for i := range views {
			var known []fact.Fact
			for n, f := range facts {
				if kind.missing == 0 || (n+i)%kind.missing != 0 {
					known = append(known, f)
				}
			}
			views[i] = fact.NewView(s.Registry, nil, known...)
		}
		var took []float64
		for range runs {
			began := time.Now()
			for _, v := range views {
				ready.Evaluate(s, subject, v, now)
			}
			took = append(took, float64(time.Since(began).Microseconds())/1000)
		}
		row("readiness of 10,000 devices x 12 gates, one core, "+kind.what, "150 ms", "ms", "%.0f", took)
	}
	return nil
}

// manyDevices is a very large rack.
const manyDevices = 100_000

// readinessOfMany measures the readiness of a very large rack, one core, and what
// memory that takes from device to device.
func readinessOfMany() error {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	s, subject, facts, err := twelve()
	if err != nil {
		return err
	}
	now := time.Now()
	views := make([]fact.View, manyDevices)
	for i := range views {
		views[i] = fact.NewView(s.Registry, nil, facts...)
	}
	var took, bytes []float64
	for range runs {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		began := time.Now()
		for _, v := range views {
			ready.Evaluate(s, subject, v, now)
		}
		took = append(took, float64(time.Since(began).Microseconds())/1000)
		runtime.ReadMemStats(&after)
		bytes = append(bytes, float64(after.TotalAlloc-before.TotalAlloc)/manyDevices)
	}
	row("readiness of 100,000 devices x 12 gates, one core, all facts known", "500 ms", "ms", "%.0f", took)
	row("memory taken for each of them, given back", "", "B", "%.0f", bytes)
	return nil
}

// oneFact measures one device after one fact: taking the fact in, and its
// readiness.
func oneFact() error {
	s, subject, facts, err := twelve()
	if err != nil {
		return err
	}
	v, now := fact.NewView(s.Registry, nil, facts...), time.Now()
	var took []float64
	for range runs {
		const n = 2000
		began := time.Now()
		for i := range n {
			f := facts[i%len(facts)]
			f.At = f.At.Add(time.Duration(i))
			ready.Evaluate(s, subject, v.With(f), now)
		}
		took = append(took, float64(time.Since(began).Microseconds())/n)
	}
	row("one device after one fact", "50 µs", "µs", "%.1f", took)
	return nil
}

// gates are those with causes to tell apart.
var gates = []struct{ family, maker, code, gate string }{
	{"tarn", "Halden", "H4", "seen"}, {"tarn", "Halden", "H4", "awake"}, {"tarn", "Halden", "H4", "mode"}, {"tarn", "Ivory Reach", "OF", "mode"},
	{"tarn", "Halden", "H4", "driver"}, {"tarn", "Halden", "H4", "admitted"}, {"tarn", "Halden", "H4", "linked"}, {"tarn", "Halden", "H4", "tried"},
	{"ostler", "Ostler House", "WT", "mode"}, {"ostler", "Ostler House", "WT", "support"}, {"ostler", "Ostler House", "WT", "registered"},
	{"ostler", "Ostler House", "WT", "granted"}, {"kestle", "Kestle Works", "K7", "mode"},
	{"kestle", "Kestle Works", "K7", "token"}, {"wick", "Wick & Daughters", "W2", "seen"}, {"linux", "", "ssh", "seen"},
}

const (
	seed  = 20261123
	draws = 500
)

// troubleshooting measures the expected seconds until the true cause is named,
// when nothing can be observed: 500 draws a gate from perturbed weights.
func troubleshooting() error {
	lib, err := sheet.Load(sheets.Files)
	if err != nil {
		return err
	}
	ways := []cause.Way{cause.Engine, cause.Exact, cause.Greedy, cause.Checks, cause.Remedies, cause.Random}
	fmt.Printf("\nSeconds until the true cause is named; %d draws a gate from weights perturbed by a factor of e to the normal of 0.5, seed %d\n\n", draws, seed)
	fmt.Println("| family, gate | causes | engine | exact search | greedy | checks as written | remedies as written | random order |")
	fmt.Println("|---|---|---|---|---|---|---|---|")
	total, small := map[cause.Way]float64{}, map[cause.Way]float64{}
	for _, g := range gates {
		tr := cause.NewTrial(lib.Named(g.family, g.maker, g.code).At(""), g.gate, nil)
		sums, n := drawn(tr, ways)
		line := fmt.Sprintf("| %s %s, %s | %d |", g.family, g.maker, g.gate, n)
		for _, w := range ways {
			if w == cause.Exact && !tr.Small() {
				line += " |"
				continue
			}
			line += fmt.Sprintf(" %.0f |", sums[w])
			if total[w] += sums[w]; tr.Small() {
				small[w] += sums[w]
			}
		}
		fmt.Println(line)
	}
	fmt.Printf("\nEngine beside exact search, where that can be had: %+.1f %%. Beside the checks as written: %.0f %%; the remedies as written: %.0f %%; random order: %.0f %%.\n",
		100*(small[cause.Engine]/small[cause.Exact]-1), 100*total[cause.Engine]/total[cause.Checks], 100*total[cause.Engine]/total[cause.Remedies], 100*total[cause.Engine]/total[cause.Random])
	perFault(lib)
	learning(lib)
	return nil
}

// drawn is the mean of the ways over causes drawn from perturbed weights.
func drawn(tr *cause.Trial, ways []cause.Way) (map[cause.Way]float64, int) {
	r := rand.New(rand.NewPCG(seed, 0))
	ids, p := tr.Causes()
	sums := map[cause.Way]float64{}
	for n := range uint64(draws) {
		weights, sum := make([]float64, len(p)), 0.0
		for i := range p {
			weights[i] = p[i] * math.Exp(0.5*r.NormFloat64())
			sum += weights[i]
		}
		x, truth := r.Float64()*sum, ids[len(ids)-1]
		for i, w := range weights {
			if x -= w; x < 0 {
				truth = ids[i]
				break
			}
		}
		for _, w := range ways {
			if w != cause.Exact || tr.Small() {
				sums[w] += tr.Seconds(w, cause.Case{Truth: truth, Seed: seed + n}) / draws
			}
		}
	}
	return sums, len(ids)
}

// perFault prints the same for every fault on its own.
func perFault(lib *sheet.Library) {
	fmt.Print("\nEach fault on its own, 40 cases\n\n| fault | gate | engine | checks as written | remedies as written |\n|---|---|---|---|---|\n")
	for _, g := range gates {
		tr := cause.NewTrial(lib.Named(g.family, g.maker, g.code).At(""), g.gate, nil)
		ids, _ := tr.Causes()
		for _, id := range ids {
			mean := func(w cause.Way) (sum float64) {
				for n := range uint64(40) {
					sum += tr.Seconds(w, cause.Case{Truth: id, Seed: seed + n}) / 40
				}
				return sum
			}
			fmt.Printf("| %s | %s %s | %.0f | %.0f | %.0f |\n", id, g.family, g.gate, mean(cause.Engine), mean(cause.Checks), mean(cause.Remedies))
		}
	}
}

// learning shows what 50 cases at a desk with a fault mix of its own gain.
func learning(lib *sheet.Library) {
	s := lib.Named("tarn", "Halden", "H4").At("12")
	desk := cause.Learned{"port-dead": 27, "cable-worn": 14, "held-by-machine": 9}
	before, after := cause.NewTrial(s, "seen", nil), cause.NewTrial(s, "seen", desk)
	mean := func(tr *cause.Trial) (sum float64) {
		for id, cases := range desk {
			for n := range uint64(100) {
				sum += cases / 50 / 100 * tr.Seconds(cause.Engine, cause.Case{Truth: id, Seed: seed + n})
			}
		}
		return sum
	}
	a, b := mean(before), mean(after)
	fmt.Printf("\nA desk with a bad hub (27 dead ports, 14 worn cables, 9 held by a virtual machine in 50 cases), gate seen: %.0f s before, %.0f s after learning them (%.0f %%).\n", a, b, 100*b/a)
}

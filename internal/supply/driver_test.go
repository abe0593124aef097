package supply_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/cause"
	core "earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/supply"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/depot"
)

// onVale makes a host of the kind that binds by itself only what is signed.
func onVale(sc *standin.Scenario) { sc.System, sc.Release = "vale", "3.2" }

// keys are a publisher's.
func keys(t *testing.T) *depot.Keys {
	t.Helper()
	k, err := depot.ReadKeys(t.TempDir(), "Upland publishing")
	require.NoError(t, err)
	return &k
}

// offer is a driver set as a depot has it.
func offer(raw []byte, name, ids string, unsigned bool) depot.Set {
	return depot.Set{File: raw, Offer: core.Offer{Kind: core.Driver, Name: name, Version: "4.1", Maker: "Halden", Unsigned: unsigned, File: core.File{SHA256: bundle.Digest(raw)},
		Fits: []driver.Match{{USB: ids, Class: "ff/00/00", Interface: usb.LinkName}}}}
}

// TestEveryFaultOfADriverIsNamedFirst puts each fault of a driver on: why names its cause first,
// and the remedy as told opens the gate.
func TestEveryFaultOfADriverIsNamedFirst(t *testing.T) {
	publisher := keys(t)
	right := benchtest.DriverSetFor(t, "halden-link", "f3e0:0104", publisher)
	unsigned := benchtest.DriverSetFor(t, "halden-link", "f3e0:0104", nil)
	similar := benchtest.DriverSetFor(t, "halden-link-5", "f3e0:0105", publisher)
	for _, f := range []struct {
		cause    string
		scenario func(*standin.Scenario)
		begin    func(b *benchtest.Bench)
		add      []byte // the remedy is to add this file first
		despite  []string
		phases   int
	}{
		{cause: "driver-missing", add: right, despite: []string{driver.Unsigned}, phases: 3},
		{cause: "driver-not-bound", begin: func(b *benchtest.Bench) { b.Add(right) }, despite: []string{driver.Unsigned}, phases: 3},
		{cause: "driver-not-fetched", begin: func(b *benchtest.Bench) {
			at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Sets = []depot.Set{offer(unsigned, "halden-link", "f3e0:0104", true)} })
			b.Accept(at)
		}, despite: []string{driver.Unsigned}, phases: 4},
		{cause: "driver-in-service", scenario: func(sc *standin.Scenario) { sc.Service = [][]byte{right} }, phases: 2},
		{cause: "driver-unsigned", scenario: func(sc *standin.Scenario) { sc.Sets = []standin.Set{{File: unsigned}} }, despite: []string{driver.Unsigned}, phases: 1},
		{cause: "driver-similar", scenario: func(sc *standin.Scenario) {
			sc.Sets = []standin.Set{{File: similar, Bound: []string{"HH4 0077 3C1E"}}, {File: right}}
		}, phases: 1},
	} {
		t.Run(f.cause, func(t *testing.T) {
			b, s := start(t)
			if f.begin != nil {
				f.begin(b)
			}
			k := b.Watch(benchtest.HandsetOn(t, true, func(sc *standin.Scenario) {
				onVale(sc)
				if f.scenario != nil {
					f.scenario(sc)
				}
			}))
			b.First(k, "driver")
			require.Eventually(t, func() bool {
				c := b.Look(k).Why.Causes
				return len(c) > 0 && c[0].ID == f.cause && c[0].Probability > 0.9
			}, benchtest.Patience, 10*time.Millisecond, "%+v", b.Look(k).Why.Causes)
			st := b.Look(k)
			require.NotEmpty(t, st.Why.Evidence)
			next := cause.Next(st.Question, st.Why)
			require.True(t, next == nil || next.Kind != cause.AsCheck, "nothing is asked that the computer knows: %+v", next)
			if f.add != nil {
				b.Add(f.add)
			}
			accept := ""
			for _, c := range s.Candidates(k) {
				if c.Fit.Automatic() && accept == "" {
					accept = c.Digest
				}
			}
			if len(f.despite) > 0 {
				_, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: accept, Actor: "owner/ada"})
				require.Equal(t, problem.Person, asProblem(t, err).Kind)
				require.Contains(t, asProblem(t, err).Remedy, "--despite unsigned")
			}
			j, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: accept, Despite: f.despite, Actor: "owner/ada"})
			require.NoError(t, err)
			done := b.Ended(j)
			require.Equal(t, job.Done, done.State, "%+v", done.Error)
			require.Len(t, done.Phases, f.phases)
			require.NotEqual(t, "driver", b.Look(k).Readiness.First, "the gate is open before the job is done")
			b.First(k, "admitted")
		})
	}
}

func TestASetForASimilarModelIsInstalledOnlyByHandAndTakenBack(t *testing.T) {
	b, s := start(t)
	publisher := keys(t)
	b.Add(benchtest.DriverSetFor(t, "halden-link-5", "f3e0:0105", publisher))
	k := b.Watch(benchtest.HandsetOn(t, true, onVale))
	b.First(k, "driver")
	all := s.Candidates(k)
	require.Len(t, all, 1)
	require.Equal(t, driver.Similar, all[0].Fit)
	require.Nil(t, s.Best(k), "it is not offered by itself")
	consent := supply.Consent{Device: "heron-1", Accept: all[0].Digest, Actor: "owner/ada"}
	_, err := s.Install(t.Context(), consent)
	require.Contains(t, asProblem(t, err).Text, "not made for this device")
	consent.Despite = []string{driver.SimilarOnly}
	_, err = s.Install(t.Context(), consent)
	require.Contains(t, asProblem(t, err).Text, "signed by Upland publishing, key", "its publisher was not accepted")
	consent.Despite = append(consent.Despite, driver.Unsigned)
	j, err := s.Install(t.Context(), consent)
	require.NoError(t, err)
	require.Equal(t, job.Done, b.Ended(j).State)
	b.Eventually("why says that it is for a similar model", func() bool {
		c := b.Look(k).Why.Causes
		return len(c) > 0 && c[0].ID == "driver-similar"
	})
	require.True(t, s.Candidates(k)[0].Installed && s.Candidates(k)[0].Bound)

	name, err := s.TakeBack(t.Context(), "heron-1")
	require.NoError(t, err)
	require.Equal(t, "halden-link-5", name)
	b.Eventually("it is off the host", func() bool { c := s.Candidates(k); return len(c) == 1 && !c[0].Installed && c[0].Here })
	_, err = s.TakeBack(t.Context(), "heron-1")
	require.ErrorContains(t, err, "No driver set is bound")
}

func TestASetForASimilarModelThatWorksOpensTheGate(t *testing.T) {
	b, s := start(t)
	publisher := keys(t)
	b.Add(benchtest.DriverSetFor(t, "halden-link-5", "f3e0:0105", publisher))
	k := b.Watch(benchtest.HandsetOn(t, true, func(sc *standin.Scenario) {
		onVale(sc)
		sc.Right = []string{"halden-link-5"}
	}))
	b.First(k, "driver")
	j, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: s.Candidates(k)[0].Digest, Despite: []string{driver.SimilarOnly, driver.Unsigned}, Actor: "owner/ada"})
	require.NoError(t, err)
	require.Equal(t, job.Done, b.Ended(j).State)
	b.First(k, "admitted")
	_, err = s.TakeBack(t.Context(), "heron-1")
	require.NoError(t, err)
	b.First(k, "driver")
}

func TestASetThatTheDepotSaysIsSignedMustBe(t *testing.T) {
	b, s := start(t)
	unsigned := benchtest.DriverSetFor(t, "halden-link", "f3e0:0104", nil)
	at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Sets = []depot.Set{offer(unsigned, "halden-link", "f3e0:0104", false)} })
	b.Accept(at)
	k := b.Watch(benchtest.HandsetOn(t, true, onVale))
	b.First(k, "driver")
	j, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: s.Candidates(k)[0].Digest, Actor: "owner/ada"})
	require.NoError(t, err)
	done := b.Ended(j)
	require.Equal(t, job.Failed, done.State)
	require.Contains(t, done.Error.Text, "it is not signed, but the index says that it is")
	sets, err := b.Store.DriverSets(t.Context())
	require.NoError(t, err)
	require.Empty(t, sets)
}

func TestADriverIsNotInstalledBeforeTheDeviceShowsItsLink(t *testing.T) {
	b, s := start(t)
	b.Add(benchtest.DriverSetFor(t, "halden-link", "f3e0:0104", nil))
	k := b.Watch(benchtest.HandsetOn(t, false, onVale))
	b.First(k, "mode")
	_, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: s.Candidates(k)[0].Digest, Despite: []string{driver.Unsigned}, Actor: "owner/ada"})
	require.Equal(t, problem.Blocked, asProblem(t, err).Kind)
	require.Equal(t, "mode", asProblem(t, err).Gate)
}

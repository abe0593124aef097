package supply_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/supply"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/depot"
)

// tablet has a bench watch a tablet with release 6.2.
func tablet(t *testing.T, b *benchtest.Bench) (*keeper.Keeper, *standin.Rig) {
	t.Helper()
	r := b.Tablet()
	return b.Watch(r), r
}

// state waits until the support pack of a device is in a state.
func state(b *benchtest.Bench, k *keeper.Keeper, want string) {
	b.T.Helper()
	b.Eventually("its support pack is "+want, func() bool {
		f, ok := k.Facts().View().Get(fact.SupportState, b.Clock.Now())
		return ok && f.Value.Text() == want || !ok && want == ""
	})
}

func TestASupportPackIsFetchedWithConsentToItsLicence(t *testing.T) {
	b, s := start(t)
	k, _ := tablet(t, b)
	require.Empty(t, s.Needs(), "without a depot the bench knows of none")
	require.Nil(t, s.NeedOf(k))
	at, _ := benchtest.Depot(t, nil, benchtest.Pack("6.2", 9<<20), benchtest.Pack("6.1", 1000))
	b.Accept(at)
	state(b, k, "missing")
	needs := s.Needs()
	require.Len(t, needs, 1, "just that of its release")
	require.Equal(t, []string{k.Device().Handle}, needs[0].Devices)
	name, text, err := s.Licence(t.Context(), needs[0].Offer.Licence.SHA256)
	require.NoError(t, err)
	require.Equal(t, "Support licence: You may use it.", name+": "+text)

	_, err = s.Fetch(t.Context(), "", "owner/ada")
	require.Equal(t, problem.Person, asProblem(t, err).Kind)
	_, err = s.Fetch(t.Context(), needs[0].Offer.File.SHA256, "owner/ada")
	require.Equal(t, problem.Refused, asProblem(t, err).Kind, "the file's digest is no consent to its licence")
	jobs, err := s.Fetch(t.Context(), needs[0].Offer.Consent(), "owner/ada")
	require.NoError(t, err)
	done := b.Ended(jobs[0])
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.Equal(t, needs[0].Offer.File.Size, done.Phases[0].Done)
	state(b, k, "here")
	require.Empty(t, s.Needs())
	packs := s.Packs()
	require.Len(t, packs, 1)
	require.True(t, packs[0].Here)

	require.NoError(t, s.DropPack(t.Context(), packs[0].Offer.File.SHA256))
	state(b, k, "missing")
	require.Equal(t, problem.NotFound, problem.KindOf(s.DropPack(t.Context(), packs[0].Offer.File.SHA256)))
}

func TestAnUpdateOfTheDeviceMakesItsPackOutdatedAndTheNextOneNeeded(t *testing.T) {
	b, s := start(t)
	k, _ := tablet(t, b)
	at, _ := benchtest.Depot(t, nil, benchtest.Pack("6.2", 1000), benchtest.Pack("6.3", 1000))
	b.Accept(at)
	state(b, k, "missing")
	jobs, err := s.Fetch(t.Context(), supply.ConsentToAll(s.Needs()), "owner/ada")
	require.NoError(t, err)
	b.Ended(jobs[0])
	state(b, k, "here")
	terms, err := s.Terms(t.Context())
	require.NoError(t, err)
	require.Len(t, terms, 1, "it is among what ends")
	require.Equal(t, ending.Open, terms[0].At(b.Clock.Now()), "when an update will come is not known")
	require.Equal(t, []string{k.Device().Handle}, terms[0].Devices)
	require.Contains(t, terms[0].Stops, "Updating the device")
	require.NoError(t, k.Facts().Observe(t.Context(), k.Seen(fact.OSRelease, fact.Of(fact.Release("6.3")), fact.Device)))
	state(b, k, "outdated")
	require.Equal(t, "6.3", s.Needs()[0].Offer.For.Release)
	require.Empty(t, s.Packs()[0].Devices, "nobody needs the old one any more")
	terms, err = s.Terms(t.Context())
	require.NoError(t, err)
	require.Len(t, terms, 1)
	require.Equal(t, ending.Ended, terms[0].At(b.Clock.Now()))
	require.Contains(t, terms[0].Stops, "now has release 6.3")
	require.Equal(t, "earlybench prep "+k.Device().Handle, terms[0].Command)
}

func TestTwoWhoFetchTheSamePackShareOneJob(t *testing.T) {
	b, s := start(t)
	k, _ := tablet(t, b)
	var socket string
	at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Mode, sc.Rate, socket = depot.Slow, 100_000, sc.Socket }, benchtest.Pack("6.2", 2<<20))
	b.Accept(at)
	state(b, k, "missing")
	consent := s.Needs()[0].Offer.Consent()
	first, err := s.Fetch(t.Context(), consent, "owner/ada")
	require.NoError(t, err)
	state(b, k, "partly")
	second, err := s.Fetch(t.Context(), consent, "owner/ben")
	require.NoError(t, err)
	require.Equal(t, first[0].ID, second[0].ID)
	require.Equal(t, problem.Taken, problem.KindOf(s.DropPack(t.Context(), s.Needs()[0].Offer.File.SHA256)), "not under the job")
	require.True(t, b.Jobs.Stop(first[0].ID))
	require.Equal(t, job.Stopped, b.Ended(first[0]).State)
	state(b, k, "partly")
	had := s.Needs()[0].Have
	require.Positive(t, had)
	benchtest.SetDepot(t, socket, depot.Well)
	third, err := s.Fetch(t.Context(), consent, "owner/ada")
	require.NoError(t, err)
	require.Equal(t, job.Done, b.Ended(third[0]).State)
}

func TestALyingDepotIsSaidToLieAndNothingIsKept(t *testing.T) {
	b, s := start(t)
	k, _ := tablet(t, b)
	at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Mode = depot.Lying }, benchtest.Pack("6.2", 3<<20))
	b.Accept(at)
	state(b, k, "missing")
	jobs, err := s.Fetch(t.Context(), s.Needs()[0].Offer.Consent(), "owner/ada")
	require.NoError(t, err)
	done := b.Ended(jobs[0])
	require.Equal(t, job.Failed, done.State)
	require.Contains(t, done.Error.Text, "a file that is not the one in its index")
	state(b, k, "missing")
	left, err := os.ReadDir(b.Files.Dir)
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestAFetchGoesOnAfterTheServiceHasEnded(t *testing.T) {
	dir := t.TempDir()
	b := benchtest.In(t, dir)
	k, r := tablet(t, b)
	var socket string
	at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Mode, sc.Rate, socket = depot.Slow, 400_000, sc.Socket }, benchtest.Pack("6.2", 5<<20))
	b.Accept(at)
	state(b, k, "missing")
	jobs, err := b.Supply.Fetch(t.Context(), b.Supply.Needs()[0].Offer.Consent(), "owner/ada")
	require.NoError(t, err)
	b.Eventually("some of it is here", func() bool { n, _ := b.Files.Coming(jobs[0].Subjects[0][len("support/"):]); return n > 500_000 })
	b.End()
	benchtest.SetDepot(t, socket, depot.Well)
	b = benchtest.In(t, dir)
	again := b.Watch(r)
	done := b.Ended(jobs[0])
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	state(b, again, "here")
}

func TestAPacksFileIsTakenIn(t *testing.T) {
	b, s := start(t)
	k, _ := tablet(t, b)
	g, err := depot.Generate(benchtest.Pack("6.2", 1).Pack, 1<<20)
	require.NoError(t, err)
	raw := make([]byte, g.Size())
	_, err = g.ReadAt(raw, 0)
	require.NoError(t, err)
	file := t.TempDir() + "/a.ebpack"
	for _, bad := range [][]byte{raw[:len(raw)-5], []byte("hello"), nil} {
		require.NoError(t, os.WriteFile(file, bad, 0o600))
		require.ErrorContains(t, add(t, s, file), "refused")
	}
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	require.NoError(t, add(t, s, file))
	state(b, k, "here")
}

func add(t *testing.T, s *supply.Supply, file string) error {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	_, err = s.AddPack(t.Context(), f)
	return err
}

// TestEveryFaultOfTheDepotIsNamedFirst puts each fault of this side on: why names its cause
// first, and the remedy as told opens the gate.
func TestEveryFaultOfTheDepotIsNamedFirst(t *testing.T) {
	for _, f := range []struct {
		cause  string
		mode   depot.Mode
		begin  func(b *benchtest.Bench, socket string)
		remedy func(b *benchtest.Bench, socket string)
	}{
		{"support-missing", depot.Well, nil, begins},
		{"support-not-fetched", depot.Well, half, begins},
		{"support-outdated", depot.Well, older, begins},
		{"depot-slow", depot.Slow, begins, mends},
		{"depot-cut", depot.Cut, begins, mends},
		{"depot-cut", depot.Dead, begins, mends},
	} {
		t.Run(f.cause+" "+string(f.mode), func(t *testing.T) {
			t.Parallel()
			b, _ := start(t)
			k, _ := tablet(t, b)
			var socket string
			at, _ := benchtest.Depot(t, func(sc *depot.Scenario) { sc.Rate, socket = 500_000, sc.Socket }, benchtest.Pack("6.2", 32<<20))
			b.Accept(at)
			b.First(k, "support")
			benchtest.SetDepot(t, socket, f.mode)
			if f.begin != nil {
				f.begin(b, socket)
			}
			require.Eventually(t, func() bool {
				c := b.Look(k).Why.Causes
				return len(c) > 0 && c[0].ID == f.cause && c[0].Probability > 0.9
			}, 2*benchtest.Patience, 20*time.Millisecond)
			why := b.Look(k).Why
			require.NotEmpty(t, why.Evidence)
			st := b.Look(k)
			next := cause.Next(st.Question, st.Why)
			require.True(t, next == nil || next.Kind != cause.AsCheck, "nothing is asked that the computer knows: %+v", next)
			f.remedy(b, socket)
			b.Eventually("the gate opens", func() bool { return b.Look(k).Readiness.Gate("support").State == "open" })
		})
	}
}

// begins begins to fetch what is needed.
func begins(b *benchtest.Bench, _ string) {
	b.T.Helper()
	_, err := b.Supply.Fetch(b.T.Context(), b.Supply.Needs()[0].Offer.Consent(), "owner/ada")
	require.NoError(b.T, err)
}

// mends makes the depot answer as it should: what is being fetched goes on by itself.
func mends(b *benchtest.Bench, socket string) { benchtest.SetDepot(b.T, socket, depot.Well) }

// half begins to fetch what is needed, and stops.
func half(b *benchtest.Bench, socket string) {
	b.T.Helper()
	benchtest.SetDepot(b.T, socket, depot.Slow)
	need := b.Supply.Needs()[0].Offer
	jobs, err := b.Supply.Fetch(b.T.Context(), need.Consent(), "owner/ada")
	require.NoError(b.T, err)
	b.Eventually("some of it is here", func() bool { n, _ := b.Files.Coming(need.File.SHA256); return n > 100_000 })
	require.True(b.T, b.Jobs.Stop(jobs[0].ID))
	b.Ended(jobs[0])
	mends(b, socket)
}

// older keeps a pack for the release before.
func older(b *benchtest.Bench, _ string) {
	b.T.Helper()
	o := b.Supply.Needs()[0].Offer
	made := *o.For
	made.Release = "6.1"
	o.For, o.File.SHA256 = &made, "00"+o.File.SHA256[2:]
	require.NoError(b.T, b.Store.SaveSupportPack(b.T.Context(), store.SupportPack{Offer: o, Added: b.Clock.Now()}))
	require.NoError(b.T, b.Supply.Read(b.T.Context()))
}

package outlook_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/rack"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func TestWhatSeveralDevicesShareIsSaidWithoutAName(t *testing.T) {
	b := benchtest.New(t)
	k, err := b.Rack.Add(t.Context(), "a", "Heron 4") // a handle that stands in many words
	require.NoError(t, err)
	st := b.Look(k)
	named, unnamed := st.Fill("Say yes on {handle}"), st.Unnamed().Fill("Say yes on {handle}")
	require.Equal(t, []string{"Say yes on a", "Say yes on it"}, []string{named, unnamed})
	require.NotContains(t, st.Unnamed().Why.Text, "Sity")
	require.NotEmpty(t, st.Unnamed().Why.Text)
	require.Equal(t, "a", st.Words["handle"], "the standing itself stays as it is")
}

func TestAnActionThatWasDecidedOnAnotherRevisionIsRefused(t *testing.T) {
	b := benchtest.New(t)
	k, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	before := b.Look(k).Revision
	require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(k), "device.language", "de"))
	said := b.Said(k)
	said.Revision = before
	err = b.Outlook.TellFact(t.Context(), said, "device.language", "fr")
	require.Equal(t, problem.Changed, problem.KindOf(err), "%v", err)
	require.ErrorContains(t, err, "Look again, and decide again.")
	said.Revision = b.Look(k).Revision
	require.NoError(t, b.Outlook.TellFact(t.Context(), said, "device.language", "fr"))
}

func TestTheFirstActionIsNotRefusedAsLongAsNothingHasChanged(t *testing.T) {
	dir := t.TempDir()
	b := benchtest.In(t, dir)
	_, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	for _, when := range []string{"after it was added", "after a restart"} {
		k := b.Rack.All()[0]
		for _, network := range []string{"same", "other"} { // which is not seen on the rack
			said := b.Said(k)
			said.Revision = b.Outlook.Look(k, "fellgate/callout").Revision
			require.NoError(t, b.Outlook.TellFact(t.Context(), said, "air.network", network), when)
		}
		b.End()
		b = benchtest.In(t, dir)
	}
}

func TestWhatIsObservedWhileAStatementIsRecordedIsNotLost(t *testing.T) {
	b := benchtest.New(t)
	k, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	full := errors.New("the disk is full")
	for _, c := range []struct {
		name, language string
		ends           error
	}{{"it was recorded", "de", nil}, {"it could not be recorded", "fr", full}} {
		before := b.Look(k).Revision
		observe := func() error {
			require.NoError(t, k.Facts().Observe(t.Context(), k.Told(fact.Language, fact.Of(c.language), "ada", false)))
			return c.ends
		}
		require.ErrorIs(t, b.Outlook.Stating(k, observe), c.ends, c.name)
		b.Eventually("its revision counts it", func() bool { return b.Look(k).Revision > before })
	}
	// Two at once about one device: neither keeps the other's from being seen.
	before := b.Look(k).Revision
	first, second := make(chan struct{}), make(chan struct{})
	var work errgroup.Group
	work.Go(func() error {
		return b.Outlook.Stating(k, func() error { close(first); <-second; return nil })
	})
	<-first
	require.ErrorIs(t, b.Outlook.Stating(k, func() error {
		return errors.Join(full, k.Facts().Observe(t.Context(), k.Told(fact.Language, fact.Of("it"), "ada", false)))
	}), full)
	close(second)
	require.NoError(t, work.Wait())
	b.Eventually("its revision counts it", func() bool { return b.Look(k).Revision > before })
}

func TestTheRevisionCountsWhatPeopleSeeAndNothingElse(t *testing.T) {
	b := benchtest.New(t)
	k, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	tell := func(key, value string) func() error {
		return func() error { return b.Outlook.TellFact(t.Context(), b.Said(k), key, value) }
	}
	handle := "kittiwake-2"
	for _, c := range []struct {
		name   string
		do     func() error
		counts bool
	}{
		{"a step that is done", tell("mode.loose", "yes"), true},
		{"the same again", tell("mode.loose", "yes"), false},
		{"on which network it is", tell("air.network", "other"), false},
		{"its language", tell("device.language", "de"), true},
		{"its handle", func() error { return b.Rack.Set(t.Context(), "kittiwake-1", rack.Change{Handle: &handle}) }, true},
		{"a step that is undone", tell("mode.loose", "no"), true},
	} {
		before := b.Look(k).Revision
		require.NoError(t, c.do(), c.name)
		if c.counts {
			b.Eventually(c.name, func() bool { return b.Look(k).Revision > before })
			continue
		}
		require.NoError(t, b.Outlook.Check(k, before), c.name)
		require.Equal(t, before, b.Look(k).Revision, c.name)
	}
}

func TestRevisionsGoOnOverARestart(t *testing.T) {
	dir := t.TempDir()
	b := benchtest.In(t, dir)
	k, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(k), "device.language", "de"))
	b.Eventually("it is told", func() bool { n, err := b.Store.Last(t.Context()); return err == nil && n >= 3 })
	before := b.Look(k).Revision
	b.End()
	again := benchtest.In(t, dir)
	require.Greater(t, again.Look(again.Rack.All()[0]).Revision, before)
}

func TestAnAppThatNothingHereKnowsIsNotAnswered(t *testing.T) {
	b := benchtest.New(t)
	require.Equal(t, problem.NotFound, problem.KindOf(b.Outlook.CheckApp("nothing/there")))
	require.NoError(t, b.Outlook.CheckApp(""))
	_, err := b.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, false))
	require.NoError(t, err)
	require.NoError(t, b.Outlook.CheckApp("fellgate/callout"))
}

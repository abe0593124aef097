package outlook_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
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

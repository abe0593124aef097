package belong_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// states are the stages' states by name.
func states(t *testing.T, b *benchtest.Bench, apps ...string) map[string]belong.Stage {
	t.Helper()
	all, err := b.Belong.Stages(t.Context(), apps)
	require.NoError(t, err)
	require.Len(t, all, 5)
	out := map[string]belong.Stage{}
	for _, s := range all {
		require.NotEmpty(t, s.Value, s.Name)
		out[s.Name] = s
	}
	return out
}

func TestTheStagesBeforeAnAppMayRunFollowWhatIsDone(t *testing.T) {
	b, moved := benchtest.New(t), &clock.Moved{}
	at := benchtest.Authority(t, moved)
	now := states(t, b)
	require.Equal(t, ready.Shut, now["account"].State)
	require.Equal(t, ready.Unknown, now["register"].State)

	b.SignedIn(at, "full")
	b.Kestles(at, 2)
	b.Eventually("the register is read", func() bool { return states(t, b)["register"].State == ready.Shut })
	now = states(t, b, "fellgate/callout")
	require.Equal(t, "thwaite", now["account"].Value)
	require.Equal(t, "full: grants last 150 days", now["crew"].Note)
	require.Equal(t, ready.NotNeeded, now["identity"].State, "handsets want no grant")
	require.Equal(t, ready.Unknown, now["app id"].State)
	require.Equal(t, "0 of 2", now["register"].Value)
	require.Equal(t, "2 on the rack are not in", now["register"].Note)

	j, err := b.Belong.Start(t.Context(), belong.Ask{All: true, Actor: "owner/ada"})
	require.NoError(t, err)
	require.Equal(t, job.Done, b.Ended(j).State)
	require.NoError(t, b.Belong.TakeApp(t.Context(), "fellgate/callout"))
	_, err = b.Belong.NewIdentity(t.Context(), "moor-desk")
	require.NoError(t, err)
	now = states(t, b, "fellgate/callout")
	for name, s := range now {
		require.Equal(t, ready.Open, s.State, name)
	}
	require.Equal(t, "moor-desk", now["identity"].Value)
	require.False(t, now["identity"].Soon)
	require.Equal(t, "2 of 2", now["register"].Value)
	require.Equal(t, ready.Shut, states(t, b, "harbour/muster")["app id"].State, "another crew's")

	b.Clock.Move(360 * 24 * time.Hour)
	require.True(t, states(t, b)["identity"].Soon)
	b.Clock.Move(6 * 24 * time.Hour)
	require.Equal(t, ready.NotNeeded, states(t, b)["identity"].State, "it has ended")
}

// A standing that has to be extended is among what ends; once it has ended, the crew has the first
// one, and devices for which that has no place leave the register.
func TestAStandingEndsAndTakesWhatItGaveWithIt(t *testing.T) {
	b, moved := benchtest.New(t), &clock.Moved{}
	at := benchtest.Authority(t, moved)
	b.SignedIn(at, "trial")
	b.Kestles(at, 7)
	j, err := b.Belong.Start(t.Context(), belong.Ask{All: true, Actor: "owner/ada"})
	require.NoError(t, err)
	require.Equal(t, job.Done, b.Ended(j).State)
	standing := func() (out ending.Term) {
		all, err := b.Belong.Terms(t.Context())
		require.NoError(t, err)
		for _, term := range all {
			if term.Kind == ending.Standing {
				out = term
			}
		}
		return out
	}
	term := standing()
	require.Equal(t, "trial", term.Name)
	require.Equal(t, "fellgate", term.Holder)
	require.WithinDuration(t, b.Clock.Now().AddDate(0, 0, 20), term.Ends, 48*time.Hour)
	require.False(t, term.Alone)
	require.NotEmpty(t, term.Step)

	moved.Move(21 * 24 * time.Hour)
	b.Clock.Move(21 * 24 * time.Hour)
	require.Equal(t, ending.Ended, term.At(b.Clock.Now()))
	b.Eventually("somebody opens the safe", func() bool { return b.Safe.OpenAtStart(t.Context(), b.UnlockKey()) == nil })
	b.Belong.Again()
	b.Eventually("the crew has the first standing", func() bool { return standing().Name == "starter" })
	require.Equal(t, ending.Open, standing().At(b.Clock.Now()))
	b.Eventually("the register is read again", func() bool {
		r, err := b.Belong.TheRegister()
		require.NoError(t, err)
		return len(r.Entries) == r.Crew.Standing.Places && len(r.Missing) == 7-r.Crew.Standing.Places
	})
}

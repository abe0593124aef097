package lend_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
)

// What needs hands is asked of whoever is near; both benches tell how it is, also after they were ended.
func TestWhoeverIsNearIsAskedForHands(t *testing.T) {
	p := lends(t, "use")
	heron := p.Heron.Device().Handle
	r, _ := p.borrow("use", time.Hour)
	_, err := p.Moor.Lend.AskForHands(t.Context(), r.ID, "Turn it over", "")
	require.ErrorContains(t, err, "you may not request hands for "+heron, "that is a right of its own")
	_, err = p.Harbour.Peers.Set(t.Context(), p.Harbour.Peers.List()[0].Name, func(rights *store.PeerRights) { rights.All = store.RightHands })
	require.NoError(t, err)
	_, err = p.Moor.Lend.AskForHands(t.Context(), r.ID, " \n", "")
	require.ErrorContains(t, err, "does not say what to do")
	h, err := p.Moor.Lend.AskForHands(t.Context(), r.ID, "Turn it\nover", strings.Repeat("é", 2000))
	require.NoError(t, err)
	require.Equal(t, "Turn it over", strings.Join(strings.Fields(h.Title), " "), "a text of others makes no line of its own")
	require.LessOrEqual(t, len([]rune(h.Text)), 1001)
	asked := func(b *benchtest.Bench) store.Hands { return b.Lend.Hands()[0].Hands }
	require.Equal(t, store.HandsAsked, asked(p.Harbour).State)

	_, err = p.Harbour.Lend.Seen(t.Context(), h.ID)
	require.NoError(t, err)
	p.Moor.Eventually("the borrower sees that somebody has opened it", func() bool { return asked(p.Moor).State == store.HandsSeen })
	_, err = p.Moor.Lend.AnswerHands(t.Context(), h.ID, "ada", true, "")
	require.Error(t, err, "nobody answers for the other side")
	p.Harbour.End()
	p.StartHarbour()
	p.Plug()
	require.Equal(t, store.HandsSeen, asked(p.Harbour).State)
	_, err = p.Harbour.Lend.AnswerHands(t.Context(), h.ID, "whoever is near", false, "It is at the repairer.")
	require.NoError(t, err)
	_, err = p.Harbour.Lend.AnswerHands(t.Context(), h.ID, "whoever is near", true, "")
	require.ErrorContains(t, err, "already answered")
	p.Moor.Eventually("the borrower has the answer", func() bool { return asked(p.Moor).State == store.HandsCannot })
	require.Equal(t, "It is at the repairer.", asked(p.Moor).Note)
	require.Equal(t, "whoever is near", asked(p.Moor).By)

	for range 5 {
		_, err = p.Moor.Lend.AskForHands(t.Context(), r.ID, "Turn it over", "")
		require.NoError(t, err)
	}
	_, err = p.Moor.Lend.AskForHands(t.Context(), r.ID, "Turn it over", "")
	require.ErrorContains(t, err, "5 requests are already waiting")
	all := p.Moor.Lend.Hands()
	require.NoError(t, p.Moor.Lend.WithdrawHands(t.Context(), all[len(all)-1].ID))
	_, err = p.Harbour.Lend.AnswerHands(t.Context(), all[len(all)-1].ID, "whoever is near", true, "")
	require.ErrorContains(t, err, "withdrawn")
	_, err = p.Moor.Lend.Return(t.Context(), r.ID)
	require.NoError(t, err)
	_, err = p.Harbour.Lend.AnswerHands(t.Context(), all[1].ID, "whoever is near", true, "")
	require.ErrorContains(t, err, "its loan has ended")
}

// The lender knows why it does not reach a device that it lends, so nobody who has borrowed it has to guess.
func TestWhatTheLenderLacksIsToldAndAskedOfWhoeverIsNear(t *testing.T) {
	p := lends(t, "hands")
	_, k := p.borrow("use", time.Hour)
	handle := k.Device().Handle
	require.Empty(t, p.Moor.Lend.StepThere(handle))
	require.NoError(t, benchtest.Steer(t, p.Rig, standin.MethodPull, standin.Steer{Body: "heron-9"}))
	p.Moor.Eventually("it is told", func() bool { return p.Moor.Lend.StepThere(handle) != "" })
	p.Moor.Eventually("it is observed", func() bool {
		return strings.Contains(p.Moor.Look(k).Why.Text, "harbour-desk does not reach "+handle+" now. As it says: ")
	})
	p.Moor.First(k, "linked")
	st := p.Moor.Look(k)
	require.Contains(t, st.Why.Text, "bus", "in the lender's words")
	require.Equal(t, "hands", string(st.Readiness.Next.Who))
	require.Equal(t, "lent-away", st.Why.Causes[0].ID)
	require.Greater(t, st.Why.Causes[0].Probability, 0.9)
	h, err := p.Moor.Lend.AskForHands(t.Context(), handle, p.Moor.Lend.StepThere(handle), "")
	require.NoError(t, err)
	require.Equal(t, h.Title, p.Harbour.Lend.Hands()[0].Title)

	require.NoError(t, benchtest.Steer(t, p.Rig, standin.MethodPlug, standin.Steer{Body: "heron-9"}))
	_, err = p.Harbour.Lend.AnswerHands(t.Context(), h.ID, "whoever is near", true, "")
	require.NoError(t, err)
	p.Moor.Eventually("it is linked again", func() bool { return k.Session() != nil && p.Moor.Lend.StepThere(handle) == "" })
	p.Moor.First(k, "")
}

package ending_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/ending"
)

var now = time.Date(2026, 11, 27, 6, 0, 0, 0, time.UTC)

func inDays(n int) time.Time { return now.AddDate(0, 0, n) }

var terms = []ending.Term{
	{ID: "token-1", Kind: ending.Token, Name: "QFIYNGEF", Ends: inDays(40), Notice: 120 * time.Hour, Mine: true, Stops: "Callout, and others; do not start.", Step: "Have a new one issued.", Command: "earlybench token new DEVICE"},
	{ID: "grant-1", Kind: ending.Grant, Name: "6Q77R7M4", Ends: inDays(40), Notice: 120 * time.Hour, Mine: true, Alone: true},
	{ID: "admission-1", Kind: ending.Admission, Name: "this bench", Holder: "heron-1", Mine: true},
	{ID: "token-2", Kind: ending.Token, Name: "another", Ends: inDays(3), Notice: 120 * time.Hour},
	{ID: "access-1", Kind: ending.Access, Name: "nightly", Ends: inDays(-1), Notice: 24 * time.Hour, Mine: true},
}

func TestATermIsGoodThenEndsSoonThenHasEnded(t *testing.T) {
	for at, want := range map[time.Time]ending.State{inDays(0): ending.Good, inDays(35).Add(-time.Second): ending.Good, inDays(35): ending.Soon, inDays(40).Add(-time.Second): ending.Soon, inDays(40): ending.Ended, inDays(99): ending.Ended} {
		require.Equal(t, want, terms[0].At(at), at)
	}
	require.Equal(t, ending.Open, terms[2].At(inDays(9999)))
	require.Equal(t, inDays(35), terms[0].By())
}

func TestThoseThatEndFirstComeFirstAndThoseWithoutAnEndLast(t *testing.T) {
	all := append([]ending.Term{}, terms...)
	ending.Sort(all)
	var ids []string
	for _, term := range all {
		ids = append(ids, term.ID)
	}
	require.Equal(t, []string{"access-1", "token-2", "token-1", "grant-1", "admission-1"}, ids)
}

func TestADayTellsWhatWillNotWorkWhatIsRenewedAndWhatIsOthers(t *testing.T) {
	f := ending.On(terms, now, inDays(41))
	require.Equal(t, []ending.Term{terms[0], terms[4]}, f.Stops)
	require.Equal(t, []ending.Term{terms[1]}, f.Alone)
	require.Equal(t, []ending.Term{terms[3]}, f.Others)
	require.Empty(t, ending.On(terms[:4], now, inDays(2)).Stops)
	late := ending.On(terms[:2], inDays(41), inDays(41))
	require.Equal(t, terms[:2], late.Stops, "what should have been renewed, and was not, does not work")
	require.Empty(t, late.Alone)
}

// The calendar is read by a parser that is not ours.
func TestTheCalendarIsReadByAnotherParserWithTheSameIdsEachTime(t *testing.T) {
	read := func(at time.Time) map[string]*ics.VEvent {
		raw := ending.Calendar(terms, "moor-desk", "bench-1.invalid", at)
		for _, line := range strings.Split(strings.TrimSuffix(string(raw), "\r\n"), "\r\n") {
			require.LessOrEqual(t, len(line), 75, line)
		}
		c, err := ics.ParseCalendar(bytes.NewReader(raw))
		require.NoError(t, err)
		out := map[string]*ics.VEvent{}
		for _, e := range c.Events() {
			require.NotContains(t, out, e.Id(), "no id is there twice")
			out[e.Id()] = e
		}
		return out
	}
	first, second := read(now), read(inDays(1))
	require.Len(t, first, 4, "what has no end is no event")
	for id := range first {
		require.Contains(t, second, id)
	}
	e := first["token-1@bench-1.invalid"]
	require.NotNil(t, e)
	starts, err := e.GetStartAt()
	require.NoError(t, err)
	require.True(t, starts.Equal(inDays(40)))
	require.Contains(t, e.GetProperty(ics.ComponentPropertyDescription).Value, "Callout, and others; do not start.")
	require.Len(t, e.Alarms(), 1, "before it must be renewed")
	require.Empty(t, first["grant-1@bench-1.invalid"].Alarms(), "it is renewed automatically")
}

package excerpt

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOfALongLogTheBeginningAndTheEndAreKept(t *testing.T) {
	for _, n := range []int{0, 1, firstLines, firstLines + 1, firstLines + lastLines, firstLines + lastLines + 1, 50_000} {
		var e Excerpt
		for i := range n {
			e.Add(fmt.Sprint(i))
		}
		got := e.Lines()
		left := max(n-firstLines-lastLines, 0)
		if left == 0 {
			require.Len(t, got, n)
		} else {
			require.Len(t, got, firstLines+lastLines+1)
			require.Equal(t, fmt.Sprintf("(%d lines are left out here)", left), got[firstLines])
			got = append(got[:firstLines:firstLines], got[firstLines+1:]...)
		}
		for i, line := range got {
			want := i
			if i >= firstLines {
				want += left
			}
			require.Equal(t, fmt.Sprint(want), line)
		}
	}
	var e Excerpt
	e.Add(strings.Repeat("ä", 1<<20))
	require.LessOrEqual(t, len(e.Lines()[0]), MostLine)
	require.True(t, strings.HasSuffix(e.Lines()[0], "…"), "it says that something is missing")
}

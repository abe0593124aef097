package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

func TestWhatDevicesSendCannotSteerATerminal(t *testing.T) {
	require.Equal(t, "[31mred and [2J gone\n\ttab", safe("\x1b[31mred\x07 and \u009b[2J gone\n\ttab\x7f"))
	require.Equal(t, "plain words", stripStyle(emphasis("*plain* **words**")))
}

func TestSizesAreReadWithTheirUnit(t *testing.T) {
	for s, want := range map[string]int64{"": 0, "3MB": 3_000_000, "40kB": 40_000, "1500B": 1500, "7": 7, "3 MB": 3_000_000} {
		n, err := size(s)
		require.NoError(t, err, s)
		require.Equal(t, want, n, s)
	}
	for _, bad := range []string{"much", "3MiB", "-1", "0", "MB"} {
		_, err := size(bad)
		require.Error(t, err, bad)
	}
}

func TestSentencesBeginWithACapitalButHandlesDoNot(t *testing.T) {
	require.Equal(t, "The cable is out", capital("the cable is out"))
	require.Equal(t, "heron-2 is blocked", capital("heron-2 is blocked"))
	require.Equal(t, "", capital(""))
}

func TestTheRackMarksOnlyTheFirstGateThatIsNotOpen(t *testing.T) {
	var out bytes.Buffer
	p := &program{out: &out, width: 200}
	p.printRack([]client.Device{{Handle: "heron-2", Maker: "Halden", Model: "Heron 4", Release: "12", Summary: "blocked", First: "mode",
		Gates: map[string]string{"seen": "open", "awake": "open", "mode": "shut", "driver": "shut", "admitted": "waiting", "linked": "unknown", "support": "not needed", "registered": "not needed"},
		Next:  &client.Step{Title: "Tap **Batch** six times"}}}, "")
	lines := strings.Split(out.String(), "\n")
	require.Contains(t, lines[0], "awake")
	require.Contains(t, lines[1], "mode")
	row := lines[2]
	for _, want := range []string{"heron-2", "[━]", "━", "◐", "┄", "·", "╱", "Tap Batch six times"} {
		require.Contains(t, stripStyle(row), want)
	}
	require.Equal(t, 1, strings.Count(row, "["+marks["shut"]+"]"))
	out.Reset()
	p.printRack(nil, "")
	require.Contains(t, out.String(), "The rack is empty")
}

// stripStyle takes the terminal's colours out.
func stripStyle(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == 0x1b {
			for ; i < len(s) && s[i] != 'm'; i++ {
			}
			continue
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

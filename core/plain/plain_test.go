package plain_test

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/plain"
)

func TestNothingThatSteersATerminalOrTheDirectionOfTextIsLeft(t *testing.T) {
	for name, c := range map[string]struct{ in, line, text string }{
		"colour and title":   {"a\x1b[31mred\x1b]0;t\x07b", "a[31mred]0;tb", "a[31mred]0;tb"},
		"C1 controls":        {"a\u009b31mb", "a31mb", "a31mb"},
		"bidi override":      {"abc\u202etxt.exe\u2066x\u2069", "abctxt.exex", "abctxt.exex"},
		"lines and tabs":     {"a\r\nb\tc", "a  b c", "a\nb\tc"},
		"line separators":    {"a\u2028b", "a b", "ab"},
		"tags and BOM":       {"a\ufeff\U000e0041b", "ab", "ab"},
		"other scripts stay": {"héron 鷺 مالك\u00a0ok", "héron 鷺 مالك\u00a0ok", "héron 鷺 مالك\u00a0ok"},
		"broken UTF-8":       {"a\xff\xfeb", "a\ufffd\ufffdb", "a\ufffd\ufffdb"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Equal(t, c.line, plain.Line(c.in))
			require.Equal(t, c.text, plain.Text(c.in))
		})
	}
}

func TestTextIsCutBetweenCharacters(t *testing.T) {
	require.Equal(t, "héron", plain.Cut("héron", 6))
	require.Equal(t, "h…", plain.Cut("héron", 5), "é does not fit whole beside the ellipsis")
	for most := range 12 {
		require.True(t, utf8.ValidString(plain.Cut(strings.Repeat("鷺", 5), most)))
	}
}

func FuzzJSONStaysTheSameButForWhatSteers(f *testing.F) {
	for _, s := range []string{"plain", "a\x1b[31m", "x\u202ey", `back\slash "quoted"`, "\b\f\r\n\t", "\ufeff", "😀", "a\\u001b"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		raw, err := json.Marshal(map[string]any{"k": s, "n": 12, "list": []string{s, s}})
		require.NoError(t, err)
		var back struct {
			K    string
			N    int
			List []string
		}
		require.NoError(t, json.Unmarshal(plain.JSON(raw), &back))
		want := plain.Text(strings.ToValidUTF8(s, "\ufffd"))
		require.Equal(t, 12, back.N)
		require.Len(t, back.List, 2)
		if utf8.ValidString(s) {
			require.Equal(t, want, back.K)
		}
	})
}

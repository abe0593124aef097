package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/benchtest"
)

// hostileText sets a terminal's title, clears its screen, turns the direction of text round, and goes on
// without end.
const hostileText = "Call\x1b]0;title\x07\x1b[2J\x1b[8mout\u202egpj.exe\u2066\u0085\x9b31m"

// steering are the characters of a text that would control a terminal or the direction of text.
func steering(text string) (out []string) {
	for _, r := range text {
		if r != '\n' && r != '\t' && (unicode.IsControl(r) || r == 0x061c || r >= 0x200e && r <= 0x200f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069) {
			out = append(out, fmt.Sprintf("%U", r))
		}
	}
	return out
}

// Whatever an app, its log and files say, no command and no page passes on what would control a terminal,
// or turn the direction of text round.
func TestNoCommandOrPagePassesOnWhatControlsATerminal(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	dir := benchtest.LoudApp(t, hostileText+"\nready: "+hostileText+"\n"+strings.Repeat("long ", 200)+"\n")
	yaml := fmt.Sprintf("id: fellgate/loud\nname: %q\nversion: \"1.0\"\nfamilies: [tarn]\nminimum: \"9\"\nbuild: {command: [cp, source, app.wasm]}\nfiles: [app.wasm]\nentry: app.wasm\ntry: {log: \"ready\", within: 20s}\n", hostileText)
	yaml = strings.ReplaceAll(yaml, `\x9b`, `\u009b`)
	file := filepath.Join(t.TempDir(), "loud.ebapp")
	sheet := filepath.Join(t.TempDir(), "loud.yaml")
	require.NoError(t, os.WriteFile(sheet, []byte("name: loud\n"+hostileText+": 1\n"), 0o600))
	other := filepath.Join(t.TempDir(), "a\x1b[31mb\u202e.ebapp")
	require.NoError(t, os.WriteFile(other, []byte("{\""+hostileText+"\": 1}"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(yaml), 0o600))
	d.permit("fellgate/loud")
	d.ok("project", "add", dir)
	d.ok("run", dir, "heron-1", "--follow=false")
	for _, args := range [][]string{
		{"project"}, {"log", "heron-1", "--for", "500ms"}, {"try", dir, "heron-1"}, {"tryout"}, {"app"}, {"job"}, {"rack", "show", "heron-1"},
		{"rack", "show", "heron-1", "--facts"}, {"rack", "--app", "fellgate/loud"}, {"why", "heron-1", "--app", "fellgate/loud"}, {"explain"}, {"explain", "fellgate/loud", "heron-1"},
		{"app", "pack", dir, file}, {"app", "check", file}, {"app", "show", file}, {"app", "compare", file, file}, {"app", "check", other}, {"sheet", "check", sheet}, {"handover", "reply", other},
		{"token", "put", other, "heron-1"}, {"support", "add", other}, {"driver", "add", other}, {"register", "add", "--from", other}, {"rack", "show", hostileText}, {hostileText},
		{"rack", "set", "heron-2", "--handle", hostileText}, {"run", hostileText, "heron-1"}, {"audit"}, {"host", "check"}, {"host"}, {"round"}, {"endings"},
	} {
		r := d.run(args...)
		require.Empty(t, steering(r.out), "%q: %q", args, r.out)
		require.Empty(t, steering(r.err), "%q: %q", args, r.err)
		for line := range strings.Lines(r.out + r.err) {
			require.LessOrEqual(t, len(line), 20_000, "%q", args)
		}
	}
	require.Contains(t, d.ok("log", "heron-1", "--for", "1s"), "ready: Call", "what can be read is there")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-1")
	for _, page := range []string{"/", "/devices/heron-1", "/keys", "/bench", "/computer"} {
		b.goes(d.console() + page)
		b.sees("moor-desk")
		text := get(b, "read the page", chromedp.Evaluate[string](`document.body.innerText + [...document.querySelectorAll("[title],[aria-label]")].map((e) => e.title + e.ariaLabel).join("\n")`))
		require.Empty(t, steering(strings.ReplaceAll(text, "\u00a0", " ")), page)
	}
}

package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

var confirmation = regexp.MustCompile(`earlybench (console --confirm \d{6})`)

// confirms does what the page asks for, at a terminal of the bench's computer.
func (b *browser) confirms(d *demo) {
	b.t.Helper()
	b.sees("--confirm ")
	line := confirmation.FindStringSubmatch(get(b, "read the code", chromedp.Evaluate[string](`document.body.innerText`)))
	require.NotNil(b.t, line)
	require.Contains(b.t, d.ok(strings.Fields(line[1])...), "Confirmed until ")
}

// writes replaces the text of the field with a label.
func (b *browser) writes(label, text string) {
	b.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll("label")].find((l) => l.innerText.trim().startsWith(%q))?.querySelector("input, textarea")`, label)
	await[bool](b, "find "+label, `!!`+find)
	get(b, "enter "+label, chromedp.Evaluate[chromedp.Void](find+`.focus()`))
	get(b, "choose all of it", chromedp.Evaluate[chromedp.Void](`document.activeElement.select()`))
	get(b, "write "+label, chromedp.KeyEvent(text))
}

// gives chooses a file for the field with a label.
func (b *browser) gives(label, file string) {
	b.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll("label")].find((l) => l.innerText.trim().startsWith(%q))`, label)
	await[bool](b, "find "+label, `!!`+find)
	get(b, "mark it", chromedp.Evaluate[chromedp.Void](find+`.querySelector("input").id = "chosen-file"`))
	get(b, "choose "+file, chromedp.SetUploadFiles("#chosen-file", []string{file}))
}

func TestTheOwnersFormsInTheConsole(t *testing.T) {
	d := startDemo(t, "--unknown")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-2")
	b.goes(d.console() + "/bench")

	b.presses("Rename this bench")
	b.sees("Only the bench’s owner may do this")
	b.confirms(d)
	b.writes("Name of this bench", "Moor Desk")
	b.presses("Rename it")
	b.sees(`Bench name "Moor Desk" is invalid`)
	b.writes("Name of this bench", "quay-desk")
	b.presses("Rename it")
	await[bool](b, "see the new name", `document.querySelector("header").innerText.includes("quay-desk")`)

	b.presses("Name an app's directory")
	b.writes("Directory on the computer of the bench", "/nowhere")
	b.presses("Build from it")
	b.sees("/nowhere")
	dir, err := filepath.Abs("../demo/apps/callout")
	require.NoError(t, err)
	b.writes("Directory on the computer of the bench", dir)
	b.presses("Build from it")
	b.sees("fellgate/callout 2.3 can be built.")

	b.presses("Show and make access keys")
	b.writes("Name of the key", "nightly")
	b.presses("Make the key")
	b.sees("The key nightly is shown this once")
	require.Contains(t, d.ok("access"), "nightly")
	b.presses("End nightly")
	d.eventually("the key has ended", func() bool { return !strings.Contains(d.ok("access"), "nightly") })

	b.goes(d.console() + "/computer")
	b.presses("Watch another host")
	b.writes("Name of the host", "attic")
	b.writes("Its USB/IP exporter", "nowhere")
	b.writes("Its host protocol", "127.0.0.1:9")
	b.presses("Watch it")
	b.sees("is not an address")
	b.writes("Its USB/IP exporter", "127.0.0.1:9")
	b.presses("Watch it")
	b.sees("Stop watching attic")
	require.Contains(t, d.ok("host"), "attic")
	get(b, "say that several people use it", chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("label")].find((l) => l.innerText.includes("Several people use attic")).click()`))
	b.sees("used by several people")
	b.presses("Stop watching attic")
	d.eventually("it is not watched", func() bool { return !strings.Contains(d.ok("host"), "attic") })

	b.presses("Add a driver set's file")
	lying := filepath.Join(t.TempDir(), "lying.ebset")
	require.NoError(t, os.WriteFile(lying, []byte("no set"), 0o600))
	b.gives("Driver set's file", lying)
	b.sees("driver set")
	await[bool](b, "be told that it is wrong", `!!document.querySelector("section[aria-label='Driver sets'] [role=alert]")`)

	b.goes(d.console() + "/bench")
	b.sees("confirmed by the owner")
	require.Contains(t, d.ok("access", "browsers"), "confirmed until")
	b.presses("End that now")
	d.eventually("it is confirmed no more", func() bool { return !strings.Contains(d.ok("access", "browsers"), "confirmed until") })
	require.NotContains(t, b.log.String(), "exception")
}

func TestASheetIsBegunWithWhatWasSeenInTheConsole(t *testing.T) {
	d := startDemo(t, "--unknown")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("unknown-1")
	b.presses("Begin a sheet for unknown-1")
	b.presses("Edit the sheet for unknown-1")
	b.confirms(d)
	b.sees("Prep sheet (YAML)")
	b.presses("Check and add it")
	b.sees("newcomer-1") // what was unknown has a row
	d.eventually("the bench knows the family", func() bool { return strings.Contains(d.ok("sheet"), "newcomer") })
	b.goes(d.console() + "/bench")
	b.presses("Drop newcomer")
	d.eventually("it is dropped", func() bool { return !strings.Contains(d.ok("sheet"), "newcomer") })
	b.presses("Add a sheet")
	b.writes("Prep sheet (YAML)", "sheet: newcomer\nsteps: 7")
	b.presses("Check and add it")
	b.sees("The sheet has errors")
	b.writes("Prep sheet (YAML)", "sheet: shared-words")
	b.presses("Check and add it")
	b.sees("It is active, as")
}

package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

func said(print func(*program)) string {
	var out bytes.Buffer
	print(&program{out: &out, err: &out, width: 120})
	return stripStyle(out.String())
}

var at = time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)

func TestABarIsAsLongAsItsShareToAnEighthOfACell(t *testing.T) {
	for share, want := range map[float64]string{0: "        ", 1: "████████", 0.5: "████    ", 0.5 + 1.0/64: "████▏   ", 7.0 / 64: "▉       ", 0.001: "        "} {
		require.Equal(t, want, bar(share, 8), share)
	}
}

func TestWhyTellsCausesAnswersEvidenceAndOneThingToDo(t *testing.T) {
	bus := client.Fact{Key: "usb.link", Text: "the device link: no", Source: "bus", At: at, Good: true}
	ines := client.Fact{Key: "said.lamp", Text: "lamp", Source: "person", By: "ines", At: at}
	causes := []client.Cause{{ID: "hidden", Probability: 0.7, Text: "**Batch** was never tapped.", Done: true}, {ID: "off", Probability: 0.286, Text: "It is off."},
		{ID: "a", Probability: 0.009, Text: "Never shown."}, {ID: "b", Probability: 0.006, Text: "Nor this."}}
	text := said(func(p *program) {
		p.printWhy(client.Why{Device: "heron-2", Gate: "mode", State: "shut", Text: "It does not let computers debug.", Evidence: []client.Fact{bus}, Causes: causes,
			Answers: []client.Given{{Check: "lamp", Text: "Is it lit?", Said: "It is dark", Fact: ines}, {Check: "machine", Text: "A machine?", Said: "Yes", Seen: true, Fact: bus}},
			Denied:  []client.Denied{{Told: client.Fact{Text: "locked: no", By: "ines", At: at}, Observed: client.Fact{Text: "locked: yes", Source: "device", At: at}}},
			Next: &client.Move{Kind: "check", ID: "room", Who: "hands", Seconds: 12, Text: "Is there a page?", Note: "Search for it.",
				Answers: []client.Choice{{ID: "yes", Text: "There is"}, {ID: "no", Text: "No"}}}})
	})
	for _, want := range []string{"heron-2  gate  mode  is shut", " 70 %  Batch was never tapped.  tried, did not help", " 29 %  It is off.", "2 others",
		"Is it lit?  It is dark  confirmed by ines", "A machine?  Yes         observed, bus", "The device link: no  observed, bus",
		"Locked: no, confirmed by ines", "but locked: yes, observed, device", "What is observed counts.",
		"What to do now: with your hands, about 12 seconds", "Search for it.", "yes        There is", "earlybench why heron-2 --answer room=…", "earlybench prep heron-2"} {
		require.Contains(t, text, want)
	}
	require.NotContains(t, text, "Never shown")
}

func TestWhyOfARemedySaysWhereAndWhatWillBeSeen(t *testing.T) {
	next := &client.Move{Kind: "remedy", ID: "hidden", Who: "computer", Seconds: 600, Text: "Tap **Batch**.", Sight: "a note.", Step: &client.Step{Where: []string{"Care", "Label"}}}
	text := said(func(p *program) { p.printMove(client.Why{Device: "heron-2", Next: next}) })
	for _, want := range []string{"at the computer, about 10 minutes", "Tap Batch.", "On the device: Care › Label", "You will see: a note.", "If it did not help: earlybench why heron-2 --tried-remedy hidden"} {
		require.Contains(t, text, want)
	}
	text = said(func(p *program) { p.printMove(client.Why{Device: unseen, Next: next}) })
	require.Contains(t, text, "earlybench why --unseen --tried-remedy hidden")
	require.NotContains(t, text, "prep", "nobody can be led through a device that is not there")
	require.Empty(t, said(func(p *program) { p.printMove(client.Why{Device: "heron-2"}) }))
	require.Contains(t, said(func(p *program) { p.printGate(client.Why{Device: "heron-1"}) }), "heron-1 is ready. Nothing is shut.")
	require.Contains(t, said(func(p *program) { p.printGate(client.Why{Device: unseen, Gate: "seen"}) }), "what you see counts")
}

func TestAMistakeIsShownInItsLineAndMarked(t *testing.T) {
	text := []byte("sheet: x\n  open: fact.usb.lnik\nlast: \"" + strings.Repeat("a", 90) + " {swich}\"\n")
	shown := said(func(p *program) {
		p.printMistake(client.Mistake{File: "x.yaml", Line: 2, Column: 9, Near: "fact.usb.lnik", Text: "there is no fact.usb.lnik", Hint: "did you mean fact.usb.link?"}, text)
	})
	require.Equal(t, "x.yaml:2:9: there is no fact.usb.lnik\n      open: fact.usb.lnik\n            ^^^^^^^^^^^^^\n    did you mean fact.usb.link?\n", shown)
	long := said(func(p *program) {
		p.printMistake(client.Mistake{File: "x.yaml", Line: 3, Column: 99, Near: "{swich}", Text: "no such word"}, text)
	})
	lines := strings.Split(long, "\n")
	require.Contains(t, lines[1], "…")
	require.Equal(t, strings.Index(strings.Replace(lines[1], "…", ".", 1), "{swich}"), strings.Index(lines[2], "^"), "the mark stands below the place")
	require.Equal(t, 7, strings.Count(lines[2], "^"))
	gone := said(func(p *program) {
		p.printMistake(client.Mistake{File: "x.yaml", Line: 70, Column: 1, Text: "far away"}, text)
	})
	require.Equal(t, "x.yaml:70:1: far away\n", gone, "a line that is not there is not shown")
	hostile := said(func(p *program) {
		p.printMistake(client.Mistake{File: "x.yaml", Line: 1, Column: 3, Text: "t\x1b[31m"}, []byte("a\tb\x1b[2Jc"))
	})
	require.NotContains(t, hostile, "\x1b")
}

func TestSheetsAreListedWithWhatKeepsANewerOneFromBeingInForce(t *testing.T) {
	shown := said(func(p *program) {
		p.printSheets(client.Sheets{Items: []client.Sheet{{Sheet: "tarn/halden", Model: "Heron 4", Languages: []string{"de"}}, {Sheet: "slate", File: "/s/slate.yaml", Own: true, Taken: &at}},
			Trouble: []client.Mistake{{File: "/s/slate.yaml", Line: 3, Column: 1, Text: "there is no fact.x"}}})
	})
	for _, want := range []string{"tarn/halden", "ships with Early Bench", "/s/slate.yaml, active since", "has errors and is not active", "/s/slate.yaml:3:1: there is no fact.x"} {
		require.Contains(t, shown, want)
	}
}

func TestADevicesSheetTellsItsReleasesAndFiles(t *testing.T) {
	show := func(from, below string) string {
		return said(func(p *program) {
			p.printDeviceSheet(client.DeviceSheet{Device: "whimbrel-1", Sheet: "ostler", Model: "Whimbrel", From: from, Below: below, Walk: []string{"seen", "mode"},
				Parts: []client.Part{{Kind: "gate", Name: "seen", Text: "fact.usb.present", File: "a.yaml", Line: 7}, {Kind: "word", Name: "door", Text: strings.Repeat("long ", 40), File: "b.yaml", Line: 2}}})
		})
	}
	require.Contains(t, show("", ""), "for Whimbrel, any release")
	require.Contains(t, show("6.2", ""), "releases from 6.2")
	require.Contains(t, show("", "6.2"), "releases below 6.2")
	require.Contains(t, show("6.1", "6.2"), "releases from 6.1, below 6.2")
	text := show("", "")
	require.Contains(t, text, "walk: seen › mode")
	require.Regexp(t, `seen +fact\.usb\.present +a\.yaml:7`, text)
	require.Contains(t, text, "…", "a long word is cut")
}

func TestValuesAreReadAsPeopleReadThem(t *testing.T) {
	for want, v := range map[string]any{"yes": true, "no": false, "a, b": []any{"a", "b"}, "512000000": 512000000.0, "12.5": 12.5, "de": "de"} {
		require.Equal(t, want, valueText(v))
	}
}

func TestADeviceIsShownWithWhatItWaitsForAndWhatEnds(t *testing.T) {
	text := said(func(p *program) {
		p.printDevice(client.Prep{Device: client.Device{Handle: "kestle-1", First: "kit", Summary: "blocked", Says: "The kit is not here.", Gates: map[string]string{"seen": "open"},
			Waits: map[string][]string{"driver": {"mode", "drivers"}}, Computer: map[string]string{"kit": "shut"}, Endings: []client.Ending{{Gate: "token", At: at, Soon: true, Left: 5400}}}}, "")
	})
	for _, want := range []string{"blocked: The kit is not here.", "waits for mode, drivers", "shut (of this computer)", "ends in 90 minutes, 23 Nov 2026"} {
		require.Contains(t, text, want)
	}
}

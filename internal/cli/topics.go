package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/core/sheet"
)

// topics adds help topics that are not commands: earlybench help exit-codes.
func topics(root *cobra.Command) {
	for _, t := range []struct{ name, short, text string }{
		{"getting-started", "From the start to a first app on a device", `To learn and try things, without any device:

  earlybench demo                       a bench with stand-in devices
  earlybench console                    sign a browser in
  earlybench rack                       all devices, and what each needs next
  earlybench prep heron-2               prepare a device, step by step
  earlybench try demo/apps/callout heron-2

With devices of your own:

  earlybench serve                      the bench, on this computer
  earlybench host add NAME --usbip HOST:PORT --control HOST:PORT
  earlybench why --unseen --ask         if a device does not show up
  earlybench driver add FILE            a driver set that it needs
  earlybench depot add URL              or a depot that has what your devices need
  earlybench host needs                 what your devices need, with licences; --accept fetches it
  earlybench kit                        the compilers and tools that builds of apps need`},
		{"gates", "What the gates mean", gateMeanings()},
		{"exit-codes", "What the exit codes of commands mean", `  0  done
  1  failed
  2  wrong usage
  3  the device is blocked: a gate and its remedy are printed
  4  the bench cannot be reached
  5  not allowed
  6  a person is needed
  7  the device was lost: try again

With several devices the code is 1 if any of them failed; the table says why.`},
		{"output", "JSON, colours, and commands without a terminal", `--json prints what the HTTP interface answers, with its field names; lists are
objects with an items array. Progress and errors go to standard error.
docs/json.md describes every command.

NO_COLOR turns colours off. Terminal control characters are removed from what devices
send. --unattended never asks: what needs a person ends with code 6.
EARLYBENCH_ACCESS gives an access key (earlybench access add NAME --may use).`},
		{"where", "Expressions that select devices and items of lists", `--where selects by an expression, in every list, and for prep, run and try:

  earlybench rack --where 'device.family == "tarn" && device.release < version("12")'
  earlybench rack --where 'gate.mode == "shut" && !known.device.met'
  earlybench job --where 'job.state == "failed"' --limit 10
  earlybench try fellgate/callout --where 'device.summary == "ready"'

For devices, use
  device.FIELD  what earlybench rack --json prints: handle, family, maker, model,
                code, serial, release, summary, host, port, link, working, ...
  gate.NAME     open, shut, waiting, unknown, not needed
  fact.KEY      a fact, as in earlybench rack show DEVICE --facts
  known.KEY     whether it is known

Other lists use their own noun, with the fields that --json prints: job.state,
tryout.passed, host.name, driver.name, line.actor (audit), sheet.family.

It is CEL: && || ! == != < in startsWith contains matches exists all,
version("12.1"), timestamp("2026-11-26T08:00:00Z"), duration("72h"). What depends
on something that is not known is not chosen. --limit prints at most
this many, --after what comes after an item. More: docs/where.md.`},
		{"files", "Where the bench keeps what it knows", `--state DIR or EARLYBENCH_STATE names the state directory of a bench; without
them it is earlybench in the XDG state home (~/.local/state). In it:

  bench.db        all records (SQLite), written by the service only
  bench.key       the key by which devices know this bench
  safe.age        the safe, encrypted; safe-lock.age beside it
  files/          large files, by their SHA-256
  sheets/         prep sheets of your own, taken up while the bench runs
  run/            sockets, for their owner only
  standins/       what the demo's stand-in devices keep
  before-DATE/    what was there before a backup was put in place

earlybench backup writes and reads all but the last three as one file. earlybench tidy
says what nothing uses any more.`},
	} {
		root.AddCommand(&cobra.Command{Use: t.name, Short: t.short, Long: t.text})
	}
}

// gateMeanings says what each gate means, and how its states are drawn.
func gateMeanings() string {
	var b strings.Builder
	b.WriteString("A device is ready when the gates that it needs are open, one after the other:\n\n")
	for _, g := range append(slices.Clone(sheet.Order), sheet.HostOrder...) {
		fmt.Fprintf(&b, "  %-11s %s\n", g, sheet.Meaning(g))
	}
	b.WriteString("\n╱ open: it holds          ━ shut: it was observed not to hold\n◐ waiting: for a person   ┄ unknown: nothing good was observed\n· not needed\n\nWhy one is not open: earlybench why DEVICE")
	return b.String()
}

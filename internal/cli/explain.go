package cli

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) explainCommand() *cobra.Command {
	build := ""
	c := &cobra.Command{Use: "explain [APP [DEVICE]]", Short: "Which apps may run on which devices, and why not", Args: cobra.MaximumNArgs(2),
		Long: `Without a device it shows on which devices the apps, or one app, may run. With a
device it says which grant or debug token covers the app there, or which of its lines
rules it out, and what to do. If the app may not run, the command ends with code 3.`,
		Example: "earlybench explain\nearlybench explain fellgate/callout kestle-5", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if build != "" && len(args) < 2 {
				return usage("--build goes with an app and a device")
			}
			if len(args) < 2 {
				m, err := b.MayRun(c.Context(), strings.Join(args, ""))
				switch {
				case err != nil:
					return err
				case p.json:
					return p.printJSON(m)
				}
				p.printMayRun(m)
				return nil
			}
			e, err := b.Explain(c.Context(), args[0], args[1], build)
			if err != nil {
				return err
			}
			if p.json {
				err = p.printJSON(e)
			} else {
				p.printExplanation(e)
			}
			if err == nil && !e.Allowed {
				return &exitError{exitBlocked, ""}
			}
			return err
		}}
	c.Flags().StringVar(&build, "build", "", "which of the project's builds, signed as that one is")
	return c
}

// printMayRun prints the stages, then a row a device, a column an app.
func (p *program) printMayRun(m client.MayRun) {
	wide := 0
	for _, s := range m.Stages {
		wide = max(wide, lipgloss.Width(s.Value))
	}
	for _, s := range m.Stages {
		fmt.Fprintf(p.out, "%s %-9s %s%s %s\n", marks[s.State], s.Name, bold.Render(safe(s.Value)), strings.Repeat(" ", wide-lipgloss.Width(s.Value)+1), faint.Render(safe(s.Note)))
	}
	if len(m.Apps) == 0 {
		empty(p.out, "\nNo app is known here yet. Add its project: earlybench project add DIRECTORY")
		return
	}
	for _, a := range m.Apps {
		fmt.Fprintf(p.out, "\n%s\n", bold.Render(safe(a.App)))
		p.printCells(a.Cells)
	}
	fmt.Fprintln(p.out)
	fmt.Fprintln(p.out, faint.Render("╱ may run  ━ may not  ┄ not known  · needs nothing. The reason: earlybench explain APP DEVICE"))
}

// printCells prints devices that stand alike on one line.
func (p *program) printCells(cells []client.MayRunCell) {
	type kind struct {
		state, gate, ends string
		unfit             bool
	}
	var kinds []kind
	devices := map[kind][]string{}
	for _, c := range cells {
		k := kind{state: c.State, unfit: c.Unfit}
		if c.State != "open" {
			k.gate = c.Gate
		} else if c.Ends != nil {
			k.ends = c.Ends.Local().Format("2 January 2006")
		}
		if devices[k] == nil {
			kinds = append(kinds, k)
		}
		devices[k] = append(devices[k], safe(c.Device))
	}
	says := map[string]string{"open": "may run", "not needed": "needs nothing", "unknown": "not known", "shut": "may not run", "waiting": "waits"}
	for _, k := range kinds {
		what := says[k.state]
		switch {
		case k.unfit:
			what = "not made for it"
		case k.gate != "" && k.state != "not needed":
			what += ": " + k.gate
		case k.ends != "":
			what += " until " + k.ends
		}
		label := fmt.Sprintf("  %s %-26s ", marks[k.state], what)
		var names strings.Builder
		wrapped(&names, strings.Repeat(" ", lipgloss.Width(label)), strings.Join(devices[k], ", "), p.width)
		fmt.Fprint(p.out, label, strings.TrimLeft(names.String(), " "))
	}
}

func (p *program) printExplanation(e client.Explanation) {
	answer := map[bool]string{true: "Yes.", false: "No."}[e.Allowed]
	fmt.Fprintf(p.out, "%s %s\n", answer, safe(e.Text))
	if s := e.Statement; s != nil {
		fmt.Fprintln(p.out)
		p.describeStatement(*s)
		if e.Line != "" {
			fmt.Fprintf(p.out, "\nThe line that rules it out is %s.\n", e.Line)
		}
	}
	if e.Remedy != "" {
		fmt.Fprintf(p.out, "\nWhat to do: %s\n", safe(e.Remedy))
	}
}

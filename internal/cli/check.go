package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

// checkMarks are the signs of the states of a check.
var checkMarks = map[string]string{"fine": "✓", "limited": "~", "wrong": "✗", "unknown": "┄"}

func (p *program) hostCheck() *cobra.Command {
	wrong, of := 0, 0
	look := func(b *client.Client, ctx context.Context, sel ...client.Select) ([]client.Check, error) {
		all, err := b.Check(ctx, sel...)
		for _, k := range all {
			if of++; k.State == "wrong" {
				wrong++
			}
		}
		return all, err
	}
	c := lists(p, &cobra.Command{Use: "check", Short: "Look at this computer: what of it would stop something, and the remedy", Args: cobra.NoArgs,
		Long: `Looks at the bench's own computer: its USB and the rights on it, the rules that make device
nodes, ports, networks and announcements on them, the clock beside those of the devices, disk,
memory, and the programs that build the apps. What is limited works with less comfort; what
is wrong keeps something from working, and ends the command with code 1.`}, look, p.printChecks)
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := run(c, args); err != nil || wrong == 0 {
			return err
		}
		return &exitError{exitFailed, fmt.Sprintf("Wrong: %d of %d. Each has its remedy beside it.", wrong, of)}
	}
	return c
}

func (p *program) printChecks(all []client.Check) {
	for _, k := range all {
		mark := faint.Render(checkMarks[k.State])
		switch k.State {
		case "fine":
			mark = good.Render(checkMarks[k.State])
		case "wrong":
			mark = bad.Render(checkMarks[k.State])
		}
		fmt.Fprintf(p.out, "%s %s\n", mark, bold.Render(safe(k.Title)))
		for _, text := range []string{k.Found, k.Breaks, k.Remedy} {
			if text != "" {
				wrapped(p.out, "    ", safe(text), p.width)
			}
		}
	}
}

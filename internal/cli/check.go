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
	c := lists(p, &cobra.Command{Use: "check", Short: "Check this computer for anything that would be in the way, with remedies", Args: cobra.NoArgs,
		Long: `Checks the bench's own computer: USB and access rights, the rules that create device
nodes, ports, networks and announcements, the clock compared with the devices', disk,
memory, and the programs that build apps. What is limited works with less comfort. What
is wrong prevents something from working, and the command ends with code 1.`}, look, p.printChecks)
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := run(c, args); err != nil || wrong == 0 {
			return err
		}
		return &exitError{exitFailed, fmt.Sprintf("Wrong: %d of %d. The remedy is shown beside each.", wrong, of)}
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

package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) roundCommand() *cobra.Command {
	app := ""
	c := &cobra.Command{Use: "round", Short: "All devices, grouped by their next step", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			r, err := b.Round(c.Context(), app)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(r)
			}
			p.printRound(r)
			return nil
		}}
	c.Flags().StringVar(&app, "app", "", "also count what this app needs, such as fellgate/callout")
	return c
}

func (p *program) printRound(r client.Round) {
	heads := map[string]string{"hands": "With your hands", "computer": "At the computer", "automatic": "By itself"}
	last := ""
	for _, g := range r.Groups {
		if g.Who != last {
			last = g.Who
			fmt.Fprintf(p.out, "%s\n", bold.Render(heads[g.Who]))
		}
		minutes := ""
		if g.Minutes > 0 {
			minutes = fmt.Sprintf("about %d min", g.Minutes)
		}
		fmt.Fprintf(p.out, "  %s %s  %s\n", lamp.Render(fmt.Sprintf("%3d", len(g.Devices))), emphasis(g.Title), faint.Render(minutes))
		var places []string
		for _, d := range g.Devices {
			where := d.Handle
			if d.Port != "" {
				where += faint.Render(" " + d.Port)
			}
			places = append(places, where)
		}
		fmt.Fprintf(p.out, "      %s\n", strings.Join(places, ", "))
	}
	if len(r.Ready) > 0 {
		fmt.Fprintf(p.out, "%s  %s\n", good.Render("Nothing to do"), strings.Join(r.Ready, ", "))
	}
	if len(r.Groups)+len(r.Ready) == 0 {
		empty(p.out, "The rack is empty, so there is nothing to do.")
	}
}

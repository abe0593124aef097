package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) whyCommand() *cobra.Command {
	var app string
	c := &cobra.Command{Use: "why DEVICE", Short: "What is wrong with a device, how the bench knows, what to do now", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			w, err := b.Why(c.Context(), args[0], app)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(w)
			}
			p.printWhy(w)
			return nil
		}}
	c.Flags().StringVar(&app, "app", "", "count the gates of an app too")
	return c
}

func (p *program) printWhy(w client.Why) {
	if w.Gate == "" {
		fmt.Fprintf(p.out, "%s is ready. Nothing is shut.\n", bold.Render(w.Device))
	} else {
		fmt.Fprintf(p.out, "%s  gate %s is %s\n\n", bold.Render(w.Device), lamp.Render(" "+w.Gate+" "), w.State)
		wrapped(p.out, "  ", emphasis(w.Text), p.width)
	}
	if len(w.Evidence) > 0 {
		fmt.Fprintln(p.out, "\n"+faint.Render("What we go by"))
		var rows [][]string
		for _, f := range w.Evidence {
			how := "observed, " + f.Source
			if f.Source == "person" {
				how = "told by " + f.By
			}
			rows = append(rows, []string{"  " + safe(capital(f.Text)), how, clockText(f.At)})
		}
		table(p.out, []string{"", "", ""}, rows)
	}
	if w.Remedy != "" {
		fmt.Fprintln(p.out, "\n"+faint.Render("What to do now"))
		wrapped(p.out, "  ", emphasis(w.Remedy), p.width)
		if w.Next != nil && len(w.Next.Where) > 0 {
			wrapped(p.out, "  ", "On the device: "+way(w.Next.Where), p.width)
		}
	}
	if w.Gate != "" {
		fmt.Fprintf(p.out, "\nLed step by step: %s\n", bold.Render("earlybench prep "+w.Device))
	}
}

func way(where []string) string {
	s := ""
	for i, w := range where {
		if i > 0 {
			s += " › "
		}
		s += safe(w)
	}
	return s
}

package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) tryCommand() *cobra.Command {
	picture, build, at := "", "", ""
	var chosen choice
	c := &cobra.Command{Use: "try APP [DEVICE...]", Short: "Run an app as a tryout: look whether it works, and keep the evidence", Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if at != "" {
				return p.deliver(c, client.Run{Build: build, Peer: at, Try: true}, args)
			}
			b, what, args, err := p.app(c.Context(), args, chosen)
			if err != nil {
				return err
			}
			what.Try, what.Build = true, build
			if len(args) > 2 {
				if picture != "" {
					return usage("--picture takes one device: of several, look with earlybench tryout show TRYOUT --picture FILE")
				}
				return p.runMany(c.Context(), b, what, "try", args)
			}
			what.Device = args[1]
			var j client.Job
			err = p.orPrep(c.Context(), args[1], what.App, func() (err error) {
				j, err = p.start(c.Context(), b, what)
				return err
			})
			kept := j.Result != nil && j.Result.Tryout != ""
			switch {
			case err != nil && !kept:
				return err
			case !kept:
				return &exitError{exitFailed, "The tryout was not kept."}
			}
			if serr := p.showTryout(context.WithoutCancel(c.Context()), b, j.Result.Tryout, picture); serr != nil {
				return serr
			}
			return err
		}}
	chosen = p.chooses(c)
	c.Flags().StringVar(&picture, "picture", "", "write the picture of the screen to this file")
	c.Flags().StringVar(&build, "build", "", buildHelp)
	c.Flags().StringVar(&at, "at", "", atHelp)
	return c
}

// lastLines is how many lines of the log of a tryout that did not pass are shown.
const lastLines = 8

func (p *program) showTryout(ctx context.Context, b *client.Client, id, picture string) error {
	t, err := b.Tryout(ctx, id)
	if err != nil {
		return err
	}
	switch {
	case picture != "" && !t.Picture:
		fmt.Fprintln(p.err, "No picture was taken: it had not come so far.")
	case picture != "":
		png, err := b.Picture(ctx, id)
		if err != nil {
			return err
		}
		if err := os.WriteFile(picture, png, 0o644); err != nil {
			return fmt.Errorf("write the picture: %w", err)
		}
	}
	if p.json {
		return p.printJSON(t)
	}
	verdict := good.Render(t.Outcome)
	if !t.Passed {
		verdict = bad.Render(t.Outcome)
	}
	fmt.Fprintf(p.out, "%s %s on %s: %s, %s\n", bold.Render(t.App), t.Version, bold.Render(t.Device), verdict, clockText(t.Created))
	p.printPoints(t.Points)
	if !t.Passed {
		p.printLast(t.Log)
	}
	fmt.Fprintf(p.out, "\nKept as tryout %s: earlybench tryout show %s\n", t.ID, t.ID)
	return nil
}

func (p *program) printPoints(points []client.Point) {
	var rows [][]string
	for _, pt := range points {
		mark := good.Render("✓")
		if !pt.OK {
			mark = bad.Render("✗")
		}
		rows = append(rows, []string{"  " + mark, pt.Name, took(pt.Took), safe(pt.Text)})
	}
	p.table([]string{"", "", "", ""}, rows)
}

// printLast prints the last lines of a log.
func (p *program) printLast(log []string) {
	last := log[max(len(log)-lastLines, 0):]
	if len(last) == 0 {
		return
	}
	fmt.Fprintln(p.out, "\nThe last lines of its log")
	for _, l := range last {
		fmt.Fprintln(p.out, "  "+safe(l))
	}
}

func (p *program) tryoutCommand() *cobra.Command {
	var device string
	var sel *client.Select
	c := &cobra.Command{Use: "tryout", Short: "Tryouts that were kept", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		ts, err := b.Tryouts(c.Context(), device, *sel)
		if err != nil {
			return err
		}
		return printList(p, ts, func(ts []client.Tryout) {
			if len(ts) == 0 {
				empty(p.out, "No tryout yet. Make one: earlybench try APP DEVICE")
				return
			}
			var rows [][]string
			for _, t := range ts {
				rows = append(rows, []string{t.ID, t.App + " " + t.Version, t.Device, t.Outcome, clockText(t.Created)})
			}
			p.table([]string{"tryout", "app", "device", "", "when"}, rows)
		})
	}}
	c.Flags().StringVar(&device, "device", "", "of one device")
	sel = p.selection(c)
	picture := ""
	show := &cobra.Command{Use: "show TRYOUT", Short: "One tryout", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return p.showTryout(c.Context(), b, args[0], picture)
	}}
	show.Flags().StringVar(&picture, "picture", "", "write the picture of the screen to this file")
	c.AddCommand(show)
	return c
}

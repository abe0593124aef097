package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) rackAdd() *cobra.Command {
	var d client.NewDevice
	c := &cobra.Command{Use: "add [HANDLE]", Short: "Add a device that has no cable, such as a watch", Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				d.Handle = args[0]
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			added, err := b.AddDevice(c.Context(), d)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(added)
			}
			fmt.Fprintf(p.out, "%s is on the rack. Continue with: earlybench prep %[1]s\n", added.Handle)
			return nil
		}}
	c.Flags().StringVar(&d.Model, "model", "", "code or name of its model, such as Kittiwake")
	required(c, "model")
	return c
}

func (p *program) rackDrop() *cobra.Command {
	yes := false
	c := &cobra.Command{Use: "drop DEVICE", Short: "Forget a device that is not connected, and everything known about it", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if _, err := b.Prep(c.Context(), args[0], ""); err != nil {
				return err
			}
			if !yes {
				err := p.askFirst(fmt.Sprintf("This forgets %s: its pinned key, everything known about it, and its tryouts.", args[0]))
				if err != nil {
					return err
				}
			}
			if err := b.DropDevice(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(p.err, "%s was forgotten. If it is connected again, it will be a new device.\n", args[0])
			return nil
		}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// askFirst asks a person whether to do what a text says; an error means no.
func (p *program) askFirst(text string) error {
	fmt.Fprintln(p.err, text)
	if !p.terminal || p.unattended || p.json {
		return &exitError{exitPerson, "Nothing was done. To go ahead, add --yes."}
	}
	fmt.Fprint(p.err, "Go on? [y/N] ")
	answer, err := p.readLine()
	if err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return &exitError{exitPerson, "Nothing was done."}
	}
	return nil
}

func (p *program) rackFind() *cobra.Command {
	return &cobra.Command{Use: "find DEVICE", Short: "Show a device's handle on its screen", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if err := b.Find(c.Context(), args[0]); err != nil {
				return err
			}
			p.sayf("It is shown on its screen: %s\n", args[0])
			return nil
		}}
}

func (p *program) retireCommand() *cobra.Command {
	var off, yes bool
	var told []string
	c := &cobra.Command{Use: "retire DEVICE", Short: "Retire a device: apps off, closed for development, admission withdrawn", Args: cobra.ExactArgs(1),
		Long: `Removes apps and the admission from a device, and leads you through closing it for
development. What cannot be done now, because the device is away or only a person
can do it, is done when it comes back, or noticed when it is done. Run this again to see
the progress.`,
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if off {
				return b.CallOffRetirement(c.Context(), args[0])
			}
			if goes, err := p.mayRetire(c.Context(), b, args[0], yes); !goes {
				return err
			}
			if _, err := b.Retire(c.Context(), args[0]); err != nil {
				return err
			}
			for _, step := range told {
				if err := b.TellRetirement(c.Context(), args[0], step); err != nil {
					return err
				}
			}
			r, err := b.Retirement(c.Context(), args[0])
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(r)
			}
			p.printRetirement(args[0], r)
			return nil
		}}
	c.Flags().BoolVar(&off, "call-off", false, "stop retiring it; what was removed stays removed")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask before starting")
	c.Flags().StringSliceVar(&told, "confirm", nil, "names of steps that you have done and the bench cannot see")
	return c
}

// mayRetire asks whether to begin to retire a device, after saying what that does.
func (p *program) mayRetire(ctx context.Context, b *client.Client, handle string, yes bool) (bool, error) {
	r, err := b.Retirement(ctx, handle)
	if err != nil || yes || !r.Since.IsZero() {
		return err == nil, err
	}
	plan, err := b.Prep(ctx, handle, "")
	if err != nil {
		return false, err
	}
	fmt.Fprintf(p.err, "Retiring %s removes everything of this bench from it:\n", handle)
	for _, i := range r.Items {
		fmt.Fprintf(p.err, "  · %s  %s\n", emphasisPlain(i.Step.Title), whoWords[i.Step.Who])
	}
	for _, a := range plan.Apps {
		state := ""
		if a.Running {
			state = ", which is running"
		}
		fmt.Fprintf(p.err, "  It has %s %s%s.\n", safe(a.Name), safe(a.Version), state)
	}
	err = p.askFirst("To work with it again, it has to be set up from scratch.")
	return err == nil, err
}

func (p *program) printRetirement(handle string, r client.Retirement) {
	for _, i := range r.Items {
		mark, how := "·", "to be done by the bench, when it is linked"
		if i.Step.Who == "hands" {
			how = "with your hands"
			if i.Step.Tell {
				how += "; then say --confirm " + i.Step.ID
			}
		}
		if i.Step.Done {
			mark, how = good.Render("✓"), "observed "+clockText(i.At)
			if i.By != "" {
				how = "confirmed by " + safe(i.By) + " " + clockText(i.At)
			}
		}
		fmt.Fprintf(p.out, "  %s %s  %s\n", mark, emphasis(i.Step.Title), faint.Render(how))
		if !i.Step.Done && len(i.Step.Where) > 0 {
			fmt.Fprintln(p.out, "      "+way(i.Step.Where))
		}
	}
	if !r.Ended.IsZero() {
		fmt.Fprintf(p.out, "%s is retired. To use it again, plug it in again, or: earlybench retire %s --call-off\n", bold.Render(handle), handle)
		return
	}
	fmt.Fprintf(p.out, "%s is being retired; the bench continues by itself. To stop that: earlybench retire %[1]s --call-off\n", handle)
}

package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) waitCommand() *cobra.Command {
	c := &cobra.Command{Use: "wait", Short: "Wait until something is so", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return usage("write: earlybench wait ready DEVICE... --within 5m")
	}}
	var app string
	var within time.Duration
	var chosen choice
	ready := &cobra.Command{Use: "ready [DEVICE...]", Short: "Wait until devices are ready", Args: cobra.ArbitraryArgs,
		Long: `Waits until all of the devices are ready, and ends with code 0. When the time is
over before that, it lists the devices that are not, and ends with code 3.`,
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if args, err = chosen(c.Context(), b, args); err != nil {
				return err
			}
			if len(args) == 0 {
				return p.noDevice(c.Context(), b)
			}
			return p.waitReady(c.Context(), b, args, app, within)
		}}
	chosen = p.chooses(ready)
	ready.Flags().StringVar(&app, "app", "", "ready for an app too, such as fellgate/callout")
	ready.Flags().DurationVar(&within, "within", 5*time.Minute, "how long to wait at most; 0 looks once")
	c.AddCommand(ready)
	return c
}

// isReady reports whether nothing is left to do for a device.
func isReady(d client.Device) bool { return d.Summary == "ready" || d.Summary == "expiring" }

func (p *program) waitReady(ctx context.Context, b *client.Client, handles []string, app string, within time.Duration) error {
	bench, err := b.Bench(ctx)
	if err != nil {
		return err
	}
	following, cancel := context.WithCancel(ctx)
	defer cancel()
	changed := make(chan struct{}, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- b.Events(following, bench.Sequence, func(e client.Event) {
			if slices.Contains([]string{"device.changed", "app.changed", "trial.changed"}, e.Type) {
				select {
				case changed <- struct{}{}:
				default:
				}
			}
		})
	}()
	over := time.NewTimer(within)
	defer over.Stop()
	for {
		all := make([]client.Device, len(handles))
		for i, h := range handles {
			plan, err := b.Prep(ctx, h, app)
			if err != nil {
				return err
			}
			all[i] = plan.Device
		}
		left := slices.DeleteFunc(slices.Clone(all), isReady)
		if len(left) == 0 {
			return p.waited(all, nil)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-ended:
			return &exitError{exitUnreachable, "The bench has ended meanwhile: " + endText(err) + "."}
		case <-over.C:
			return p.waited(all, left)
		case <-changed:
		}
	}
}

// waited prints how devices stand after waiting for them; left are those that are not ready.
func (p *program) waited(all, left []client.Device) error {
	if p.json {
		if err := printList(p, all, nil); err != nil {
			return err
		}
	} else {
		var rows [][]string
		for _, d := range all {
			mark := good.Render("✓")
			if !isReady(d) {
				mark = bad.Render("✗")
			}
			rows = append(rows, []string{mark, d.Handle, rackNext(d)})
		}
		p.table([]string{"", "device", ""}, rows)
	}
	if len(left) == 0 {
		return nil
	}
	names := make([]string, len(left))
	for i, d := range left {
		names[i] = d.Handle
	}
	return &exitError{exitBlocked, notReady(len(left), len(all)) + " Continue with: earlybench prep " + strings.Join(names, " ")}
}

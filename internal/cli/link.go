package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) linkCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "link", Short: "How devices are reached now", Args: cobra.NoArgs}, (*client.Client).Links, func(all []client.Link) {
		if len(all) == 0 {
			empty(p.out, "No device is reached now. If one does not show up: earlybench why --unseen --ask")
			return
		}
		var rows [][]string
		for _, l := range all {
			rows = append(rows, []string{l.Device, l.Way, placeText(l), linkText(l)})
		}
		p.table([]string{"device", "way", "place", ""}, rows)
	})
	c.AddCommand(&cobra.Command{Use: "restart [DEVICE]", Short: "Restart the link to a device, or every link that was tried and is not up",
		Long: `Restarts the link to a device: the session ends, the device's port is reset, and the
bench connects again. Other devices are not affected. Without DEVICE, it restarts every
link that was tried and is not up, even where the bench is not admitted.`,
		Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				return p.restartLink(c.Context(), args[0])
			}
			return p.restartLinks(c.Context())
		}})
	return c
}

func placeText(l client.Link) string {
	return strings.TrimSuffix(l.Port+" of "+l.Host, " of ")
}

// reachedText says by which ways a device is reached, the one that is used first.
func reachedText(d client.Device) string {
	var each []string
	for _, w := range d.Ways {
		text := "by " + w.Way + ", " + placeText(w)
		switch w.Way {
		case "wireless":
			text = "without a cable, at " + safe(w.Port)
		case "companion":
			text = "through " + safe(w.Port)
		}
		if w.Asleep != nil {
			text += ", asleep since " + hourText(*w.Asleep) + ": it is woken when it is needed"
		}
		each = append(each, text)
	}
	if len(each) == 0 {
		return "not reached now"
	}
	return strings.Join(each, "; and ")
}

func linkText(l client.Link) string {
	switch {
	case l.State == "linked":
		return good.Render("linked")
	case l.State == "visitor":
		return "not admitted"
	case l.State == "asleep":
		return "asleep since " + hourText(*l.Asleep)
	case l.Trouble != "":
		return oneLine(safe(l.Trouble), 60)
	}
	return "no link yet"
}

func (p *program) restartLink(ctx context.Context, handle string) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	if err := b.RestartLink(ctx, handle); err != nil {
		return err
	}
	all, err := b.Links(ctx, client.Select{Where: fmt.Sprintf("link.device == %q", handle)})
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(client.List[client.Link]{Items: all})
	}
	for _, l := range all {
		fmt.Fprintf(p.out, "%s by %s: %s\n", handle, l.Way, linkText(l))
	}
	if len(all) == 0 || all[0].State == "down" {
		fmt.Fprintf(p.err, "It is not back yet. To find out why: earlybench why %s\n", handle)
	}
	return nil
}

func (p *program) restartLinks(ctx context.Context) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	all, err := b.RestartLinks(ctx)
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(client.List[client.RestartedLink]{Items: all})
	case len(all) == 0:
		fmt.Fprintln(p.err, "Every link that was tried is up. To restart one, name its device: earlybench link restart DEVICE")
	}
	failed := 0
	for _, r := range all {
		if r.Trouble == "" {
			fmt.Fprintf(p.out, "%s: restarted\n", r.Device)
			continue
		}
		failed++
		fmt.Fprintf(p.out, "%s: %s\n", r.Device, safe(r.Trouble))
	}
	if failed > 0 {
		return &exitError{exitFailed, fmt.Sprintf("%d of %d were not restarted.", failed, len(all))}
	}
	return nil
}

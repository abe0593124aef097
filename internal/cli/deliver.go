package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

const atHelp = "a peer that signs the app and installs it on one of its devices"

// deliver makes a peer install an app on one of its devices.
func (p *program) deliver(c *cobra.Command, what client.Run, args []string) error {
	ctx := c.Context()
	for _, name := range []string{"for", "follow", "picture", "where"} {
		if c.Flags().Changed(name) {
			return usage("--%s cannot be used with --at: log and picture stay at %s, which keeps its own tryout", name, what.Peer)
		}
	}
	if len(args) != 2 {
		return usage("with --at, give the app and one device of %s; list them with: earlybench rack --peers", what.Peer)
	}
	b, err := p.bench()
	if err != nil {
		return err
	}
	run, err := p.runnable(ctx, b, args[0])
	if err != nil {
		return err
	}
	what.App, what.File, what.Device = run.App, run.File, args[1]
	j, err := p.start(ctx, b, what)
	if j.Result == nil || j.Result.Delivery == nil {
		return err
	}
	if p.json {
		if perr := p.printJSON(j); perr != nil {
			return perr
		}
		return err
	}
	p.printDelivered(j, what.Device, what.Try)
	return err
}

func (p *program) printDelivered(j client.Job, device string, try bool) {
	r, d := j.Result, j.Result.Delivery
	verdict := good.Render("runs")
	switch {
	case j.State != "done":
		verdict = bad.Render("failed")
	case try:
		verdict = good.Render("passed")
	}
	fmt.Fprintf(p.out, "%s %s on %s at %s: %s\n", bold.Render(r.App), r.Version, bold.Render(device), d.Peer, verdict)
	p.printPoints(d.Points)
	if j.State != "done" {
		p.printLast(d.Log)
	}
	fmt.Fprintf(p.err, "%s were sent there.", bytesText(r.Sent))
	if d.Tryout != "" {
		fmt.Fprintf(p.err, " %s keeps it as tryout %s.", d.Peer, safe(d.Tryout))
	}
	fmt.Fprintln(p.err)
}

package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) prepCommand() *cobra.Command {
	g := guide{program: p, built: &built{}}
	plain := false
	var chosen choice
	all := false
	c := &cobra.Command{Use: "prep [DEVICE...]", Short: "Do what devices still need, step by step", Args: cobra.ArbitraryArgs,
		Long: `Leads you through what devices still need, step by step; without a device, through
all that are not ready, in the order that needs the least walking. A step ends by itself
when the bench sees that it is done. At a terminal this is one screen, where Enter
confirms that you have done a step with your hands. With --plain, or without a terminal, it
prints line by line, and --confirm STEP confirms a step. With --json, several devices are
prepared at the same time, and every line is an event. Leave at any time: what is done
stays done, and prep continues from there, here or in the console.`,
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if args, err = chosen(c.Context(), b, args); err != nil {
				return err
			}
			many := all || len(args) != 1
			switch {
			case all && len(args) > 0:
				return usage("--all takes no devices")
			case len(g.told) > 0 && len(args) != 1:
				return usage("--confirm takes one device")
			case len(args) == 0:
				if args, err = toPrepare(c.Context(), b, g.app); err != nil {
					return err
				}
				if len(args) == 0 && !p.json {
					fmt.Fprintln(p.out, "No device needs anything.")
					return nil
				}
			}
			switch {
			case p.terminal && !plain && !p.json && !p.unattended && len(g.accept) == 0 && len(g.told) == 0:
				return p.leadOnScreen(c.Context(), args, g.app)
			case many:
				return g.leadAll(c.Context(), args)
			}
			g.handle = args[0]
			return g.lead(c.Context())
		}}
	chosen = p.chooses(c)
	c.Flags().StringVar(&g.app, "app", "", "also prepare for this app, such as fellgate/callout, up to a tryout that passes")
	c.Flags().BoolVar(&all, "all", false, "all devices that are not ready")
	c.Flags().BoolVar(&plain, "plain", false, "print line by line, for screen readers and logs")
	c.Flags().StringSliceVar(&g.accept, "accept", nil, "digests that you consent to: of a driver set, or a support pack with its licence")
	c.Flags().StringSliceVar(&g.despite, "despite", nil, "objections to the driver set that you accept: unsigned, similar, system")
	c.Flags().StringSliceVar(&g.told, "confirm", nil, "names of steps that you have done")
	c.Flags().DurationVar(&g.wait, "wait", 15*time.Minute, "how long to wait for one step")
	return c
}

// guide leads through the prep of one device, line by line.
type guide struct {
	*program
	handle string
	app    string // "" for none
	told   []string
	// accept are digests of what is consented to, and despite what stands against a driver set.
	accept, despite []string
	wait            time.Duration

	text    io.Writer       // where people read; with --json that is standard error
	report  func(prepEvent) // nil: steps are printed for people
	again   int             // times that a step was tried again
	nothing time.Time       // since when nothing can be done; zero while something can
	built   *built          // shared by the guides of several devices
	bench   *client.Client
	plan    client.Prep // on which is decided
	changed chan struct{}
	lines   chan string // what is typed, at a terminal
	shown   map[string]bool
}

func (g *guide) lead(ctx context.Context) (err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	switch g.text = g.out; {
	case g.report != nil:
		g.text = io.Discard
	case g.json:
		g.text = g.err
	}
	if g.bench, err = g.program.bench(); err != nil {
		return err
	}
	for _, step := range g.told {
		if err := g.bench.Tell(ctx, g.handle, step); err != nil {
			return err
		}
	}
	if err := g.watch(ctx); err != nil {
		return err
	}
	g.shown = map[string]bool{}
	for {
		plan, err := g.bench.Prep(ctx, g.handle, g.app)
		if err != nil {
			return g.left(ctx, err)
		}
		if len(g.shown) == 0 {
			g.head(plan)
		}
		g.printDone(plan)
		next := plan.Device.Next
		// Nothing can be done: there is no step, or nothing to install.
		nothing := next == nil || next.Action == "driver.install" && plan.Offer == nil && len(g.accept) == 0
		switch {
		case leaving(plan.Device):
			return leavingError(plan.Device)
		case plan.Device.First == "":
			return g.ready(plan)
		case nothing && g.settles(ctx):
			continue
		case next == nil:
			return g.stuck(ctx, plan)
		}
		g.plan, g.nothing = plan, time.Time{}
		if err := g.step(ctx, plan, *next); err != nil && !g.movedOn(ctx, *next, err) {
			return g.left(ctx, err)
		}
	}
}

// built is the app file of an app that was built once for several devices. It is locked while
// the app is tried, so that no two build in the same directory.
type built struct {
	sync.Mutex
	digest string
}

// leaving reports whether a device is being retired, or is: nothing is prepared on it.
func leaving(d client.Device) bool { return d.Summary == "retiring" || d.Summary == "retired" }

func leavingError(d client.Device) error {
	return &jobError{client.Trouble{Kind: "blocked", Text: d.Says, Remedy: "To prepare it, call that off: earlybench retire " + d.Handle + " --call-off"}}
}

// settleWithin is how long nothing can be done on a device before it counts, such as while it comes back on the bus.
const settleWithin = time.Second

// settles waits for a change of a device on which nothing can be done; false once that has lasted for too long.
func (g *guide) settles(ctx context.Context) bool {
	if g.nothing.IsZero() {
		g.nothing = time.Now()
	}
	left := settleWithin - time.Since(g.nothing)
	if left <= 0 {
		return false
	}
	select {
	case <-ctx.Done():
		return false
	case <-g.changed:
	case <-time.After(left):
	}
	return true
}

// stuck is the error of a device for which there is no step.
func (g *guide) stuck(ctx context.Context, plan client.Prep) error {
	why, err := g.bench.Why(ctx, g.handle, g.app)
	if err != nil {
		return err
	}
	return &jobError{client.Trouble{Kind: "blocked", Gate: plan.Device.First, Text: plainText(why.Text), Remedy: plainText(why.Remedy)}}
}

// movedOn reports whether an error of a step has come about since the device has moved on,
// such as when its cable was pulled: then the step that comes next now counts.
func (g *guide) movedOn(ctx context.Context, step client.Step, err error) bool {
	if ctx.Err() != nil {
		return false
	}
	f := g.failureOf(err)
	if f.Kind != "blocked" && f.Kind != "gone" && f.Kind != "changed" {
		return false
	}
	plan, perr := g.bench.Prep(ctx, g.handle, g.app)
	switch {
	case perr != nil:
		return false
	case plan.Device.Next == nil || plan.Device.Next.ID != step.ID:
		return true
	}
	// The same question is next again: the device was away for a moment, such as when it
	// shows itself anew on the bus.
	if g.again >= mostAgain || step.Action != "admission.ask" || f.Kind == "blocked" && f.Gate == step.Gate {
		return false
	}
	g.again++
	select {
	case <-ctx.Done():
	case <-time.After(againAfter):
	}
	return true
}

// A question during which the device was away for a moment is tried again after againAfter, at most
// mostAgain times.
const (
	mostAgain  = 5
	againAfter = 300 * time.Millisecond
)

// watch follows the device's events and, at a terminal, the input.
func (g *guide) watch(ctx context.Context) error {
	b, err := g.bench.Bench(ctx)
	if err != nil {
		return err
	}
	g.changed = make(chan struct{}, 1)
	go g.bench.Events(ctx, b.Sequence, func(e client.Event) { //nolint:errcheck // asking again tells
		if e.Type == "device.changed" || e.Type == "job.changed" {
			select {
			case g.changed <- struct{}{}:
			default:
			}
		}
	})
	if !g.terminal || g.unattended {
		return nil
	}
	g.lines = make(chan string)
	go func() {
		in := bufio.NewScanner(g.in)
		for in.Scan() {
			select {
			case g.lines <- strings.TrimSpace(in.Text()):
			case <-ctx.Done():
				return
			}
		}
	}()
	return nil
}

func (g *guide) head(plan client.Prep) {
	d := plan.Device
	fmt.Fprintf(g.text, "%s  %s %s, %s, %s\n\n", bold.Render(d.Handle), d.Maker, d.Model, system(d), reachedText(d))
}

// system is the family of a device's OS with its release, if that is known.
func system(d client.Device) string { return strings.TrimSpace(d.Family + " " + d.Release) }

// printDone prints the steps that are done and were not printed yet.
func (g *guide) printDone(plan client.Prep) {
	for _, s := range plan.Steps {
		if !s.Done || g.shown["done "+s.ID] {
			continue
		}
		g.shown["done "+s.ID] = true
		g.tell("done", &s, nil)
		how := ""
		if s.Told {
			how = faint.Render("  confirmed by you")
		}
		fmt.Fprintf(g.text, "  %s %s%s\n", good.Render("✓"), emphasis(s.Title), how)
	}
}

func (g *guide) confirm(ctx context.Context, question string, otherwise bool) (bool, error) {
	fmt.Fprint(g.text, question)
	select {
	case <-ctx.Done():
		return false, ctx.Err()
	case line := <-g.lines:
		if line == "" {
			return otherwise, nil
		}
		return strings.EqualFold(line[:1], "y"), nil
	}
}

func (g *guide) ready(plan client.Prep) error {
	g.tell("ready", nil, nil)
	if g.report != nil {
		return nil
	}
	if g.json {
		return g.printJSON(plan)
	}
	fmt.Fprintf(g.text, "\n%s\n", readyText(g.handle, g.app))
	return nil
}

// readyText says that a device is ready, and which command comes next.
func readyText(handle, app string) string {
	if app == "" {
		return fmt.Sprintf("%s is ready. Run an app on it: earlybench run DIRECTORY %s", bold.Render(handle), handle)
	}
	return fmt.Sprintf("%s is ready for %s. Run it: earlybench run %s %s", bold.Render(handle), app, app, handle)
}

// left says how to continue, for somebody who leaves in the middle.
func (g *guide) left(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return &exitError{exitFailed, "\nLeft. What is done stays done. Continue with: earlybench prep " + g.handle}
	}
	return err
}

func plainText(s string) string { return strings.ReplaceAll(safe(s), "*", "") }

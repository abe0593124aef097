package cli

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/client"
)

// prepEvent is a line of what prep --json prints of several devices.
type prepEvent struct {
	Event   string       `json:"event"` // step, done, ready, failed, end
	Device  string       `json:"device,omitempty"`
	Step    *client.Step `json:"step,omitempty"`
	Error   *failure     `json:"error,omitempty"`
	Devices []prepared   `json:"devices,omitempty"` // at the end
}

// prepared is how the prep of one of several devices ended.
type prepared struct {
	Device string   `json:"device"`
	Ready  bool     `json:"ready"`
	Unfit  bool     `json:"unfit"` // the app is not made for its family
	Error  *failure `json:"error"`

	err error
}

// tell reports an event, unless people read.
func (g *guide) tell(event string, step *client.Step, err error) {
	if g.report == nil {
		return
	}
	e := prepEvent{Event: event, Device: g.handle, Step: step}
	if err != nil {
		f := g.failureOf(err)
		e.Error = &f
	}
	g.report(e)
}

// toPrepare returns the devices that are not ready and can be prepared, in the order in
// which one walks least.
func toPrepare(ctx context.Context, b *client.Client, app string) ([]string, error) {
	r, err := b.Round(ctx, app)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, g := range r.Groups {
		for _, d := range g.Devices {
			if d.Next != nil && !d.Retiring {
				out = append(out, d.Handle)
			}
		}
	}
	return out, nil
}

// leadAll leads through the preps of several devices, each independently of the others,
// and ends with a table: one after the other for people, all at the same time with --json.
func (g *guide) leadAll(ctx context.Context, handles []string) error {
	rows := make([]prepared, len(handles))
	if g.json {
		g.leadTogether(ctx, handles, rows)
	} else {
		for i, handle := range handles {
			if i > 0 {
				fmt.Fprintln(g.out)
			}
			g.handle = handle
			rows[i] = g.prepare(ctx)
			if ctx.Err() != nil {
				return rows[i].err
			}
		}
	}
	return g.endAll(rows)
}

func (g *guide) leadTogether(ctx context.Context, handles []string, rows []prepared) {
	var printing sync.Mutex
	var leading sync.WaitGroup
	for i, handle := range handles {
		one := *g
		one.handle = handle
		one.program = &program{state: g.state, json: true, unattended: g.unattended, in: strings.NewReader(""), out: g.out, err: g.err, width: g.width}
		one.report = func(e prepEvent) {
			printing.Lock()
			defer printing.Unlock()
			g.printLineJSON(e) //nolint:errcheck // standard output is gone
		}
		leading.Go(func() { rows[i] = one.prepare(ctx) })
	}
	leading.Wait()
}

// prepare leads through the prep of one device of several.
func (g *guide) prepare(ctx context.Context) prepared {
	row := prepared{Device: g.handle}
	if row.err = g.lead(ctx); row.err == nil {
		row.Ready = true
		return row
	}
	if plan, err := g.bench.Prep(ctx, g.handle, g.app); err == nil {
		row.Unfit = plan.Device.Unfit
	}
	f := g.failureOf(row.err)
	row.Error = &f
	if g.tell("failed", nil, row.err); g.report == nil && ctx.Err() == nil {
		fmt.Fprintf(g.out, "  %s %s\n", bad.Render("✗"), safe(row.err.Error()))
	}
	return row
}

// endAll prints how each device ended, and how to repeat it for those that failed.
func (g *guide) endAll(rows []prepared) error {
	failed := 0
	var again []string
	var lines [][]string
	for _, r := range rows {
		mark, says := good.Render("✓"), "ready"
		if !r.Ready {
			mark, says = bad.Render("✗"), safe(r.err.Error())
			failed++
			if !r.Unfit {
				again = append(again, r.Device)
			}
		}
		lines = append(lines, []string{mark, r.Device, oneLine(says, max(g.width-22, 40))})
	}
	if g.json {
		if err := g.printLineJSON(prepEvent{Event: "end", Devices: rows}); err != nil {
			return err
		}
	} else {
		fmt.Fprintln(g.out)
		g.table([]string{"", "device", ""}, lines)
	}
	if failed == 0 {
		return nil
	}
	err := notReady(failed, len(rows))
	if len(again) == 0 {
		return &exitError{exitFailed, err}
	}
	app := ""
	if g.app != "" {
		app = " --app " + g.app
	}
	return &exitError{exitFailed, fmt.Sprintf("%s Repeat for just those: earlybench prep %s%s", err, strings.Join(again, " "), app)}
}

// notReady says how many devices are not ready.
func notReady(left, all int) string {
	switch {
	case all == 1:
		return "The device is not ready."
	case left == 1:
		return fmt.Sprintf("1 of %d devices is not ready.", all)
	}
	return fmt.Sprintf("%d of %d devices are not ready.", left, all)
}

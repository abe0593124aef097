package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) withCommand() *cobra.Command {
	w := &with{program: p}
	n := client.NewReservation{}
	here, long, within := false, time.Duration(0), time.Duration(0)
	c := &cobra.Command{Use: "with [--where EXPRESSION] [--count N] -- COMMAND [ARG...]", Short: "Run a command that has devices to itself", Args: cobra.MinimumNArgs(1),
		Long: `Reserves devices, here or at peers, waits until they are free, prepares what needs no
hands, and runs a command that has them to itself. Whoever asked first is served first.
When the command ends, or this program does, all is given back.

The command finds in its environment EARLYBENCH_DEVICES (the handles) and, for each of
them by its number, EARLYBENCH_DEVICE_1, EARLYBENCH_ADDRESS_1 where it has one, and
EARLYBENCH_PORT_1_NAME for each --port NAME: an address on this computer. What it does
with earlybench is done under this reservation.

The exit code is that of the command; 7 if a device was lost, 3 if there was none in time.
With --out, the directory gets what the devices have logged, pictures of their screens,
the tryouts that were made, and junit.xml.`,
		Example: `earlybench with --where 'device.family == "tarn"' --count 2 --within 20m --out result -- ./test.sh
earlybench with --where 'device.summary == "ready"' -- sh -c 'earlybench try fellgate/callout $EARLYBENCH_DEVICES'`, RunE: func(c *cobra.Command, args []string) error {
			if c.ArgsLenAtDash() != 0 {
				return usage("write -- before the command: earlybench with --count 2 -- COMMAND")
			}
			n.Title, n.Peers, n.For, n.Within = oneLine(strings.Join(args, " "), 200), !here, int64(long/time.Second), int64(within/time.Second)
			switch {
			case n.Count < 1:
				return usage("--count %d: write a number from 1 on", n.Count)
			case long < time.Minute:
				return usage("--for %s: a minute at least", long)
			case within < time.Second:
				return usage("--within %s: a second at least", within)
			}
			w.command = args
			return w.run(c.Context(), n)
		}}
	p.chosenBy(c, &n.Where)
	f := c.Flags()
	f.StringVar(&n.Where, "where", "", "only devices for which this expression is true (earlybench help where)")
	f.IntVar(&n.Count, "count", 1, "how many devices")
	f.DurationVar(&within, "within", 20*time.Minute, "how long to wait for them")
	f.DurationVar(&long, "for", time.Hour, "how long the command may take")
	f.BoolVar(&here, "here", false, "only devices of this bench, none of peers")
	f.StringVar(&w.app, "app", "", "prepare them for this app, too")
	f.StringArrayVar(&w.ports, "port", nil, "open this port of each device on this computer")
	f.StringVar(&w.dir, "out", "", "directory for what comes of it")
	return c
}

// with is one run of a command that has devices to itself.
type with struct {
	*program
	command []string
	app     string
	ports   []string
	dir     string
	bench   *client.Client
	id      string

	mu   sync.Mutex
	now  client.Reservation // as it was told last
	seen time.Time          // when that was
	said string             // what was said last of waiting
}

// How the reservation is kept: it lapses after 30 s.
const (
	heardEvery   = 3 * time.Second
	answerWithin = 10 * time.Second
	waitEvery    = 500 * time.Millisecond
	unheardMost  = 40 * time.Second // after so long the bench counts as lost
	giveBackFor  = 15 * time.Second
	endWithin    = 10 * time.Second // for what a command still does when it is to end
	evidenceTime = 30 * time.Second
)

func (w *with) run(ctx context.Context, n client.NewReservation) (err error) {
	if _, err := exec.LookPath(w.command[0]); err != nil {
		return usage("the command cannot be run: %w", err)
	}
	if err := w.makeDir(); err != nil {
		return err
	}
	if w.bench, err = w.program.bench(); err != nil {
		return err
	}
	if _, err := w.bench.Devices(ctx, w.app, client.Select{Limit: 1}); err != nil { // an app that nobody knows
		return err
	}
	r, err := w.bench.Reserve(ctx, n)
	if err != nil {
		return err
	}
	w.id, w.now, w.seen = r.ID, r, time.Now()
	defer w.giveBack(ctx)
	if err := w.get(ctx); err != nil {
		return err
	}
	return w.work(ctx)
}

// get waits for the devices and prepares them, until all are ready. Those that cannot be prepared are put aside.
func (w *with) get(ctx context.Context) error {
	for {
		r, err := w.await(ctx)
		if err != nil {
			return err
		}
		fmt.Fprintf(w.err, "Reserved: %s, until %s at the latest.\n", strings.Join(handles(r), ", "), clockText(*r.Ends))
		unfit := w.prepare(ctx, handles(r))
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if lost := w.lost(); lost != "" {
			return &exitError{exitGone, lost}
		}
		for handle, why := range unfit {
			fmt.Fprintf(w.err, "%s is given back: %s\n", safe(handle), safe(why.Error()))
			if _, err := w.bench.PutAside(ctx, w.id, handle, oneLine(why.Error(), 300)); err != nil {
				return err
			}
		}
		if len(unfit) == 0 {
			return nil
		}
	}
}

// await waits until the reservation is active.
func (w *with) await(ctx context.Context) (client.Reservation, error) {
	for {
		r, err := w.heard(ctx)
		switch {
		case ctx.Err() == nil && (errors.Is(err, client.ErrUnreachable) || errors.Is(err, context.DeadlineExceeded)) && time.Since(w.seen) < unheardMost:
		case err != nil:
			return r, err
		case r.State == "active":
			return r, nil
		case r.State == "ended" && r.Began != nil:
			return r, &exitError{exitGone, w.lost()}
		case r.State == "ended":
			return r, &exitError{exitBlocked, "No devices: " + plainText(r.Why) + " See what there is: earlybench rack --peers"}
		default:
			text := fmt.Sprintf("Waits, place %d. %s", r.Place, plainText(r.Why))
			if text != w.said && r.Why != "" {
				w.said = text
				fmt.Fprintln(w.err, text)
			}
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(waitEvery):
		}
	}
}

// heard says that this run is there, and asks how its reservation is.
func (w *with) heard(ctx context.Context) (client.Reservation, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWithin) // a bench that was stopped takes requests and answers none
	defer cancel()
	r, err := w.bench.Heard(ctx, w.id)
	if err == nil {
		w.mu.Lock()
		w.now, w.seen = r, time.Now()
		w.mu.Unlock()
	}
	return r, err
}

func handles(r client.Reservation) (out []string) {
	for _, d := range r.Devices {
		out = append(out, d.Device)
	}
	return out
}

// prepare does what needs no hands, on all devices at the same time, and returns those that it could not make ready.
func (w *with) prepare(ctx context.Context, all []string) map[string]error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go w.keep(ctx)
	alone := *w.program
	alone.unattended, alone.terminal, alone.json, alone.reservation = true, false, false, w.id
	unfit, shared := map[string]error{}, &built{}
	var mu sync.Mutex
	var working sync.WaitGroup
	for _, handle := range all {
		working.Go(func() {
			g := guide{program: &alone, handle: handle, app: w.app, wait: 2 * time.Minute, built: shared, report: func(prepEvent) {}}
			if err := g.lead(ctx); err != nil {
				mu.Lock()
				unfit[handle] = err
				mu.Unlock()
			}
		})
	}
	working.Wait()
	return unfit
}

// keep keeps the reservation until ctx ends.
func (w *with) keep(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(heardEvery):
		}
		w.heard(ctx) //nolint:errcheck // who looks at what was heard last sees how long ago that was
	}
}

// giveBack gives all devices back, where the bench answers.
func (w *with) giveBack(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), giveBackFor)
	defer cancel()
	for {
		_, err := w.bench.EndReservation(ctx, w.id)
		var p *client.Problem
		if err == nil || errors.As(err, &p) { // it has ended already
			return
		}
		select {
		case <-ctx.Done():
			fmt.Fprintln(w.err, "The bench does not answer. It gives the devices back by itself within a minute.")
			return
		case <-time.After(time.Second):
		}
	}
}

// lost says which device was lost; "" for none.
func (w *with) lost() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.seen) > unheardMost {
		return "The bench does not answer any more."
	}
	for _, d := range w.now.Devices {
		if d.Lost != "" {
			return fmt.Sprintf("%s was lost: %s", d.Device, plainText(d.Lost))
		}
	}
	if w.now.State == "ended" {
		return "The devices were taken back: " + plainText(w.now.Why)
	}
	return ""
}

// away says which device is not reached just now; "" for none.
func (w *with) away() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, d := range w.now.Devices {
		if d.Away {
			return d.Device + " is not reached any more."
		}
	}
	return ""
}

func (p *program) reservationCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "reservation", Short: "Devices that are reserved for runs of commands", Args: cobra.NoArgs,
		Long:    "Lists what earlybench with has reserved: what has not ended in the order of asking, then what has ended.",
		Example: "earlybench reservation\nearlybench reservation end 01kq3zsw8t"},
		(*client.Client).Reservations, func(all []client.Reservation) {
			if len(all) == 0 {
				empty(p.out, "Nothing is reserved. Reserve devices for a command: earlybench with --count 2 -- COMMAND")
				return
			}
			var rows [][]string
			for _, r := range all {
				rows = append(rows, []string{cmp.Or(safe(strings.Join(handles(r), ", ")), faint.Render(fmt.Sprintf("%d wanted", r.Count))), reservationText(r), safe(r.By), r.ID, oneLine(safe(r.Title), 40)})
			}
			p.table([]string{"device", "", "by", "reservation", "for"}, rows)
		})
	c.AddCommand(&cobra.Command{Use: "end RESERVATION", Short: "Give devices back", Args: cobra.ExactArgs(1), Long: "Ends a reservation: its command is ended, too. Of others, that takes a person.",
		Example: "earlybench reservation end 01kq3zsw8t", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			r, err := b.EndReservation(c.Context(), args[0])
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(r)
			}
			fmt.Fprintln(p.out, reservationText(r))
			return nil
		}})
	return c
}

// reservationText says how a reservation is.
func reservationText(r client.Reservation) string {
	why := ""
	if r.Why != "" {
		why = " " + safe(r.Why)
	}
	switch r.State {
	case "active":
		return good.Render("until "+clockText(*r.Ends)) + "." + why
	case "waiting":
		return fmt.Sprintf("waits, place %d.", r.Place) + why
	}
	if r.Ended == nil {
		return faint.Render("ended") + "." + why
	}
	return faint.Render("ended "+clockText(*r.Ended)) + "." + why
}

package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/authority"
	"earlybench.invalid/earlybench/standin/body"
)

// steer calls a method of the stand-ins.
func (p *program) steer(ctx context.Context, method string, params standin.Steer, result any) error {
	dir, err := state.Dir(p.state)
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("unix", state.Socket(dir, "standin"), 2*time.Second)
	if err != nil {
		return &exitError{exitUnreachable, "No stand-ins run with this state. Start them: earlybench demo"}
	}
	c := rpc.New(conn, rpc.NoMethod)
	defer c.Close()
	return c.Call(ctx, method, params, result)
}

func (p *program) standinCommand() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "Use the stand-in devices: touch, plug, break", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		var all []standin.Status
		if err := p.steer(c.Context(), standin.MethodBodies, standin.Steer{}, &all); err != nil {
			return err
		}
		return printList(p, all, func(all []standin.Status) {
			var rows [][]string
			for _, s := range all {
				state := "unplugged"
				if s.Plugged {
					state = "plugged in"
				}
				rows = append(rows, []string{s.Name, s.Family, fmt.Sprintf("port %d", s.Port), state, s.Hands, s.Key})
			}
			p.table([]string{"stand-in", "family", "hub", "", "in your hand", "device key"}, rows)
		})
	}}
	// one makes a command that does one thing with one text.
	one := func(use, short, method string) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
			return p.steer(c.Context(), method, standin.Steer{Body: args[0], Text: args[1]}, nil)
		}}
	}
	touch := one("touch DEVICE TEXT", "Touch TEXT on a stand-in's screen", standin.MethodTouch)
	times := 1
	touch.RunE = func(c *cobra.Command, args []string) error {
		return p.steer(c.Context(), standin.MethodTouch, standin.Steer{Body: args[0], Text: args[1], Times: times}, nil)
	}
	touch.Flags().IntVar(&times, "times", 1, "how often")
	after := ""
	pull := &cobra.Command{Use: "pull DEVICE", Short: "Pull a stand-in's cable, now or after so many bytes", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		n, err := size(after)
		if err != nil {
			return err
		}
		return p.steer(c.Context(), standin.MethodPull, standin.Steer{Body: args[0], After: n}, nil)
	}}
	pull.Flags().StringVar(&after, "after", "", "after this many more bytes were sent to it, such as 3MB")
	plug := &cobra.Command{Use: "plug DEVICE", Short: "Plug a stand-in in", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		return p.steer(c.Context(), standin.MethodPlug, standin.Steer{Body: args[0]}, nil)
	}}
	c.AddCommand(touch, pull, plug, p.standinReed(),
		one("slide DEVICE WAY", "Swipe over a stand-in's screen: up, down, left or right", standin.MethodSlide),
		one("type DEVICE TEXT", "Type on a stand-in's screen", standin.MethodType),
		one("press DEVICE KEY", "Press a key of a stand-in: power, back, enter", standin.MethodPress),
		p.standinScreen(), p.standinCard(), p.standinFault(), p.standinClock(), p.standinDepot(), p.standinAuthority(), p.standinSignOut(), p.standinServeAuthority(), p.standinServe(), p.standinServeDepot())
	return c
}

func (p *program) standinScreen() *cobra.Command {
	png := ""
	c := &cobra.Command{Use: "screen DEVICE", Short: "Print what a stand-in's screen shows, and what can be touched", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		if png != "" {
			var picture []byte
			if err := p.steer(c.Context(), standin.MethodPicture, standin.Steer{Body: args[0]}, &picture); err != nil {
				return err
			}
			return os.WriteFile(png, picture, 0o644)
		}
		var r body.Reading
		if err := p.steer(c.Context(), standin.MethodScreen, standin.Steer{Body: args[0]}, &r); err != nil {
			return err
		}
		if p.json {
			return p.printJSON(r)
		}
		p.printReading(r)
		return nil
	}}
	c.Flags().StringVar(&png, "png", "", "write its picture to this file instead")
	return c
}

// printReading prints a screen as a person reads it; what can be touched is marked.
func (p *program) printReading(r body.Reading) {
	if r.Above != "" {
		fmt.Fprintln(p.out, faint.Render(safe(r.Above)))
	}
	if r.Title != "" {
		fmt.Fprintln(p.out, bold.Render(safe(r.Title)))
	}
	if r.Text != "" {
		fmt.Fprintln(p.out, safe(r.Text))
	}
	if r.Code != "" {
		fmt.Fprintln(p.out, bold.Render(safe(r.Code)))
	}
	if r.Typed != "" {
		fmt.Fprintln(p.out, "typed: "+safe(r.Typed))
	}
	if r.Toast != "" {
		fmt.Fprintln(p.out, lamp.Render(safe(r.Toast)))
	}
	var keys []string
	for _, e := range r.Elements {
		switch {
		case e.Kind == "key" && len([]rune(e.Text)) == 1:
			keys = append(keys, e.Text)
		case e.Kind != "code":
			value := e.Value
			if e.Note != "" {
				value = strings.TrimPrefix(value+", "+e.Note, ", ")
			}
			fmt.Fprintln(p.out, strings.TrimRight(fmt.Sprintf("  > %-26s %s", safe(e.Text), faint.Render(safe(value))), " "))
		}
	}
	if len(keys) > 0 {
		fmt.Fprintln(p.out, "  > keys "+strings.Join(keys, " "))
	}
}

// standinCard tells what a stand-in's owner knows.
func (p *program) standinCard() *cobra.Command {
	return &cobra.Command{Use: "card DEVICE", Short: "Print what a stand-in's owner knows: its PIN, its dial, the crew number", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		var card []body.Secret
		if err := p.steer(c.Context(), standin.MethodCard, standin.Steer{Body: args[0]}, &card); err != nil {
			return err
		}
		return printList(p, card, func(card []body.Secret) {
			if len(card) == 0 {
				fmt.Fprintln(p.out, "There is nothing secret about it.")
			}
			for _, s := range card {
				fmt.Fprintf(p.out, "%-12s %s\n", s.What, bold.Render(s.Text))
			}
		})
	}}
}

// standinFault lists the faults that a stand-in can have, and puts them on and
// takes them off.
func (p *program) standinFault() *cobra.Command {
	c := &cobra.Command{Use: "fault [DEVICE]", Short: "List the faults that a stand-in can have and has", Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		var bodies []standin.Status
		if err := p.steer(c.Context(), standin.MethodBodies, standin.Steer{}, &bodies); err != nil {
			return err
		}
		if len(args) == 1 {
			bodies = []standin.Status{{Name: args[0]}}
		}
		type row struct {
			Device string `json:"device"`
			standin.Fault
		}
		var all []row
		for _, b := range bodies {
			var faults []standin.Fault
			if err := p.steer(c.Context(), standin.MethodFaults, standin.Steer{Body: b.Name}, &faults); err != nil {
				return err
			}
			for _, f := range faults {
				if f.On || len(args) == 1 {
					all = append(all, row{b.Name, f})
				}
			}
		}
		return printList(p, all, func(all []row) {
			var rows [][]string
			for _, f := range all {
				rows = append(rows, []string{f.Device, f.Name, map[bool]string{true: "on"}[f.On], f.Text})
			}
			if len(rows) == 0 {
				fmt.Fprintln(p.out, "No stand-in has a fault. To see what a device can have: earlybench standin fault heron-2")
				return
			}
			p.table([]string{"stand-in", "fault", "", "what it is"}, rows)
		})
	}}
	change := func(verb, short string, off bool) *cobra.Command {
		return &cobra.Command{Use: verb + " DEVICE FAULT", Short: short, Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
			return p.steer(c.Context(), standin.MethodFault, standin.Steer{Body: args[0], Text: args[1], Off: off}, nil)
		}}
	}
	c.AddCommand(change("add", "Give a stand-in a fault", false), change("drop", "Remove a fault from a stand-in", true))
	return c
}

func (p *program) standinClock() *cobra.Command {
	var by span
	c := &cobra.Command{Use: "clock [+SPAN]", Short: "Move the clocks of the bench, its devices and the authority together", Args: cobra.MaximumNArgs(1),
		Example: "earlybench standin clock +40d\nearlybench standin clock --by -26h", RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				if err := by.Set(args[0]); err != nil {
					return usage("%w", err)
				}
			}
			var now time.Time
			if err := p.steer(c.Context(), standin.MethodClock, standin.Steer{By: by.String()}, &now); err != nil {
				return err
			}
			if err := p.moveBench(c.Context(), time.Duration(by)); err != nil {
				return err
			}
			if err := p.steerAuthority(c.Context(), authority.MethodClock, authority.Steer{By: by.String()}, nil); err != nil {
				return err
			}
			if p.json {
				return p.printJSON(map[string]time.Time{"now": now.UTC()})
			}
			fmt.Fprintln(p.out, now.Local().Format(time.DateTime))
			return nil
		}}
	c.Flags().Var(&by, "by", "how far, forwards or backwards, such as 40d or -30m")
	return c
}

func (p *program) moveBench(ctx context.Context, by time.Duration) error {
	return p.callSocket(ctx, "development", "The bench has no development socket; it runs with earlybench demo only.", "clock.move", map[string]string{"by": by.String()}, nil)
}

// standinServe runs the stand-ins for demo: the scenario comes on standard
// input, the addresses go to standard output, and all ends with standard input.
func (p *program) standinServe() *cobra.Command {
	return &cobra.Command{Use: "serve", Hidden: true, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		in := json.NewDecoder(p.in)
		var sc standin.Scenario
		if err := in.Decode(&sc); err != nil {
			return usage("read the scenario: %w", err)
		}
		ctx, end := untilClosed(c.Context(), io.MultiReader(in.Buffered(), p.in))
		defer end()
		rig, err := standin.Start(ctx, sc, slog.New(slog.NewTextHandler(p.err, &slog.HandlerOptions{Level: slog.LevelWarn})))
		if err != nil {
			return err
		}
		if err := json.NewEncoder(p.out).Encode(rig.Addresses()); err != nil {
			return err
		}
		<-ctx.Done()
		return rig.Close()
	}}
}

// size reads a number of bytes, such as 3MB or 40kB.
func size(s string) (int64, error) {
	if s == "" {
		return 0, nil
	}
	var n int64
	var unit string
	if _, err := fmt.Sscanf(s+" ", "%d%s", &n, &unit); err != nil && n == 0 {
		return 0, usage("%q is not a number of bytes: write it like 3MB, 40kB or 1500B", s)
	}
	factor, ok := map[string]int64{"": 1, "B": 1, "kB": 1000, "MB": 1000 * 1000}[unit]
	if !ok || n <= 0 {
		return 0, usage("%q is not a number of bytes: write it like 3MB, 40kB or 1500B", s)
	}
	return n * factor, nil
}

package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/console"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/demo"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/sheets"
	"earlybench.invalid/earlybench/standin"
)

func (p *program) serveCommand() *cobra.Command {
	cfg := service.Config{Sheets: sheets.Files, Console: console.Files()}
	supervised := false
	c := &cobra.Command{Use: "serve", Short: "Run the bench", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) (err error) {
		if cfg.State, err = state.Dir(p.state); err != nil {
			return err
		}
		cfg.Log = slog.New(slog.NewTextHandler(p.err, nil))
		ctx := c.Context()
		if supervised {
			var end context.CancelFunc
			ctx, end = untilClosed(ctx, p.in)
			defer end()
		}
		return service.Run(ctx, cfg, func(a service.Addresses) {
			if supervised {
				json.NewEncoder(p.out).Encode(a) //nolint:errcheck // the supervisor has gone
				return
			}
			fmt.Fprintf(p.out, "The bench answers at %s.\nSign in with your browser, once: %s\n", a.Service, a.SignIn)
		})
	}}
	c.Flags().IntVar(&cfg.Port, "port", 7420, "port on 127.0.0.1; 0 takes a free one")
	c.Flags().StringVar(&cfg.Name, "name", "", "the bench's name, as devices show it (default: the one before, else the computer's)")
	c.Flags().BoolVar(&cfg.Development, "development", false, "with a socket that moves the clock")
	c.Flags().BoolVar(&supervised, "supervised", false, "tell the addresses as JSON, and end with standard input")
	c.Flags().MarkHidden("development") //nolint:errcheck // it is there
	c.Flags().MarkHidden("supervised")  //nolint:errcheck // as above
	return c
}

// untilClosed ends the context when r ends: whoever started us has gone.
func untilClosed(ctx context.Context, r io.Reader) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		io.Copy(io.Discard, r) //nolint:errcheck // its end is what counts
		cancel()
	}()
	return ctx, cancel
}

func (p *program) consoleCommand() *cobra.Command {
	return &cobra.Command{Use: "console", Short: "Print a one-time address that signs your browser in", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		url, err := b.SignInAddress(c.Context())
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(map[string]string{"url": url})
		}
		fmt.Fprintln(p.out, url)
		return nil
	}}
}

func (p *program) demoCommand() *cobra.Command {
	cfg := demo.Config{}
	c := &cobra.Command{Use: "demo", Short: "Run a bench with stand-in devices to learn and test with", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) (err error) {
		if cfg.State, err = state.Dir(p.state); err != nil {
			return err
		}
		if p.state == "" && os.Getenv("EARLYBENCH_STATE") == "" {
			cfg.Plain = true
		}
		cfg.Out, cfg.Err = p.out, p.err
		return demo.Run(c.Context(), cfg)
	}}
	c.Flags().IntVar(&cfg.Port, "port", 7420, "first of the ports, which follow each other; 0 takes free ones")
	c.Flags().StringVar(&cfg.Addresses, "addresses", "", "write a JSON file with all addresses when everything is ready")
	c.Flags().StringVar(&cfg.Answer, "answer-within", "", "how long the stand-ins' questions wait, such as 2s (default: as the device)")
	return c
}

func (p *program) standinCommand() *cobra.Command {
	socket := func() (string, error) {
		dir, err := state.Dir(p.state)
		return state.Socket(dir, "standin"), err
	}
	call := func(ctx context.Context, method string, params standin.Steer, result any) error {
		path, err := socket()
		if err != nil {
			return err
		}
		conn, err := net.DialTimeout("unix", path, 2*time.Second)
		if err != nil {
			return &exitError{exitUnreachable, "No stand-ins run with this state. Start them: earlybench demo"}
		}
		c := rpc.New(conn, rpc.NoMethod)
		defer c.Close()
		return c.Call(ctx, method, params, result)
	}
	c := &cobra.Command{Use: "standin", Short: "Stand-in devices: plug, pull, touch", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		var all []standin.Status
		if err := call(c.Context(), standin.MethodBodies, standin.Steer{}, &all); err != nil {
			return err
		}
		return printList(p, all, func(all []standin.Status) {
			var rows [][]string
			for _, s := range all {
				state := "unplugged"
				if s.Plugged {
					state = "plugged in"
				}
				rows = append(rows, []string{s.Name, fmt.Sprintf("port %d", s.Port), state, s.Hands, s.Key})
			}
			table(p.out, []string{"stand-in", "hub", "", "in your hand", "device key"}, rows)
		})
	}}
	after := ""
	pull := &cobra.Command{Use: "pull DEVICE", Short: "Pull a stand-in's cable, now or after so many bytes", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		n, err := size(after)
		if err != nil {
			return err
		}
		return call(c.Context(), standin.MethodPull, standin.Steer{Body: args[0], After: n}, nil)
	}}
	pull.Flags().StringVar(&after, "after", "", "once so many bytes more have gone to it, such as 3MB")
	times := 1
	touch := &cobra.Command{Use: "touch DEVICE TEXT", Short: "Touch what says TEXT on a stand-in's screen", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		return call(c.Context(), standin.MethodTouch, standin.Steer{Body: args[0], Text: args[1], Times: times}, nil)
	}}
	touch.Flags().IntVar(&times, "times", 1, "how often")
	by := time.Duration(0)
	clockCommand := &cobra.Command{Use: "clock", Short: "Move the clocks of the bench and the stand-ins", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		var now time.Time
		if err := call(c.Context(), standin.MethodClock, standin.Steer{By: by.String()}, &now); err != nil {
			return err
		}
		if err := p.moveBench(c.Context(), by); err != nil {
			return err
		}
		fmt.Fprintln(p.out, now.Local().Format(time.DateTime))
		return nil
	}}
	clockCommand.Flags().DurationVar(&by, "by", 0, "by how much, such as 26h or -30m")
	c.AddCommand(pull, touch, clockCommand,
		&cobra.Command{Use: "plug DEVICE", Short: "Plug a stand-in in", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			return call(c.Context(), standin.MethodPlug, standin.Steer{Body: args[0]}, nil)
		}},
		&cobra.Command{Use: "screen DEVICE", Short: "What a stand-in's screen says", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			var elements []struct{ Text, Value, Kind string }
			if err := call(c.Context(), standin.MethodScreen, standin.Steer{Body: args[0]}, &elements); err != nil {
				return err
			}
			for _, e := range elements {
				fmt.Fprintf(p.out, "%-24s %s\n", e.Text, faint.Render(e.Value))
			}
			return nil
		}},
		p.standinServe())
	return c
}

func (p *program) moveBench(ctx context.Context, by time.Duration) error {
	dir, err := state.Dir(p.state)
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("unix", state.Socket(dir, "development"), 2*time.Second)
	if err != nil {
		return &exitError{exitUnreachable, "The bench has no development socket; it runs with earlybench demo only."}
	}
	c := rpc.New(conn, rpc.NoMethod)
	defer c.Close()
	return c.Call(ctx, "clock.move", map[string]string{"by": by.String()}, nil)
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
		return 0, usage("%q is no number of bytes; write it like 3MB, 40kB or 1500B", s)
	}
	factor, ok := map[string]int64{"": 1, "B": 1, "kB": 1000, "MB": 1000 * 1000}[unit]
	if !ok || n <= 0 {
		return 0, usage("%q is no number of bytes; write it like 3MB, 40kB or 1500B", s)
	}
	return n * factor, nil
}

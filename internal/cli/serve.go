package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/console"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/demo"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/sheets"
)

func (p *program) serveCommand() *cobra.Command {
	cfg := service.Config{Sheets: sheets.Files, Console: console.Files()}
	usb := bus.Local{}
	supervised, ownUSB := false, true
	c := &cobra.Command{Use: "serve", Short: "Run the bench", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) (err error) {
		if cfg.State, err = state.Dir(p.state); err != nil {
			return err
		}
		if ownUSB {
			usb.Spare = cfg.State
			cfg.USB = &usb
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
			p.printServing(ctx, a)
		})
	}}
	c.Flags().IntVar(&cfg.Port, "port", 7420, "port on 127.0.0.1; 0 takes a free one")
	c.Flags().StringVar(&cfg.Name, "name", "", "name of the bench, as devices show it (default: its last name, else the computer's)")
	c.Flags().BoolVar(&ownUSB, "own-usb", true, "watch the USB of this computer")
	c.Flags().StringVar(&usb.Sys, "sys-root", "", "root of the system's device tree (default /sys)")
	c.Flags().StringVar(&usb.Dev, "dev-root", "", "directory of device nodes (default /dev)")
	c.Flags().StringVar(&usb.Proc, "proc-root", "", "root of the system's process information (default /proc)")
	c.Flags().StringVar(&usb.Run, "run-root", "", "directory of runtime data (default /run)")
	c.Flags().StringVar(&usb.Rules, "rules-dir", "", "directory of udev rules (default /etc/udev/rules.d)")
	c.Flags().BoolVar(&usb.MadeUpEvents, "made-up-events", false, "accept plug events from programs other than the kernel, for tests")
	c.Flags().MarkHidden("made-up-events") //nolint:errcheck // it is there
	c.Flags().BoolVar(&cfg.Announcements.Off, "no-announcements", false, "do not listen for devices that announce themselves on the network")
	c.Flags().TextVar(&cfg.Announcements.Group, "announcements", netip.AddrPort{}, "multicast group and port of announcements (default "+dnssd.Group.String()+")")
	c.Flags().StringVar(&cfg.SafeKey, "safe-key", "", "unlock key file that opens the safe at the start; both are created if they do not exist")
	c.Flags().StringVar(&cfg.Peers, "peers", "", "HOST:PORT where other benches can connect to this one (default: none)")
	c.Flags().BoolVar(&cfg.Development, "development", false, "with a socket that moves the clock")
	c.Flags().DurationVar(&cfg.ClockBy, "clock-by", 0, "by how much the clock is moved, with --development")
	c.Flags().BoolVar(&supervised, "supervised", false, "tell the addresses as JSON, and end with standard input")
	c.Flags().MarkHidden("development") //nolint:errcheck // it is there
	c.Flags().MarkHidden("clock-by")    //nolint:errcheck // as above
	c.Flags().MarkHidden("supervised")  //nolint:errcheck // as above
	return c
}

// printServing prints the addresses of the bench and, while it has neither a host nor a
// device, the first steps.
func (p *program) printServing(ctx context.Context, a service.Addresses) {
	fmt.Fprintf(p.out, "The bench is running at %s.\nSign in with your browser, once: %s\n", a.Service, a.SignIn)
	b := client.New(a.Socket)
	defer b.Close()
	hosts, err := b.Hosts(ctx)
	devices, derr := b.Devices(ctx, "")
	if err != nil || derr != nil || len(devices) > 0 || slices.ContainsFunc(hosts, func(h client.Host) bool { return !h.Own }) {
		return
	}
	sees := "It does not watch any computer yet, so it cannot see devices."
	if len(hosts) > 0 {
		sees = "It watches the USB of this computer: plug a device in."
		if hosts[0].Trouble != "" {
			sees = hosts[0].Trouble
		}
	}
	fmt.Fprint(p.out, "\n"+sees+` In another terminal:

  earlybench host add NAME --usbip HOST:PORT --control HOST:PORT
                                  watch a computer that devices are connected to
  earlybench host tree            what is connected
  earlybench rack add --model Kittiwake
                                  add a watch, which has no cable
  earlybench why --unseen --ask   find out why a device does not show up
  earlybench help getting-started what to do next

To learn and try things without any device, stop this with Ctrl-C and start:

  earlybench demo
`)
}

// untilClosed cancels the context when r ends, since the process that started us is gone.
func untilClosed(ctx context.Context, r io.Reader) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		io.Copy(io.Discard, r) //nolint:errcheck // its end is what counts
		cancel()
	}()
	return ctx, cancel
}

func (p *program) demoCommand() *cobra.Command {
	cfg := demo.Config{}
	c := &cobra.Command{Use: "demo", Short: "Run a bench with stand-in devices, for learning and testing", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) (err error) {
		if cfg.State, err = state.Dir(p.state); err != nil {
			return err
		}
		if p.state == "" && os.Getenv("EARLYBENCH_STATE") == "" {
			cfg.Plain = true
		}
		cfg.Out, cfg.Err = p.out, p.err
		return demo.Run(c.Context(), cfg)
	}}
	c.Flags().IntVar(&cfg.Port, "port", 7420, "first of several consecutive ports; 0 takes free ones")
	c.Flags().StringVar(&cfg.Addresses, "addresses", "", "write a JSON file with all addresses when everything is ready")
	c.Flags().BoolVar(&cfg.Few, "few", false, "only two handsets")
	c.Flags().BoolVar(&cfg.Alone, "alone", false, "without harbour-desk, a second bench that lends its devices")
	c.Flags().BoolVar(&cfg.Unknown, "unknown", false, "with one more handset that no prep sheet describes, so that you can write one")
	c.Flags().IntVar(&cfg.Smaller, "smaller", 0, "make the stand-in depot's support packs smaller by this factor (default: 380 MB and 120 MB)")
	c.Flags().StringVar(&cfg.Boot, "restart-within", "", "how long the stand-ins' restarts take, such as 1s (default: as the device)")
	c.Flags().StringVar(&cfg.Answer, "answer-within", "", "how long the stand-ins' questions wait, such as 2s (default: as the device)")
	return c
}

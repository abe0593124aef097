package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) portCommand() *cobra.Command {
	at := 0
	c := &cobra.Command{Use: "port DEVICE PORT", Short: "Open a port of a device on this computer", Args: cobra.ExactArgs(2),
		Long: `Opens a port of a device on this computer's loopback interface, until Ctrl-C. PORT is
the name that a running app gives to one of its ports, such as debug (APP:debug if
several apps have one). For a device that is reached over SSH, it is the number of a port
that the device listens on. The port "screen" of a device with a screen speaks RFB, for
any VNC viewer. All this also works with a device that is borrowed from another bench.`,
		Example: "earlybench port heron-1 debug --at 4711\nearlybench port board-1 8080 --at 8080\nearlybench port heron-1 screen --at 5950", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			open := opener(b, args[0], args[1])
			first, err := open(c.Context()) // so that an error shows at once
			if err != nil {
				return err
			}
			first.Close()
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", at))
			if err != nil {
				return fmt.Errorf("open port %d here: %w; choose another with --at N (0 takes a free one)", at, err)
			}
			opened := client.OpenedPort{Device: args[0], Port: args[1], Address: l.Addr().String()}
			if p.json {
				err = p.printJSON(opened)
			} else {
				_, err = fmt.Fprintf(p.out, "Port %s of %s is at %s. Ctrl-C closes it.\n", safe(opened.Port), safe(opened.Device), opened.Address)
			}
			if err != nil {
				l.Close()
				return err
			}
			return p.forward(c.Context(), l, open)
		}}
	c.Flags().IntVar(&at, "at", 0, "port on this computer (0 takes a free one)")
	return c
}

// opener opens a port of a device; the one that is called screen is its screen.
func opener(b *client.Client, device, port string) func(context.Context) (io.ReadWriteCloser, error) {
	if port == "screen" {
		return func(ctx context.Context) (io.ReadWriteCloser, error) { return b.Screen(ctx, device) }
	}
	return func(ctx context.Context) (io.ReadWriteCloser, error) { return b.Port(ctx, device, port) }
}

// forward carries every connection to a listener to the device, until ctx ends.
func (p *program) forward(ctx context.Context, l net.Listener, open func(context.Context) (io.ReadWriteCloser, error)) error {
	var carrying sync.WaitGroup
	defer carrying.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { l.Close() })()
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("take connections at %s: %w", l.Addr(), err)
		}
		carrying.Go(func() {
			defer c.Close()
			there, err := open(ctx)
			if err != nil {
				if ctx.Err() == nil {
					f := p.failureOf(err)
					fmt.Fprintln(p.err, safe(f.Text), safe(f.Remedy))
				}
				return
			}
			defer context.AfterFunc(ctx, func() { c.Close(); there.Close() })()
			carryBoth(c, there)
		})
	}
}

// carryBoth copies both ways until one side ends.
func carryBoth(a, b io.ReadWriteCloser) {
	var copying sync.WaitGroup
	for _, way := range [][2]io.ReadWriteCloser{{a, b}, {b, a}} {
		copying.Go(func() {
			io.Copy(way[0], way[1]) //nolint:errcheck // who is connected sees the end
			a.Close()
			b.Close()
		})
	}
	copying.Wait()
}

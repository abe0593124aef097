package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/standin/reed"
)

func (p *program) standinReed() *cobra.Command {
	c := reed.Config{Model: "2", Release: "4", Battery: 81}
	onNetwork, group := false, netip.AddrPort{}
	cmd := &cobra.Command{Use: "reed [FILE]", Short: "A stand-in board on a serial line or on the network, for adapters, until Ctrl-C", Args: cobra.MaximumNArgs(1),
		Long: `A board that speaks a language of its own over a serial line, so that a bench needs an
adapter for it. FILE becomes a link to the line's end, a pseudo-terminal. With --network
it is reached over TCP instead, and announces itself by DNS-SD. What the board speaks:
docs/guides/writing-an-adapter.md.`,
		Example: "earlybench standin reed /tmp/reed-line\nearlybench standin reed --network", RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case onNetwork != (len(args) == 0):
				return usage("name the file of its line, or say --network")
			case onNetwork:
				return p.reedOnNetwork(cmd.Context(), c, group)
			}
			line, err := reed.OpenLine()
			if err != nil {
				return err
			}
			defer line.Close()
			if err := os.Symlink(line.Path, args[0]); err != nil {
				return fmt.Errorf("make the file of the line: %w; choose one that is not there", err)
			}
			defer os.Remove(args[0]) //nolint:errcheck // somebody has taken it away
			fmt.Fprintf(p.out, "A board with the serial %s is at %s. Ctrl-C takes it away.\n", c.Serial, args[0])
			defer context.AfterFunc(cmd.Context(), func() { line.Close() })()
			if err := reed.Serve(cmd.Context(), line, c); err != nil && cmd.Context().Err() == nil && !errors.Is(err, os.ErrClosed) {
				return err
			}
			return nil
		}}
	cmd.Flags().StringVar(&c.Serial, "serial", "RD-0007", "its serial")
	cmd.Flags().BoolVar(&onNetwork, "network", false, "on the network, not on a serial line")
	cmd.Flags().TextVar(&group, "announcements", netip.AddrPort{}, "group and port at which it announces itself (default "+dnssd.Group.String()+")")
	return cmd
}

// reedOnNetwork serves one connection after the other, and announces where.
func (p *program) reedOnNetwork(ctx context.Context, c reed.Config, group netip.AddrPort) error {
	n, err := reed.OnNetwork(c, group)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.out, "A board with the serial %s is announced as %s, and reached at port %d. Ctrl-C takes it away.\n", c.Serial, reed.ServiceType, n.Port())
	<-ctx.Done()
	return n.Close()
}

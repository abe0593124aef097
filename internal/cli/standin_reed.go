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
	cmd := &cobra.Command{Use: "reed [FILE]", Short: "Run a stand-in board on a serial line or the network, for adapters, until Ctrl-C", Args: cobra.MaximumNArgs(1),
		Long: `Runs a board that speaks its own protocol over a serial line, so that a bench needs an
adapter for it. FILE becomes a link to its end of the line, a pseudo-terminal. With --network
it is reached over TCP instead, and announces itself by DNS-SD. The board's protocol:
docs/guides/writing-an-adapter.md.`,
		Example: "earlybench standin reed /tmp/reed-line\nearlybench standin reed --network", RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case onNetwork != (len(args) == 0):
				return usage("give the file of its line, or --network")
			case onNetwork:
				return p.reedOnNetwork(cmd.Context(), c, group)
			}
			line, err := reed.OpenLine()
			if err != nil {
				return err
			}
			defer line.Close()
			if err := os.Symlink(line.Path, args[0]); err != nil {
				return fmt.Errorf("create the file of the line: %w; choose a file that does not exist", err)
			}
			defer os.Remove(args[0]) //nolint:errcheck // somebody has taken it away
			fmt.Fprintf(p.out, "A board with the serial %s is at %s. Ctrl-C removes it.\n", c.Serial, args[0])
			defer context.AfterFunc(cmd.Context(), func() { line.Close() })()
			if err := reed.Serve(cmd.Context(), line, c); err != nil && cmd.Context().Err() == nil && !errors.Is(err, os.ErrClosed) {
				return err
			}
			return nil
		}}
	cmd.Flags().StringVar(&c.Serial, "serial", "RD-0007", "its serial")
	cmd.Flags().BoolVar(&onNetwork, "network", false, "connect it by the network instead of a serial line")
	cmd.Flags().TextVar(&group, "announcements", netip.AddrPort{}, "multicast group and port of its announcements (default "+dnssd.Group.String()+")")
	return cmd
}

// reedOnNetwork serves one connection after the other, and announces where.
func (p *program) reedOnNetwork(ctx context.Context, c reed.Config, group netip.AddrPort) error {
	n, err := reed.OnNetwork(c, group)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.out, "A board with the serial %s is announced as %s, at port %d. Ctrl-C removes it.\n", c.Serial, reed.ServiceType, n.Port())
	<-ctx.Done()
	return n.Close()
}

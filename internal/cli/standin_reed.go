package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/standin/reed"
)

func (p *program) standinReed() *cobra.Command {
	c := reed.Config{Model: "2", Release: "4", Battery: 81}
	cmd := &cobra.Command{Use: "reed FILE", Short: "A stand-in board on a serial line, for adapters, until Ctrl-C", Args: cobra.ExactArgs(1),
		Long: `A board that speaks a language of its own over a serial line, so that a bench needs an
adapter for it. FILE becomes a link to the line's end, a pseudo-terminal. What the board
speaks: docs/guides/writing-an-adapter.md.`,
		Example: "earlybench standin reed /tmp/reed-line", RunE: func(cmd *cobra.Command, args []string) error {
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
	return cmd
}

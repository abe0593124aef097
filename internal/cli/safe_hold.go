package cli

import (
	"io"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/internal/safe/holder"
)

// safeHold is the process that holds the opened safe, which the service starts.
func (p *program) safeHold() *cobra.Command {
	return &cobra.Command{Use: "hold DIR", Hidden: true, Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		if err := holder.Harden(); err != nil {
			return err
		}
		return holder.Serve(c.Context(), stdio{p.in, p.out}, holder.Config{Dir: args[0], Now: time.Now})
	}}
}

// stdio is standard input and output as one stream.
type stdio struct {
	io.Reader
	io.Writer
}

func (stdio) Close() error { return nil }

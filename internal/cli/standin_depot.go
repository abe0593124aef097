package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin/depot"
)

// standinDepot says and changes what is wrong with the stand-in depot.
func (p *program) standinDepot() *cobra.Command {
	return &cobra.Command{Use: "depot [well|slow|cut|dead|lying]", Short: "Show or set the fault of the stand-in depot", Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		var s depot.Steer
		if len(args) == 1 {
			s.Mode = depot.Mode(args[0])
		}
		if err := p.steerDepot(c.Context(), &s); err != nil {
			return err
		}
		if p.json {
			return p.printJSON(s)
		}
		fmt.Fprintf(p.out, "The stand-in depot is %s.\n", s.Mode)
		return nil
	}}
}

// standinServeDepot runs the stand-in depot for demo, as standinServe does the other
// stand-ins.
func (p *program) standinServeDepot() *cobra.Command {
	return &cobra.Command{Use: "serve-depot", Hidden: true, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		in := json.NewDecoder(p.in)
		var sc depot.Scenario
		if err := in.Decode(&sc); err != nil {
			return usage("read the scenario: %w", err)
		}
		ctx, end := untilClosed(c.Context(), io.MultiReader(in.Buffered(), p.in))
		defer end()
		return depot.Serve(ctx, sc, func(a depot.Addresses) error { return json.NewEncoder(p.out).Encode(a) })
	}}
}

func (p *program) steerDepot(ctx context.Context, s *depot.Steer) error {
	return p.callSocket(ctx, "depot", "No stand-in depot runs with this state. Start it: earlybench demo", depot.MethodMode, *s, s)
}

// callSocket asks what listens on a socket of the state directory; missing is what is said if
// nothing does.
func (p *program) callSocket(ctx context.Context, name, missing, method string, params, answer any) error {
	dir, err := state.Dir(p.state)
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("unix", state.Socket(dir, name), 2*time.Second)
	if err != nil {
		return &exitError{exitUnreachable, missing}
	}
	c := rpc.New(conn, rpc.NoMethod)
	defer c.Close()
	return c.Call(ctx, method, params, answer)
}

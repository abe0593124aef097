package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/standin/authority"
)

// standinAuthority says and changes what is wrong with the stand-in authority.
func (p *program) standinAuthority() *cobra.Command {
	return &cobra.Command{Use: "authority [well|slow|busy|down|dead|nonsense]", Short: "Show or set the fault of the stand-in authority", Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		var s authority.Steer
		if len(args) == 1 {
			s.Mode = authority.Mode(args[0])
		}
		if err := p.steerAuthority(c.Context(), authority.MethodMode, s, &s); err != nil {
			return err
		}
		if p.json {
			return p.printJSON(s)
		}
		fmt.Fprintf(p.out, "The stand-in authority is %s.\n", s.Mode)
		return nil
	}}
}

// standinSignOut signs an account out, as its authority may at any time.
func (p *program) standinSignOut() *cobra.Command {
	return &cobra.Command{Use: "sign-out ACCOUNT", Short: "Sign an account out at every bench, from the stand-in authority", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		return p.steerAuthority(c.Context(), authority.MethodOut, authority.Steer{Account: args[0]}, nil)
	}}
}

// standinServeAuthority runs the stand-in authority for demo, as standinServe does the other
// stand-ins.
func (p *program) standinServeAuthority() *cobra.Command {
	return &cobra.Command{Use: "serve-authority", Hidden: true, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		in := json.NewDecoder(p.in)
		var sc authority.Scenario
		if err := in.Decode(&sc); err != nil {
			return usage("read the scenario: %w", err)
		}
		ctx, end := untilClosed(c.Context(), io.MultiReader(in.Buffered(), p.in))
		defer end()
		return authority.Serve(ctx, sc, func(a authority.Addresses) error { return json.NewEncoder(p.out).Encode(a) })
	}}
}

func (p *program) steerAuthority(ctx context.Context, method string, s authority.Steer, answer any) error {
	return p.callSocket(ctx, "authority", "No stand-in authority runs with this state. Start it: earlybench demo", method, s, answer)
}

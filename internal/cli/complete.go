package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// completeWithin bounds what the shell waits for.
const completeWithin = time.Second

// completions sets up shell completion for every command: DEVICE in a usage line is
// completed with handles, and so on. Without a bench nothing is offered.
func (p *program) completions(c *cobra.Command) {
	if places := placeholders(c.Use); len(places) > 0 && c.ValidArgsFunction == nil {
		c.ValidArgsFunction = func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			place := places[min(len(args), len(places)-1)]
			if len(args) >= len(places) && !strings.HasSuffix(place, "...") {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return p.candidates(c, strings.TrimSuffix(place, "..."), args)
		}
	}
	for flag, place := range map[string]string{"app": "APP", "accept": "DIGEST", "confirm": "STEP", "tried-remedy": "CAUSE", "answer": "ANSWER", "as": "DEVICE"} {
		if c.Flags().Lookup(flag) != nil {
			c.RegisterFlagCompletionFunc(flag, func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) { //nolint:errcheck // the flag is there
				return p.candidates(c, place, args)
			})
		}
	}
	for _, sub := range c.Commands() {
		p.completions(sub)
	}
}

// placeholders returns the placeholders in a usage line.
func placeholders(use string) (out []string) {
	for _, word := range strings.Fields(use)[1:] {
		if word = strings.Trim(word, "[]"); word != "" && word == strings.ToUpper(word) {
			out = append(out, word)
		}
	}
	return out
}

// candidates returns the values that a placeholder can have, given the words before it.
func (p *program) candidates(c *cobra.Command, place string, before []string) ([]string, cobra.ShellCompDirective) {
	ctx, cancel := context.WithTimeout(c.Context(), completeWithin)
	defer cancel()
	if strings.HasPrefix(c.CommandPath(), "earlybench standin ") {
		return p.ofStandIns(ctx, place, before), cobra.ShellCompDirectiveNoFileComp
	}
	b, err := p.bench()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	switch place {
	case "FILE", "DIR":
		return nil, cobra.ShellCompDirectiveDefault
	case "PATH":
		return nil, cobra.ShellCompDirectiveFilterDirs
	case "APP": // or a directory, or a file
		return names(b.Projects, func(x client.Project) string { return x.App })(ctx), cobra.ShellCompDirectiveDefault
	}
	return p.ofBench(ctx, b, c, place, before), cobra.ShellCompDirectiveNoFileComp
}

func (p *program) ofBench(ctx context.Context, b *client.Client, c *cobra.Command, place string, before []string) []string {
	device := ""
	if len(before) > 0 {
		device = before[0]
	}
	switch place {
	case "DEVICE":
		all := names(func(ctx context.Context, _ ...client.Select) ([]client.Device, error) { return b.Devices(ctx, "") }, func(x client.Device) string { return x.Handle })(ctx)
		return slices.DeleteFunc(all, func(h string) bool { return slices.Contains(before, h) })
	case "HEARD":
		return names(b.Network, func(x client.NetworkEntry) string {
			return x.Name + "\t" + x.Family + ", " + strings.Join(x.Addresses, " ")
		})(ctx)
	case "KIT":
		return names(b.Kits, func(x client.Kit) string { return x.Name })(ctx)
	case "SESSION":
		return names(b.Sessions, func(x client.Session) string { return x.ID + "\t" + x.Agent })(ctx)
	case "JOB":
		return names(b.Jobs, func(x client.Job) string { return x.ID + "\t" + x.Title + ", " + x.State })(ctx)
	case "TRYOUT":
		return names(func(ctx context.Context, _ ...client.Select) ([]client.Tryout, error) { return b.Tryouts(ctx, "") }, func(x client.Tryout) string { return x.ID + "\t" + x.App + " on " + x.Device })(ctx)
	case "DIGEST":
		return names(b.Drivers, func(x client.DriverSet) string { return x.Digest + "\t" + x.Name + " " + x.Version })(ctx)
	case "HOST":
		return names(b.Hosts, func(x client.Host) string { return x.Name })(ctx)
	case "NAME":
		switch c.Parent().Name() {
		case "access":
			return names(b.Accesses, func(x client.Access) string { return x.Name })(ctx)
		case "host", "set":
			return names(b.Hosts, func(x client.Host) string { return x.Name })(ctx)
		}
	case "SHEET":
		s, err := b.Sheets(ctx)
		if err != nil {
			return nil
		}
		own := slices.DeleteFunc(s.Items, func(x client.Sheet) bool { return !x.Own })
		return named(own, func(x client.Sheet) string { return x.Sheet })
	case "STEP":
		plan, err := b.Prep(ctx, device, "")
		if err != nil {
			return nil
		}
		return named(plan.Steps, func(x client.Step) string { return x.ID + "\t" + x.Title })
	case "CAUSE":
		why, err := b.Why(ctx, device, "")
		if err != nil {
			return nil
		}
		return named(why.Causes, func(x client.Cause) string { return x.ID + "\t" + x.Text })
	case "ANSWER":
		why, err := b.Why(ctx, device, "")
		if err != nil || why.Next == nil || why.Next.Kind != "check" {
			return nil
		}
		return named(why.Next.Answers, func(x client.Choice) string { return why.Next.ID + "=" + x.ID + "\t" + x.Text })
	}
	return nil
}

// ofStandIns returns the candidates that come from the stand-ins.
func (p *program) ofStandIns(ctx context.Context, place string, before []string) []string {
	switch place {
	case "DEVICE":
		var all []standin.Status
		if p.steer(ctx, standin.MethodBodies, standin.Steer{}, &all) != nil {
			return nil
		}
		return named(all, func(s standin.Status) string { return s.Name })
	case "FAULT":
		var all []standin.Fault
		if p.steer(ctx, standin.MethodFaults, standin.Steer{Body: before[0]}, &all) != nil {
			return nil
		}
		return named(all, func(f standin.Fault) string { return f.Name + "\t" + f.Text })
	case "TEXT":
		var r body.Reading
		if p.steer(ctx, standin.MethodScreen, standin.Steer{Body: before[0]}, &r) != nil {
			return nil
		}
		return named(r.Elements, func(e body.Element) string { return e.Text })
	case "KEY":
		return body.Keys()
	case "WAY":
		return []string{"up", "down", "left", "right"}
	}
	return nil
}

// names makes completions from the items of a list.
func names[T any](list func(context.Context, ...client.Select) ([]T, error), name func(T) string) func(context.Context) []string {
	return func(ctx context.Context) []string {
		all, err := list(ctx)
		if err != nil {
			return nil
		}
		return named(all, name)
	}
}

func named[T any](all []T, name func(T) string) []string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = safe(name(x))
	}
	return out
}

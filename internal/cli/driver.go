package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) driverCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "driver", Short: "Driver sets that the bench has", Args: cobra.NoArgs}, (*client.Client).Drivers, func(ds []client.DriverSet) {
		if len(ds) == 0 {
			empty(p.out, "No driver set yet. Add one: earlybench driver add FILE")
			return
		}
		var rows [][]string
		for _, d := range ds {
			signer := safe(d.Signer)
			if d.Publisher == "" {
				signer = "not signed"
			}
			rows = append(rows, []string{d.Name, d.Version, safe(d.Maker), strings.Join(d.Fits, " "), bytesText(d.Size), signer, d.Digest[:12]})
		}
		p.table([]string{"set", "version", "maker", "fits", "size", "signed by", "digest"}, rows)
	})
	add := &cobra.Command{Use: "add FILE", Short: "Add a driver set from a file (.ebset)", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		f, err := os.Open(args[0])
		if err != nil {
			return usage("open the driver set: %w", err)
		}
		defer f.Close()
		b, err := p.bench()
		if err != nil {
			return err
		}
		d, err := b.AddDriver(c.Context(), f)
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(d)
		}
		fmt.Fprintf(p.out, "%s %s, digest %s\n", d.Name, d.Version, d.Digest)
		fmt.Fprintf(p.err, "It is installed with your consent: earlybench prep DEVICE --accept %s\n", d.Digest)
		return nil
	}}
	var s *client.Select
	show := &cobra.Command{Use: "show DEVICE", Short: "The driver sets that could be used for a device, best first, with the reasons", Args: cobra.ExactArgs(1)}
	show.RunE = func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		all, err := b.DriverCandidates(c.Context(), args[0], *s)
		if err != nil {
			return err
		}
		return printList(p, all, func(all []client.DriverCandidate) { p.printCandidates(args[0], all) })
	}
	s = p.selection(show)
	var despite []string
	set := &cobra.Command{Use: "set DEVICE DIGEST", Short: "Choose a driver set for a device by hand, and install it", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		return p.setDriver(c.Context(), args[0], args[1], despite)
	}}
	set.Flags().StringSliceVar(&despite, "despite", nil, "objections that you accept: unsigned, similar, system")
	drop := &cobra.Command{Use: "drop DEVICE", Short: "Remove the driver of a device's link from its host", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.DropDriver(c.Context(), args[0]); err != nil {
			return err
		}
		fmt.Fprintf(p.err, "It was removed from the host. What could be used instead: earlybench driver show %s\n", args[0])
		return nil
	}}
	c.AddCommand(add, show, set, drop)
	return c
}

func (p *program) printCandidates(handle string, all []client.DriverCandidate) {
	if len(all) == 0 {
		empty(p.out, fmt.Sprintf("No known driver set is for %s or a similar model. Add one: earlybench driver add FILE, or earlybench depot add URL", handle))
		return
	}
	var rows [][]string
	for _, c := range all {
		signed := "signed"
		if !c.Verified {
			signed = "not signed"
			if c.Signer != "" {
				signed = "signer not accepted"
			}
		}
		rows = append(rows, []string{c.Name, c.Version, steps(c), signed, safe(c.Why), c.Digest[:12]})
	}
	p.table([]string{"set", "version", "it is", "", "why", "digest"}, rows)
	if fit := all[0].Fit; fit == "similar" || fit == "system" {
		fmt.Fprintf(p.out, "\nNone of them is made for %s and its host. To use one anyway: earlybench driver set %[1]s DIGEST\n", handle)
		return
	}
	if all[0].Difference != "" {
		fmt.Fprintf(p.out, "\nInstalling the first changes this:\n%s", indented(all[0].Difference, "  "))
	}
	fmt.Fprintf(p.out, "\nThe first is installed with your consent: earlybench prep %s. Another one: earlybench driver set %[1]s DIGEST\n", handle)
}

// steps says how far a driver set has come: fetched, installed and bound are three things.
func steps(c client.DriverCandidate) string {
	var out []string
	switch {
	case c.Here:
		out = append(out, "fetched")
	case c.Depot != "":
		out = append(out, "in depot "+c.Depot)
	case c.Service:
		out = append(out, "in the host's update service")
	}
	if c.Installed {
		out = append(out, "installed")
	}
	if c.Bound {
		out = append(out, "bound")
	}
	return strings.Join(out, ", ")
}

// setDriver installs a driver set that was chosen by the beginning of its digest.
func (p *program) setDriver(ctx context.Context, handle, digest string, despite []string) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	all, err := b.DriverCandidates(ctx, handle)
	if err != nil {
		return err
	}
	for _, c := range all {
		if strings.HasPrefix(c.Digest, digest) && len(digest) >= 8 {
			j, err := b.InstallDriver(ctx, handle, client.DriverConsent{Accept: c.Digest, Despite: despite})
			if err != nil {
				return err
			}
			j, err = p.follow(ctx, b, j)
			if p.json && err == nil {
				return p.printJSON(j)
			}
			return err
		}
	}
	return &exitError{exitFailed, fmt.Sprintf("No driver set for %s has a digest that begins with %.64s. See earlybench driver show %[1]s", handle, digest)}
}

// indented is a text of several lines, each after a prefix, for a terminal.
func indented(text, prefix string) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		out.WriteString(prefix + safe(strings.TrimRight(line, "\n")) + "\n")
	}
	return out.String()
}

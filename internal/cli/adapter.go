package cli

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/internal/fence"
)

func (p *program) adapterCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "adapter", Short: "Programs that connect devices the device link does not reach", Args: cobra.NoArgs,
		Long: `An adapter is a program, in any language, that speaks for devices that the device link
does not reach. How to write one: docs/guides/writing-an-adapter.md.`,
		Example: "earlybench adapter check DIR\nearlybench adapter add DIR"},
		(*client.Client).Adapters, func(all []client.Adapter) {
			if len(all) == 0 {
				empty(p.out, "There is no adapter. Add one: earlybench adapter add DIR")
				return
			}
			var rows [][]string
			for _, a := range all {
				rows = append(rows, []string{a.Name, safe(a.Version), safe(strings.Join(slices.Concat(a.Files, a.USB, a.Announced), " ")), adapterText(a)})
			}
			p.table([]string{"adapter", "version", "for", ""}, rows)
			for _, a := range all {
				if a.Trouble == "" {
					continue
				}
				fmt.Fprintf(p.out, "\n%s: %s\n", a.Name, safe(a.Trouble))
				for _, line := range a.Log {
					fmt.Fprintln(p.out, "  "+faint.Render(safe(line)))
				}
			}
		})
	c.AddCommand(p.adapterActions(), p.adapterAct(), p.adapterAdd(), p.adapterDrop(), p.adapterCheck(), fenceCommand(fence.HoldCommand), fenceCommand(fence.BecomeStep))
	return c
}

func (p *program) adapterActions() *cobra.Command {
	return &cobra.Command{Use: "actions DEVICE", Short: "The actions that a device's adapter offers", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		all, err := b.Actions(c.Context(), args[0])
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(all)
		}
		var rows [][]string
		for _, a := range all {
			rows = append(rows, []string{a.Name, safe(a.About), safe(a.Args)})
		}
		p.table([]string{"action", "", "arguments"}, rows)
		return nil
	}}
}

func (p *program) adapterAct() *cobra.Command {
	return &cobra.Command{Use: "act DEVICE ACTION [NAME=VALUE...]", Short: "Run an action of a device's adapter", Args: cobra.MinimumNArgs(2),
		Long: `Runs one of the actions that earlybench adapter actions lists for a device.
A value that is valid JSON, such as 3, true or [1, 2], is passed as such; any other is text.`,
		Example: "earlybench adapter act reed-1 lamp.blink times=3", RunE: func(c *cobra.Command, args []string) error {
			values, err := actArgs(args[2:])
			if err != nil {
				return err
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			j, err := b.Act(c.Context(), args[0], args[1], values)
			if err != nil {
				return err
			}
			j, err = p.follow(c.Context(), b, j)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(j)
			}
			for _, phase := range j.Phases {
				if phase.Note != "" {
					fmt.Fprintln(p.out, safe(phase.Note))
				}
			}
			return nil
		}}
}

// actArgs reads NAME=VALUE.
func actArgs(words []string) (map[string]any, error) {
	out := map[string]any{}
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok || name == "" {
			return nil, usage("%q is not an argument of an action: write NAME=VALUE", w)
		}
		var v any
		if json.Unmarshal([]byte(value), &v) != nil {
			v = value
		}
		out[name] = v
	}
	return out, nil
}

func adapterText(a client.Adapter) string {
	switch a.State {
	case "running":
		return good.Render("speaks for " + strings.Join(a.Devices, ", "))
	case "waiting":
		return "no device for it is here"
	}
	return bad.Render("does not run")
}

func (p *program) adapterAdd() *cobra.Command {
	accept := ""
	c := &cobra.Command{Use: "add DIR", Short: "Copy an adapter into the bench, and run it", Args: cobra.ExactArgs(1),
		Long: `Shows what the adapter in a directory wants to use. Once you agree, it is copied with
its prep sheet and started. On Linux it can use nothing else: only its own directory
and the device files that it names, no other files of yours, and nothing of your
environment.`,
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			dir, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			if accept == "" {
				a, err := b.LookAdapter(c.Context(), dir)
				if err != nil {
					return err
				}
				if accept, err = p.agree(a, args[0]); err != nil {
					return err
				}
			}
			a, err := b.AddAdapter(c.Context(), dir, accept)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(a)
			}
			fmt.Fprintf(p.out, "The adapter %s is running. Its devices appear on the rack by themselves: earlybench rack\n", a.Name)
			return nil
		}}
	c.Flags().StringVar(&accept, "accept", "", "digest of the adapter that you looked at")
	return c
}

// agree has a person agree to what an adapter may use, and returns its digest.
func (p *program) agree(a client.Adapter, dir string) (string, error) {
	if p.json && (!p.terminal || p.unattended) {
		if err := p.printJSON(a); err != nil {
			return "", err
		}
	} else {
		fmt.Fprintf(p.out, "%s: %s\n\n  runs           %s\n  device files   %s\n  USB devices    %s\n  services       %s\n  connects to    %s\n  its sheet      %s\n  digest         %s\n", bold.Render(a.Name), safe(a.About),
			safe(strings.Join(a.Command, " ")), safe(orNone(strings.Join(a.Files, ", "))), safe(orNone(strings.Join(a.USB, ", "))), safe(orNone(strings.Join(a.Announced, ", "))),
			orNone(strings.Trim(strings.ReplaceAll(fmt.Sprint(a.Connect), " ", ", "), "[]")), a.Sheet, a.Digest)
		if !a.Fenced {
			fmt.Fprintln(p.out, "\nThis system cannot limit it to that: it will have the rights of the bench's user.")
		}
	}
	if !p.terminal || p.unattended {
		return "", &exitError{exitPerson, fmt.Sprintf("The adapter is added once you agree: earlybench adapter add %s --accept %s", safe(dir), a.Digest)}
	}
	fmt.Fprint(p.err, "\nAdd it? [y/N] ")
	if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return "", &exitError{exitPerson, "The adapter was not added."}
	}
	return a.Digest, nil
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (p *program) adapterDrop() *cobra.Command {
	return &cobra.Command{Use: "drop ADAPTER", Short: "Stop an adapter, and delete it", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropAdapter(c.Context(), args[0])
	}}
}

func (p *program) adapterCheck() *cobra.Command {
	at := ""
	c := &cobra.Command{Use: "check DIR", Short: "Check an adapter: its files, its messages, their order and their timing", Args: cobra.ExactArgs(1),
		Long: `Runs the adapter in a directory as a bench would, but without a bench. With a device
file or the address of a service, it also checks everything that needs a device.`,
		Example: "earlybench adapter check adapters/reed --at /dev/ttyUSB0\nearlybench adapter check adapters/reed --at _reed._tcp=192.0.2.7:7600", RunE: func(c *cobra.Command, args []string) error {
			shown, err := candidateAt(at)
			if err != nil {
				return err
			}
			report, err := adapter.Check(c.Context(), args[0], shown, fenced)
			if err != nil {
				return usage("%w", err)
			}
			if p.json {
				if err := p.printJSON(report); err != nil {
					return err
				}
			} else {
				for _, point := range report.Points {
					mark := good.Render("✓")
					if point.Wrong != "" {
						mark = bad.Render("✗")
					}
					fmt.Fprintf(p.out, "%s %s", mark, point.Name)
					if text := point.Wrong + point.Note; text != "" {
						fmt.Fprintf(p.out, ": %s", safe(text))
					}
					fmt.Fprintln(p.out)
				}
			}
			if n := report.Wrong(); n > 0 {
				return &exitError{exitFailed, fmt.Sprintf("%d of %d points are wrong. The protocol is described in docs/formats/adapter.md", n, len(report.Points))}
			}
			return nil
		}}
	c.Flags().StringVar(&at, "at", "", "where a device is: a device file, or SERVICE=ADDRESS:PORT")
	return c
}

// candidateAt is what is shown to an adapter that is checked: a device file, or a service at an address.
func candidateAt(at string) (adapter.Candidate, error) {
	service, address, isService := strings.Cut(at, "=")
	switch {
	case at == "":
		return adapter.Candidate{}, nil
	case !isService || filepath.IsAbs(at):
		return adapter.Candidate{Device: at, Kind: adapter.KindFile, Path: at}, nil
	}
	to, err := netip.ParseAddrPort(address)
	if err != nil {
		return adapter.Candidate{}, usage("--at %.60q: write the address of the service as _reed._tcp=192.0.2.7:7600", at)
	}
	return adapter.Candidate{Device: "check." + service, Kind: adapter.KindNetwork, Service: service, Instance: "check", Address: to.Addr().String(), Port: int(to.Port()), Text: map[string]string{}}, nil
}

// fenced starts an adapter as a bench does.
func fenced(command []string, dir, work, given string, files []string, connect []int, log func(string)) (adapter.Program, error) {
	return fence.Start(fence.Around(command, dir, work, given, files, connect), log)
}

// fenceCommand is a step between the bench and an adapter.
func fenceCommand(name string) *cobra.Command {
	return &cobra.Command{Use: name + " CONFIG", Hidden: true, Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		_, err := fence.Step(c.Context(), []string{"adapter", name, "--", args[0]})
		return err
	}}
}

package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/developer"
)

func (p *program) hostCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "host", Short: "Computers that devices are connected to", Args: cobra.NoArgs}, (*client.Client).Hosts, func(hs []client.Host) {
		if len(hs) == 0 {
			empty(p.out, "No host yet. Add one: earlybench host add NAME --usbip ADDR --control ADDR")
			return
		}
		var rows [][]string
		for _, h := range hs {
			state := "reached"
			if h.Trouble != "" {
				state = safe(h.Trouble)
			}
			if h.Shared {
				state += ", shared"
			}
			usbip := h.USBIP
			if h.Own {
				usbip = "this computer"
			}
			if usbip == "" {
				usbip = "exports none"
			}
			rows = append(rows, []string{h.Name, usbip, h.Control, h.SSH, state})
		}
		p.table([]string{"host", "usbip", "control", "through", ""}, rows)
	})
	set := &cobra.Command{Use: "set", Short: "Set whether one person or several people use a host", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return usage("write: earlybench host set shared NAME, or own NAME")
	}}
	add := p.hostAddCommand()
	for _, kind := range []struct {
		use, short string
		shared     bool
	}{{"shared NAME", "Several people use it: devices are only asked to admit it for one visit", true}, {"own NAME", "One person uses it", false}} {
		set.AddCommand(&cobra.Command{Use: kind.use, Short: kind.short, Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			return b.SetShared(c.Context(), args[0], kind.shared)
		}})
	}
	c.AddCommand(p.hostTree(), p.hostCheck(), p.hostNeeds(), p.hostGive(), add, set, &cobra.Command{Use: "drop NAME", Short: "Forget a host", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropHost(c.Context(), args[0])
	}})
	return c
}

// hostGive has a device pass from one host to another.
func (p *program) hostGive() *cobra.Command {
	to := ""
	c := &cobra.Command{Use: "give DEVICE", Short: "Pass a device to another host, or take it back from a virtual machine", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.GiveDevice(c.Context(), args[0], to); err != nil {
			return err
		}
		if to == "" {
			to = "This bench"
		}
		fmt.Fprintf(p.err, "%s now has %s.\n", to, args[0])
		return nil
	}}
	c.Flags().StringVar(&to, "to", "", "name of a host, or of this bench (default: this bench)")
	return c
}

// required makes options required, and their lack a usage error.
func required(c *cobra.Command, names ...string) {
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		for _, n := range names {
			if !c.Flags().Changed(n) {
				return usage("--%s is missing; write: %s --%s", n, c.UseLine(), n)
			}
		}
		return run(c, args)
	}
}

func (p *program) projectCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "project", Short: "App directories that the bench may build from", Args: cobra.NoArgs}, (*client.Client).Projects, func(ps []client.Project) {
		if len(ps) == 0 {
			empty(p.out, "No project yet. Add one: earlybench project add DIR")
			return
		}
		var rows [][]string
		for _, r := range ps {
			rows = append(rows, []string{r.App, r.Version, r.Dir, safe(r.Trouble)})
		}
		p.table([]string{"app", "version", "directory", ""}, rows)
	})
	c.AddCommand(&cobra.Command{Use: "add DIR", Short: "Let the bench build from a directory", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		dir, err := filepath.Abs(args[0])
		if err != nil {
			return err
		}
		b, err := p.bench()
		if err != nil {
			return err
		}
		r, err := b.AddProject(c.Context(), dir)
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(r)
		}
		fmt.Fprintln(p.out, r.App)
		fmt.Fprintf(p.err, "Run it: earlybench run %s DEVICE\n", r.App)
		return nil
	}})
	return c
}

func (p *program) appCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "app", Short: "App files that the bench has packed or received", Args: cobra.NoArgs}, (*client.Client).AppFiles, func(fs []client.AppFile) {
		if len(fs) == 0 {
			empty(p.out, "No app file yet. Each run packs one: earlybench run APP DEVICE")
			return
		}
		var rows [][]string
		for _, f := range fs {
			rows = append(rows, []string{f.App, f.Version, bytesText(f.Size), clockText(f.Created), f.Digest})
		}
		p.table([]string{"app", "version", "size", "since", "digest"}, rows)
	})
	c.AddCommand(p.onDevice("stop", "Stop an app on a device", "%s is stopped on %s.\n", (*client.Client).StopApp),
		p.onDevice("remove", "Remove an app from a device", "%s is removed from %s.\n", (*client.Client).RemoveApp))
	c.AddCommand(p.appShow(), p.appCheck(), p.appPack(), p.appSign(), p.appCompare(), p.appSet(), p.appSecret())
	return c
}

// remoteKey is the bench's development key, or one of its identities, by which the bench signs.
type remoteKey struct {
	ctx      context.Context // of the command
	bench    *client.Client
	by       client.Developer
	identity string // "" for the development key
}

func (k *remoteKey) Public() developer.Public {
	return developer.Public{Type: "EC", Curve: "P-256", X: k.by.X, Y: k.by.Y}
}

func (k *remoteKey) SignManifest(manifest []byte) (developer.Signature, error) {
	s, err := k.bench.SignApp(k.ctx, manifest, k.identity)
	return developer.Signature{Bare: s.Signature, CMS: s.CMS}, err
}

// packed is what app pack --json prints.
type packed struct {
	App       string `json:"app"`
	Version   string `json:"version"`
	Digest    string `json:"digest"`
	Developer string `json:"developer"`
	File      string `json:"file"`
}

// onDevice makes a command that does something with an app on a device.
func (p *program) onDevice(verb, short, done string, do func(*client.Client, context.Context, string, string) error) *cobra.Command {
	return &cobra.Command{Use: verb + " APP DEVICE", Short: short, Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := do(b, c.Context(), args[1], args[0]); err != nil {
			return err
		}
		fmt.Fprintf(p.err, done, args[0], args[1])
		return nil
	}}
}

// reachWithin is how long a new host may take to be reached.
const reachWithin = 3 * time.Second

// hostReached waits until a host that was added is reached.
func hostReached(ctx context.Context, b *client.Client, name string) error {
	ctx, cancel := context.WithTimeout(ctx, reachWithin)
	defer cancel()
	trouble := ""
	for {
		hosts, err := b.Hosts(ctx)
		for _, h := range hosts {
			if h.Name == name {
				trouble = h.Trouble
			}
		}
		if err == nil && trouble == "" {
			return nil
		}
		select {
		case <-ctx.Done():
			return &exitError{exitUnreachable, fmt.Sprintf("Host %s was added, but cannot be reached: %s The bench keeps trying. Change its addresses with the same command, or drop it: earlybench host drop %[1]s", name, trouble)}
		case <-time.After(100 * time.Millisecond):
		}
	}
}

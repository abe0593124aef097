package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) kitCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "kit", Short: "Kits: compilers and tools on this computer that app builds need", Args: cobra.NoArgs}, (*client.Client).Kits, p.printKits)
	k := client.NewKit{}
	var description string
	add := &cobra.Command{Use: "add KIT PATH", Short: "Name the directory of a kit, so that builds use it", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		k.Name, k.Path = args[0], args[1]
		return p.addKit(c.Context(), k, description)
	}}
	add.Flags().StringVar(&description, "description", "", "file that describes a complete copy of the kit, if the bench does not know the kit")
	drop := &cobra.Command{Use: "drop KIT PATH", Short: "Forget the directory of a kit; nothing on disk is deleted", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		path, err := filepath.Abs(args[1])
		if err != nil {
			return err
		}
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropKit(c.Context(), args[0], path)
	}}
	show := &cobra.Command{Use: "show KIT", Short: "Show what each copy of a kit contains, and what is wrong with it", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		return p.showKit(c.Context(), args[0])
	}}
	c.AddCommand(add, show, drop, p.kitFetchCommand(), p.kitEnvCommand())
	return c
}

func (p *program) kitFetchCommand() *cobra.Command {
	f := client.FetchKit{}
	c := &cobra.Command{Use: "fetch KIT", Short: "Fetch a kit from a peer, and use it", Args: cobra.ExactArgs(1),
		Long: `Fetches the files of a kit that a peer shares (there: earlybench peer set THIS-BENCH
--kit KIT), each by its digest and only once, and registers the copy for builds to use.
Its programs are run to ask for their versions. If a project names the peer that has a
missing kit (kit: {name: KIT, at: PEER}), its first build fetches the kit.`,
		Example: "earlybench kit fetch fell-kit --from harbour-desk", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			j, err := b.FetchKit(c.Context(), args[0], f)
			if err != nil {
				return err
			}
			fmt.Fprintln(p.err, safe(j.Title))
			if j, err = p.follow(c.Context(), b, j); err != nil || j.Kit == nil {
				return err
			}
			if p.json {
				return p.printJSON(j.Kit)
			}
			fmt.Fprintf(p.out, "%s %s is in %s\n", j.Kit.Kit, versionText(j.Kit.Version), j.Kit.Path)
			fmt.Fprintf(p.err, "%s was fetched from %s. Builds that need it will use it.\n", bytesText(j.Kit.Came), f.Peer)
			return nil
		}}
	c.Flags().StringVar(&f.Peer, "from", "", "the peer")
	c.Flags().StringVar(&f.From, "version-from", "", "the lowest version to accept (default: fetch the newest)")
	c.Flags().StringVar(&f.Below, "version-below", "", "do not accept this version or later ones")
	required(c, "from")
	return c
}

func (p *program) addKit(ctx context.Context, k client.NewKit, description string) error {
	var err error
	if k.Path, err = filepath.Abs(k.Path); err != nil {
		return err
	}
	if description != "" {
		raw, err := os.ReadFile(description)
		if err != nil {
			return usage("read the description of the kit: %w", err)
		}
		k.Description = string(raw)
	}
	b, err := p.bench()
	if err != nil {
		return err
	}
	added, err := b.AddKit(ctx, k)
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(added)
	}
	fmt.Fprintf(p.out, "%s %s\n", k.Name, versionText(added.Version))
	fmt.Fprintf(p.err, "Builds that need it will use %s. For a shell: eval \"$(earlybench kit env %s)\"\n", added.Path, k.Name)
	return nil
}

func versionText(version string) string {
	if version == "" {
		return "(it does not print its version)"
	}
	return safe(version)
}

func (p *program) printKits(all []client.Kit) {
	var rows [][]string
	var missed []client.KitNeed
	for _, k := range all {
		for _, c := range k.Copies {
			rows = append(rows, []string{k.Name, safe(c.Version), standingOf(c), c.Path, wrongEntry(c), strings.Join(c.Apps, " ")})
		}
		if len(k.Copies) == 0 {
			rows = append(rows, []string{k.Name, "", "not here", "", "", ""})
		}
		for _, n := range k.Apps {
			if n.Text != "" {
				missed = append(missed, n)
			}
		}
	}
	p.table([]string{"kit", "version", "it is", "directory", "wrong", "builds"}, rows)
	for _, n := range missed {
		p.printMissed(n)
	}
}

func standingOf(c client.KitCopy) string {
	out := "complete"
	if !c.Complete {
		out = "not complete"
	}
	if c.Named {
		out += ", named by you"
	} else if c.OnPath {
		out += ", on the search path"
	}
	return out
}

func wrongEntry(c client.KitCopy) string {
	for _, e := range c.Entries {
		if e.Wrong != "" {
			return strings.TrimSpace(e.Path + " " + safe(e.Wrong))
		}
	}
	return ""
}

func (p *program) showKit(ctx context.Context, name string) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	all, err := b.Kits(ctx)
	if err != nil {
		return err
	}
	for _, k := range all {
		switch {
		case k.Name != name:
		case p.json:
			return p.printJSON(k)
		default:
			p.printKit(k)
			return nil
		}
	}
	return &exitError{exitFailed, fmt.Sprintf("No kit %.60s is known here, and no app needs it. See earlybench kit", name)}
}

func (p *program) printKit(k client.Kit) {
	about := k.About
	if !k.Described {
		about = "nothing describes it"
	}
	fmt.Fprintf(p.out, "%s  %s\n", bold.Render(k.Name), safe(about))
	for _, c := range k.Copies {
		fmt.Fprintf(p.out, "\n%s  %s\n  %s\n", c.Path, safe(c.Version), faint.Render(standingOf(c)))
		for _, e := range c.Entries {
			mark, wrong := good.Render("✓"), ""
			if e.Wrong != "" {
				mark, wrong = bad.Render("✗"), "  "+safe(e.Wrong)
			}
			fmt.Fprintf(p.out, "  %s %s%s\n", mark, orWord(e.Path, "the directory"), wrong)
		}
		for _, app := range c.Apps {
			fmt.Fprintf(p.out, "  builds %s\n", app)
		}
	}
	for _, n := range k.Apps {
		if n.Text != "" {
			p.printMissed(n)
		}
	}
}

// printMissed says that an app cannot be built, and what to do.
func (p *program) printMissed(n client.KitNeed) {
	fmt.Fprintln(p.out)
	wrapped(p.out, "", fmt.Sprintf("%s cannot be built: %s", n.App, safe(n.Text)), p.width)
	wrapped(p.out, "  ", safe(n.Remedy), p.width)
}

func orWord(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

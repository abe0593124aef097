package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) depotCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "depot", Short: "Depots that offer driver sets and support packs", Args: cobra.NoArgs}, (*client.Client).Depots, func(ds []client.Depot) {
		if len(ds) == 0 {
			empty(p.out, "No depot yet. Add one: earlybench depot add URL")
			return
		}
		var rows [][]string
		for _, d := range ds {
			rate := ""
			if d.Rate > 0 {
				rate = bytesText(d.Rate) + "/s"
			}
			rows = append(rows, []string{d.Name, d.URL, stateText(d.State), rate, fmt.Sprint(d.Offers), safe(d.Signer), oneLine(safe(d.Trouble), 60)})
		}
		p.table([]string{"depot", "address", "", "rate", "offers", "publisher", ""}, rows)
	})
	d := client.NewDepot{}
	add := &cobra.Command{Use: "add URL", Short: "Add a depot, after showing its TLS root and publisher for you to accept", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		d.URL = args[0]
		return p.addDepot(c.Context(), d)
	}}
	add.Flags().StringVar(&d.Accept, "accept", "", "digest of what you accept, as shown by this command")
	add.Flags().StringVar(&d.Name, "name", "", "its name here (default: taken from its own name)")
	c.AddCommand(add, &cobra.Command{Use: "drop NAME", Short: "Forget a depot; what was fetched from it stays", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropDepot(c.Context(), args[0])
	}})
	return c
}

func stateText(state string) string {
	switch state {
	case "":
		return "not asked yet"
	case "cut":
		return "cut, trying again"
	case "down":
		return "does not answer"
	}
	return state
}

// addDepot shows who a depot is and adds it once that was accepted.
func (p *program) addDepot(ctx context.Context, d client.NewDepot) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	if d.Accept == "" {
		f, err := b.LookAtDepot(ctx, d.URL)
		switch {
		case err != nil:
			return err
		case p.json && (!p.terminal || p.unattended):
			if err := p.printJSON(f); err != nil {
				return err
			}
			return &exitError{exitPerson, "To add the depot, accept it: --accept " + f.Accept}
		}
		p.printFound(f)
		if !p.terminal || p.unattended {
			return &exitError{exitPerson, "To add the depot, accept it: --accept " + f.Accept}
		}
		fmt.Fprint(p.err, "\nCompare the two fingerprints with those that its owner states. Accept them? [y/N] ")
		if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
			return &exitError{exitPerson, "The depot was not added."}
		}
		d.Accept = f.Accept
	}
	added, err := b.AddDepot(ctx, d)
	if err != nil {
		return err
	}
	if p.json {
		return p.printJSON(added)
	}
	fmt.Fprintf(p.err, "Depot %s was added. See what your devices need from it: earlybench host needs\n", added.Name)
	return nil
}

func (p *program) printFound(f client.FoundDepot) {
	fmt.Fprintf(p.out, "%s at %s offers %d files.\n\n", bold.Render(safe(f.Name)), f.URL, f.Offers)
	root := "none: it is on this computer, and reached without TLS"
	if f.Root != "" {
		root = fingerprint(f.Root)
	}
	known := "this computer does not know it yet"
	if f.RootKnown {
		known = "this computer already trusts it"
	}
	fmt.Fprintf(p.out, "  TLS root   %s\n", root)
	if f.Root != "" {
		fmt.Fprintf(p.out, "             %s\n", faint.Render(safe(f.RootName)+"; "+known))
	}
	fmt.Fprintf(p.out, "  Publisher  %s\n             %s\n", fingerprint(f.Publisher), faint.Render(safe(f.Signer)+" signs the index with this key"))
}

// fingerprint writes a digest in groups of eight, so that people can compare it.
func fingerprint(digest string) string {
	var out []string
	for len(digest) > 8 {
		out, digest = append(out, digest[:8]), digest[8:]
	}
	return strings.Join(append(out, digest), " ")
}

func (p *program) supportCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "support", Short: "Support packs: the files for exactly one OS release", Args: cobra.NoArgs}, (*client.Client).SupportPacks, func(packs []client.SupportPack) {
		if len(packs) == 0 {
			empty(p.out, "There is no support pack. See what your devices need: earlybench host needs")
			return
		}
		p.printPacks(packs)
	})
	add := &cobra.Command{Use: "add FILE", Short: "Add a support pack from a file (.ebpack)", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		file, err := filepath.Abs(args[0])
		if err != nil {
			return err
		}
		b, err := p.bench()
		if err != nil {
			return err
		}
		pack, err := b.AddSupportPack(c.Context(), file)
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(pack)
		}
		p.printPacks([]client.SupportPack{pack})
		return nil
	}}
	unused := false
	drop := &cobra.Command{Use: "drop [DIGEST]", Short: "Remove a support pack, or with --unused all that no device needs", Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		if unused == (len(args) == 1) {
			return usage("give the digest of a support pack, or --unused")
		}
		return p.dropSupport(c.Context(), args, unused)
	}}
	drop.Flags().BoolVar(&unused, "unused", false, "remove all that no device on the rack needs")
	c.AddCommand(add, drop)
	return c
}

func (p *program) dropSupport(ctx context.Context, digests []string, unused bool) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	packs, err := b.SupportPacks(ctx)
	if err != nil {
		return err
	}
	var freed int64
	n := 0
	for _, pack := range packs {
		if unused && (len(pack.Devices) > 0 || pack.Job != "") || !unused && !strings.HasPrefix(pack.Digest, digests[0]) {
			continue
		}
		if err := b.DropSupportPack(ctx, pack.Digest); err != nil {
			return err
		}
		n, freed = n+1, freed+pack.Have
		for _, h := range pack.Devices {
			fmt.Fprintf(p.err, "%s needs it: earlybench why %s\n", h, h)
		}
	}
	if n == 0 && !unused {
		return &exitError{exitFailed, fmt.Sprintf("No support pack here has a digest that begins with %.64s.", digests[0])}
	}
	fmt.Fprintf(p.err, "%d removed, %s freed.\n", n, bytesText(freed))
	return nil
}

func (p *program) printPacks(packs []client.SupportPack) {
	var rows [][]string
	for _, k := range packs {
		rows = append(rows, []string{k.Name, k.Version, k.Family + " " + safe(k.Release), bytesText(k.Size), packState(k), packUse(k), k.Depot, k.Digest[:12]})
	}
	p.table([]string{"pack", "version", "for", "size", "", "needed by", "depot", "digest"}, rows)
}

func packState(k client.SupportPack) string {
	switch {
	case k.Here:
		return "here"
	case k.Job != "":
		return fmt.Sprintf("coming, %d %%", 100*k.Have/k.Size)
	case k.Have > 0:
		return fmt.Sprintf("%d %% here", 100*k.Have/k.Size)
	}
	return "not here"
}

func packUse(k client.SupportPack) string {
	if len(k.Devices) == 0 {
		return "no device"
	}
	return oneLine(strings.Join(k.Devices, " "), 40)
}

// hostNeeds shows what the devices lack of the computer's side, and fetches what is accepted.
func (p *program) hostNeeds() *cobra.Command {
	accept, licence := "", ""
	c := &cobra.Command{Use: "needs", Short: "What the devices on the rack are missing, with sizes and licences; --accept fetches it", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		switch {
		case licence != "":
			return p.printLicence(c.Context(), b, licence)
		case accept != "":
			return p.fetchNeeds(c.Context(), b, accept)
		}
		n, err := b.Needs(c.Context())
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(n)
		}
		return p.printNeeds(c.Context(), b, n)
	}}
	c.Flags().StringVar(&accept, "accept", "", "digest of what you accept, as shown by this command: it is fetched")
	c.Flags().StringVar(&licence, "licence", "", "print the text of a licence, given by its name or digest")
	return c
}

func (p *program) printNeeds(ctx context.Context, b *client.Client, n client.Needs) error {
	if len(n.Packs) == 0 {
		depots, err := b.Depots(ctx)
		if err == nil && len(depots) == 0 {
			empty(p.out, "This bench has no depot, so it does not know what your devices need. Add one: earlybench depot add URL")
			return nil
		}
		fmt.Fprintln(p.out, "The devices on the rack are not missing anything that a depot offers.")
		return nil
	}
	var rows [][]string
	for _, k := range n.Packs {
		licence := k.Licence
		if licence == "" {
			licence = "none"
		}
		rows = append(rows, []string{k.Name, k.Version, k.Family + " " + safe(k.Release), bytesText(k.Size), packState(k), packUse(k), safe(licence)})
	}
	p.table([]string{"needed", "version", "for", "size", "", "by", "licence"}, rows)
	text := bytesText(n.Left) + " to fetch"
	if n.Seconds > 0 {
		text += fmt.Sprintf(", about %s at the rate measured last", (time.Duration(n.Seconds) * time.Second).Round(time.Second))
	}
	if n.Free >= 0 {
		text += fmt.Sprintf("; %s are free on the disk", bytesText(n.Free))
	}
	fmt.Fprintln(p.out, "\n"+text+".")
	shown := map[string]bool{}
	for _, k := range n.Packs {
		if k.Licence != "" && !shown[k.Licence] {
			shown[k.Licence] = true
			fmt.Fprintf(p.out, "Read the licence: earlybench host needs --licence %q\n", safe(k.Licence))
		}
	}
	fmt.Fprintf(p.out, "Accept and fetch: earlybench host needs --accept %s\n", n.Accept)
	return nil
}

func (p *program) printLicence(ctx context.Context, b *client.Client, name string) error {
	n, err := b.Needs(ctx)
	if err != nil {
		return err
	}
	for _, k := range n.Packs {
		if k.Licence != "" && (k.Licence == name || strings.HasPrefix(k.LicenceDigest, name)) {
			l, err := b.Licence(ctx, k.LicenceDigest)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(l)
			}
			fmt.Fprintln(p.out, safeLines(l.Text))
			return nil
		}
	}
	return &exitError{exitFailed, fmt.Sprintf("Nothing that is needed has the licence %q. See earlybench host needs", name)}
}

// safeLines is safe for a text of several lines.
func safeLines(text string) string {
	var out []string
	for line := range strings.Lines(text) {
		out = append(out, safe(strings.TrimRight(line, "\r\n")))
	}
	return strings.Join(out, "\n")
}

// fetchNeeds fetches what was accepted, and shows the progress.
func (p *program) fetchNeeds(ctx context.Context, b *client.Client, accept string) error {
	jobs, err := b.FetchNeeds(ctx, accept)
	if err != nil {
		return err
	}
	var failed error
	for i, j := range jobs {
		fmt.Fprintln(p.err, safe(j.Title))
		var err error
		if jobs[i], err = p.follow(ctx, b, j); err != nil && failed == nil {
			failed = err
		}
		if ctx.Err() != nil {
			return failed
		}
	}
	if p.json && failed == nil {
		return p.printJSON(client.List[client.Job]{Items: jobs})
	}
	return failed
}

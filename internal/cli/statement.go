package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

// statementKind is what the commands grant and token are about.
type statementKind struct {
	word, kind, about string
	options           string // that its command new wants
}

var (
	grants = statementKind{"grant", "grant", "apps that a signing identity has signed may run", " --identity NAME"}
	tokens = statementKind{"token", "debug token", "a developer's unsigned apps may run", ""}
)

func (p *program) statementCommand(k statementKind) *cobra.Command {
	on := ""
	c := &cobra.Command{Use: k.word, Short: fmt.Sprintf("The bench's %ss: on which devices %s", k.kind, k.about), Args: cobra.NoArgs}
	lists(p, c, func(b *client.Client, ctx context.Context, sel ...client.Select) ([]client.Statement, error) {
		call := b.Statements
		if on != "" {
			call = func(ctx context.Context, sel ...client.Select) ([]client.Statement, error) {
				return b.StatementsOn(ctx, on, sel...)
			}
		}
		all, err := call(ctx, sel...)
		return slices.DeleteFunc(all, func(s client.Statement) bool { return s.Kind != k.kind }), err
	}, func(all []client.Statement) {
		if len(all) == 0 && on != "" {
			empty(p.out, fmt.Sprintf("No %[2]s was seen on %[1]s. What a device holds is known once it has been linked.", on, k.kind))
			return
		}
		p.printStatements(k, all)
	})
	c.Flags().StringVar(&on, "on", "", "list those that were seen on this device")
	c.AddCommand(p.statementNew(k), p.statementShow(k), p.statementPut(k), p.statementDrop(k))
	return c
}

func (p *program) printStatements(k statementKind, all []client.Statement) {
	if len(all) == 0 {
		empty(p.out, fmt.Sprintf("No %s yet. Request one: earlybench %s new DEVICE%s", k.kind, k.word, k.options))
		return
	}
	var rows [][]string
	for _, s := range all {
		whose := s.Crew + "/" + s.Developer
		if s.Mine {
			whose += " (yours)"
		}
		rows = append(rows, []string{short(s.ID), safe(whose), safe(anyText(s.App, "every app")), devicesText(s), s.Ends.Local().Format("2 Jan 2006"), strings.TrimPrefix(s.State, "good")})
	}
	p.table([]string{k.kind, "of", "app", "devices", "ends", ""}, rows)
}

// short is the beginning of an id, by which commands find it too.
func short(id string) string { return safe(id[:min(len(id), 8)]) }

func anyText(s, otherwise string) string {
	if s == "*" {
		return otherwise
	}
	return s
}

// devicesText names the devices of a statement: by their handles where they are on the rack.
func devicesText(s client.Statement) string {
	if len(s.Devices) == 1 && s.Devices[0] == "*" {
		return "any"
	}
	others := len(s.Devices) - len(s.Handles)
	text := strings.Join(s.Handles, ", ")
	if others > 0 {
		text = strings.TrimPrefix(fmt.Sprintf("%s, %d elsewhere", text, others), ", ")
	}
	return safe(text)
}

func (p *program) statementNew(k statementKind) *cobra.Command {
	n := client.NewStatement{Kind: k.kind, Debug: true}
	noDebug := false
	var chosen choice
	c := &cobra.Command{Use: "new [DEVICE...]", Short: fmt.Sprintf("Request a %s from your crew's authority", k.kind), Args: cobra.ArbitraryArgs,
		Long: fmt.Sprintf(`Requests a %s from the authority of the account in use. Name devices by their handles,
or by serials if they are not here. They must be in the crew's register.`, k.kind),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if n.Devices, err = chosen(c.Context(), b, args); err != nil {
				return err
			}
			n.Debug = !noDebug
			s, err := b.AddStatement(c.Context(), n)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(s)
			}
			p.printStatements(k, []client.Statement{s})
			fmt.Fprintf(p.err, "Put it on them: earlybench %s put %s %s\n", k.word, short(s.ID), strings.Join(s.Handles, " "))
			return nil
		}}
	chosen = p.chooses(c)
	c.Flags().StringVar(&n.App, "app", "", "only for this app, CREW/APP (default: every app of the developer)")
	c.Flags().BoolVar(&n.Any, "any", false, "for any device")
	c.Flags().BoolVar(&noDebug, "no-debug", false, "its apps may not be debugged")
	c.Flags().StringSliceVar(&n.Features, "feature", nil, "app feature that may be used, such as \"background positions\"")
	if k == grants {
		c.Flags().StringVar(&n.Identity, "identity", "", "signing identity that signs the apps")
		c.MarkFlagRequired("identity") //nolint:errcheck // the option was added above
	}
	return c
}

// statementOf finds one of the bench by its id, or by the beginning of that.
func (p *program) statementOf(ctx context.Context, b *client.Client, k statementKind, id string) (client.Statement, error) {
	all, err := b.Statements(ctx)
	if err != nil {
		return client.Statement{}, err
	}
	var found []client.Statement
	for _, s := range all {
		if s.Kind == k.kind && id != "" && strings.HasPrefix(s.ID, id) {
			found = append(found, s)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return client.Statement{}, usage("no %s of the bench begins with %q: see earlybench %s", k.kind, id, k.word)
	}
	return client.Statement{}, usage("%d %ss begin with %q: give more of the id", len(found), k.kind, id)
}

func (p *program) statementShow(k statementKind) *cobra.Command {
	signed := false
	c := &cobra.Command{Use: "show ID", Short: fmt.Sprintf("Show what a %s says", k.kind), Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		s, err := p.statementOf(c.Context(), b, k, args[0])
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(s)
		case signed:
			fmt.Fprintln(p.out, s.Text)
			return nil
		}
		p.describeStatement(s)
		return nil
	}}
	c.Flags().BoolVar(&signed, "signed", false, "print it in its signed form, to save as a file")
	return c
}

func (p *program) describeStatement(s client.Statement) {
	line := func(name, text string) { fmt.Fprintf(p.out, "  %-10s %s\n", name, safe(text)) }
	debug := "its apps may be debugged"
	if !s.Debug {
		debug = "its apps may not be debugged"
	}
	features := "no special ones"
	if len(s.Features) > 0 {
		features = strings.Join(s.Features, ", ")
	}
	whose := s.Crew + "/" + s.Developer
	if s.Mine {
		whose += ", by a key of this bench"
	}
	fmt.Fprintf(p.out, "%s %s: %s\n", s.Kind, s.ID, s.State)
	line("signed by", s.Authority)
	line("whose apps", whose)
	line("key", s.Key)
	line("app", anyText(s.App, "every app"))
	line("devices", anyText(strings.Join(s.Devices, ", "), "any"))
	line("debug", debug)
	line("features", features)
	line("begins", s.Begins.Local().Format("2 January 2006 15:04"))
	line("ends", s.Ends.Local().Format("2 January 2006 15:04"))
}

func (p *program) statementDrop(k statementKind) *cobra.Command {
	from, withdraw := "", false
	c := &cobra.Command{Use: "drop ID", Short: fmt.Sprintf("Forget a %s here, or remove it from a device", k.kind), Args: cobra.ExactArgs(1),
		Long: fmt.Sprintf(`Forgets a %[1]s of the bench. With --from it is removed from that device only.
With --withdraw the authority withdraws it, and devices refuse it once they have
learned of that.`, k.kind), RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if from != "" {
				return p.takeOff(c.Context(), b, k, from, args[0])
			}
			s, err := p.statementOf(c.Context(), b, k, args[0])
			if err != nil {
				return err
			}
			if err := b.DropStatement(c.Context(), s.ID, withdraw); err != nil {
				return err
			}
			p.sayf("The %s %s is %s.\n", k.kind, short(s.ID), map[bool]string{true: "withdrawn, and forgotten here", false: "forgotten here"}[withdraw])
			return nil
		}}
	c.Flags().StringVar(&from, "from", "", "remove it from this device")
	c.Flags().BoolVar(&withdraw, "withdraw", false, "have its authority withdraw it")
	c.MarkFlagsMutuallyExclusive("from", "withdraw")
	return c
}

func (p *program) takeOff(ctx context.Context, b *client.Client, k statementKind, handle, id string) error {
	all, err := b.StatementsOn(ctx, handle)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(s client.Statement) bool { return s.Kind == k.kind && strings.HasPrefix(s.ID, id) })
	if id == "" || i < 0 {
		return usage("no %s on %s begins with %q: see earlybench %s --on %[2]s", k.kind, handle, id, k.word)
	}
	if err := b.TakeOff(ctx, handle, all[i].ID); err != nil {
		return err
	}
	p.sayf("It was removed from %s.\n", handle)
	return nil
}

// statementIn keeps the statement in a file, or finds one of the bench by its id.
func (p *program) statementIn(ctx context.Context, b *client.Client, k statementKind, what string) (client.Statement, error) {
	raw, err := os.ReadFile(what)
	if errors.Is(err, fs.ErrNotExist) && !strings.ContainsAny(what, "/.") {
		return p.statementOf(ctx, b, k, what)
	}
	if err != nil {
		return client.Statement{}, usage("read the %s: %w", k.kind, err)
	}
	if len(raw) > 64<<10 {
		return client.Statement{}, usage("%s has more than 64 KiB, so it is not a %s", what, k.kind)
	}
	s, err := b.AddStatement(ctx, client.NewStatement{Text: string(raw)})
	if err == nil && s.Kind != k.kind {
		err = usage("%s contains a %s: earlybench %s put %[1]s", what, s.Kind, map[string]string{"grant": "grant", "debug token": "token"}[s.Kind])
	}
	return s, err
}

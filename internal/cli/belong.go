package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) authorityCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "authority", Short: "Makers' services that register devices and issue certificates", Args: cobra.NoArgs}, (*client.Client).Authorities, p.printAuthorities)
	a := client.NewAuthority{}
	add := &cobra.Command{Use: "add URL", Short: "Add an authority, after showing its TLS root for you to accept", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		a.URL = args[0]
		return p.addAuthority(c.Context(), a)
	}}
	add.Flags().StringVar(&a.Accept, "accept", "", "digest of what you accept, as shown by this command")
	c.AddCommand(add, &cobra.Command{Use: "drop NAME", Short: "Forget an authority and the accounts there", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropAuthority(c.Context(), args[0])
	}})
	return c
}

func (p *program) printAuthorities(all []client.Authority) {
	if len(all) == 0 {
		empty(p.out, "No authority yet. Add one: earlybench authority add URL")
		return
	}
	var rows [][]string
	for _, a := range all {
		rows = append(rows, []string{a.Name, a.URL, stateText(a.State), oneLine(safe(a.Trouble), 80)})
	}
	p.table([]string{"authority", "address", "", ""}, rows)
	for _, a := range all {
		p.printStandings(a.Name, a.Standings)
	}
}

// printStandings says what each standing costs and gives.
func (p *program) printStandings(name string, all []client.Standing) {
	fmt.Fprintf(p.out, "\nStandings at %s:\n", safe(name))
	for _, s := range all {
		fmt.Fprintln(p.out, "  "+bold.Render(safe(s.Name)))
		wrapped(p.out, "    ", safe(standingText(s)), p.width)
	}
}

// standingText is what a standing gives and costs, in words.
func standingText(s client.Standing) string {
	features := "All features."
	if len(s.Lacks) > 0 {
		features = "Not available: " + strings.Join(s.Lacks, ", ") + "."
	}
	return fmt.Sprintf("%s. Grants last %d days, certificates %d days, %d devices. %s %s", s.Costs, s.GrantDays, s.CertificateDays, s.Places, features, s.Alone)
}

// addAuthority shows who an authority is and adds it once that was accepted.
func (p *program) addAuthority(ctx context.Context, a client.NewAuthority) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	if a.Accept == "" {
		f, err := b.LookAtAuthority(ctx, a.URL)
		if err != nil {
			return err
		}
		if p.json {
			if err := p.printJSON(f); err != nil {
				return err
			}
		} else {
			known := "This computer does not trust it yet."
			if f.RootKnown {
				known = "This computer already trusts it."
			}
			fmt.Fprintf(p.out, "%s at %s\nTLS root: %s\n  SHA-256 %s\n  %s\n", safe(f.Name), f.URL, safe(f.RootName), f.Root, known)
			p.printStandings(f.Name, f.Standings)
		}
		if p.json || !p.terminal || p.unattended {
			return &exitError{exitPerson, "To add the authority, accept it: --accept " + f.Accept}
		}
		fmt.Fprint(p.err, "\nCompare the fingerprint with the one that its owner states. Accept it? [y/N] ")
		if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
			return &exitError{exitPerson, "The authority was not added."}
		}
		a.Accept = f.Accept
	}
	added, err := b.AddAuthority(ctx, a)
	if err != nil {
		return err
	}
	if p.json {
		return p.printJSON(added)
	}
	fmt.Fprintf(p.out, "%s was added.\n", added.Name)
	fmt.Fprintf(p.err, "Sign in: earlybench account sign-in %s\n", added.Name)
	return nil
}

func (p *program) accountCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "account", Short: "Accounts at authorities: which one is in use, and what it may do", Args: cobra.NoArgs}, (*client.Client).Accounts, p.printAccounts)
	wait := true
	in := &cobra.Command{Use: "sign-in [AUTHORITY]", Short: "Sign in: prints an address to open and a code to type there", Args: cobra.MaximumNArgs(1),
		Long: `Prints the address of a page of the authority, and a code. Open the page, type the
code, and sign in or create an account there. No password is typed here. The first
account that signs in is the one in use.`,
		RunE: func(c *cobra.Command, args []string) error {
			at := client.SignInAt{}
			if len(args) == 1 {
				at.Authority = args[0]
			}
			return p.signIn(c.Context(), at, wait)
		}}
	in.Flags().BoolVar(&wait, "wait", true, "wait until somebody has typed the code")
	var crew string
	set := &cobra.Command{Use: "set ACCOUNT", Short: "Choose the account in use, and one of its crews", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		a, err := b.UseAccount(c.Context(), args[0], client.AccountChange{Use: true, Crew: crew})
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(a)
		}
		fmt.Fprintf(p.out, "%s at %s is now in use, with the crew %s.\n", a.ID, a.Authority, a.Crew)
		return nil
	}}
	set.Flags().StringVar(&crew, "crew", "", "which of its crews (default: the one used last)")
	force := false
	out := &cobra.Command{Use: "sign-out ACCOUNT", Short: "Sign an account out at its authority, and forget it", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.SignOutAccount(c.Context(), args[0], force); err != nil {
			return err
		}
		p.sayf("%s is signed out.\n", args[0])
		return nil
	}}
	out.Flags().BoolVar(&force, "force", false, "forget it even if its authority does not answer")
	c.AddCommand(in, set, out)
	return c
}

func (p *program) printAccounts(all []client.Account) {
	if len(all) == 0 {
		empty(p.out, "No account yet. Sign in, or make one: earlybench account sign-in")
		return
	}
	var rows [][]string
	for _, a := range all {
		used := ""
		if a.Used {
			used = "in use"
		}
		state := "signed in since " + clockText(a.Since)
		if a.State == "out" {
			state = "signed out by the authority: earlybench account sign-in " + a.Authority
		}
		rows = append(rows, []string{safe(a.ID), a.Authority, used, safe(a.Crew), state})
	}
	p.table([]string{"account", "authority", "", "crew", ""}, rows)
	for _, a := range all {
		for _, c := range a.Crews {
			if a.Used && c.Name == a.Crew {
				fmt.Fprintf(p.out, "\nCrew %s, number %s: standing %s, %d of %d places in the register are taken.\n", safe(c.Name), safe(c.Number), safe(c.Standing.Name), c.Used, c.Standing.Places)
				wrapped(p.out, "  ", safe(standingText(c.Standing)), p.width)
			}
		}
	}
}

func (p *program) signIn(ctx context.Context, at client.SignInAt, wait bool) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	code, err := b.SignInAccount(ctx, at)
	if err != nil {
		return err
	}
	if p.json && !wait {
		return p.printJSON(code)
	}
	w := p.out
	if p.json {
		w = p.err
	}
	fmt.Fprintf(w, "Open   %s\nType   %s\nSign in to your account at %s there, or create one. The code is valid until %s.\n", safe(code.Page), bold.Render(safe(code.Code)), code.Authority, code.Ends.Local().Format(time.TimeOnly))
	if !wait {
		fmt.Fprintf(p.err, "The bench waits for it: earlybench job show %s\n", code.Job)
		return nil
	}
	j, err := b.Job(ctx, code.Job)
	if err != nil {
		return err
	}
	if _, err = p.follow(ctx, b, j); err != nil {
		if errors.Is(err, context.Canceled) {
			b.StopJob(context.WithoutCancel(ctx), code.Job) //nolint:errcheck // the code ends by itself
		}
		return err
	}
	all, err := b.Accounts(ctx)
	if err != nil {
		return err
	}
	if p.json {
		return p.printJSON(client.List[client.Account]{Items: all})
	}
	p.printAccounts(all)
	return nil
}

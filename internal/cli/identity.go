package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/replace"
)

func (p *program) identityCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "identity", Short: "Signing identities: private keys with their certificates", Args: cobra.NoArgs}, (*client.Client).Identities, p.printIdentities)
	c.AddCommand(p.identityNew(), p.identityShow(), p.identityRenew(), p.identityRevoke(), p.identityImport(), p.identityExport(), p.identityDrop())
	return c
}

// identityStates say how an identity stands.
var identityStates = map[string]string{"good": "", "ending": "ends soon; it is renewed automatically while the safe is open", "ended": "has ended", "revoked": "revoked",
	"elsewhere": "its key is not on this computer"}

func (p *program) printIdentities(all []client.Identity) {
	if len(all) == 0 {
		empty(p.out, "No signing identity yet. Make one: earlybench identity new NAME")
		return
	}
	var rows [][]string
	for _, i := range all {
		state := identityStates[i.State]
		if !i.Former.IsZero() && i.State != "revoked" {
			state = strings.TrimPrefix(state+"; the previous one is valid until "+i.Former.Local().Format("2 Jan 2006"), "; ")
		}
		rows = append(rows, []string{safe(i.Name), cmp.Or(i.Authority, "from a file"), safe(i.Crew), i.Ends.Local().Format("2 Jan 2006"), state})
	}
	p.table([]string{"identity", "authority", "crew", "ends", ""}, rows)
}

// onIdentity makes a command for one identity.
func (p *program) onIdentity(use, short string, do func(ctx context.Context, b *client.Client, name string) error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return do(c.Context(), b, args[0])
	}}
}

func (p *program) printIdentity(i client.Identity) error {
	if p.json {
		return p.printJSON(i)
	}
	p.printIdentities([]client.Identity{i})
	return nil
}

func (p *program) identityNew() *cobra.Command {
	return p.onIdentity("new NAME", "Make a key in the safe, and get a certificate for it and your crew", func(ctx context.Context, b *client.Client, name string) error {
		i, err := b.MakeIdentity(ctx, name)
		if err != nil {
			return err
		}
		return p.printIdentity(i)
	})
}

func (p *program) identityShow() *cobra.Command {
	return p.onIdentity("show NAME", "Show an identity, with its certificate in PEM", func(ctx context.Context, b *client.Client, name string) error {
		i, err := p.identityOf(ctx, b, name)
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(i)
		}
		p.printIdentities([]client.Identity{i})
		fmt.Fprintf(p.out, "\nSerial number %s, issued by %s\n%s", i.Serial, safe(cmp.Or(i.Issuer, i.Authority)), i.PEM)
		return nil
	})
}

func (p *program) identityOf(ctx context.Context, b *client.Client, name string) (client.Identity, error) {
	all, err := b.Identities(ctx)
	if err != nil {
		return client.Identity{}, err
	}
	for _, i := range all {
		if i.Name == name {
			return i, nil
		}
	}
	return client.Identity{}, usage("there is no identity %.60q; see earlybench identity", name)
}

func (p *program) identityRenew() *cobra.Command {
	return p.onIdentity("renew NAME", "Get a new certificate; the old one stays valid until it ends", func(ctx context.Context, b *client.Client, name string) error {
		i, err := b.RenewIdentity(ctx, name)
		if err != nil {
			return err
		}
		return p.printIdentity(i)
	})
}

func (p *program) identityRevoke() *cobra.Command {
	yes := false
	c := p.onIdentity("revoke NAME", "Revoke the certificates of an identity, permanently", func(ctx context.Context, b *client.Client, name string) error {
		i, err := p.identityOf(ctx, b, name)
		if err != nil {
			return err
		}
		if !yes {
			text := fmt.Sprintf("This revokes the certificate of %s, which is valid until %s. It can then no longer sign or be renewed, on any computer.", safe(name), i.Ends.Local().Format("2 January 2006"))
			breaks, err := p.breaksWith(ctx, b, name)
			if err != nil {
				return err
			}
			text = strings.TrimSpace(text + "\n" + breaks)
			if err := p.askFirst(text); err != nil {
				return err
			}
		}
		if err := b.RevokeIdentity(ctx, name); err != nil {
			return err
		}
		p.sayf("%s is revoked.\n", name)
		return nil
	})
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// breaksWith says which grants are for an identity, and for which devices: what it signs runs there
// under them, and they are not renewed once it is revoked.
func (p *program) breaksWith(ctx context.Context, b *client.Client, name string) (string, error) {
	by, err := b.Developer(ctx, name)
	if err != nil {
		return "", err
	}
	all, err := b.Statements(ctx)
	if err != nil {
		return "", err
	}
	var lines []string
	for _, s := range all {
		if s.Key == by.Thumbprint && s.State == "good" {
			lines = append(lines, fmt.Sprintf("  %s of %s/%s on %s, to %s, is not issued again", anyText(s.App, "every app"), safe(s.Crew), safe(s.Developer), devicesText(s), s.Ends.Local().Format("2 January 2006")))
		}
	}
	if len(lines) == 0 {
		return "No grant uses it.", nil
	}
	return "Grants that use it:\n" + strings.Join(lines, "\n"), nil
}

func (p *program) identityDrop() *cobra.Command {
	yes := false
	c := p.onIdentity("drop NAME", "Forget an identity and remove its key from the safe", func(ctx context.Context, b *client.Client, name string) error {
		if !yes {
			if err := p.askFirst(fmt.Sprintf("This removes the key of %s from the safe. Unless it was exported, nobody can sign with it again. Its certificate is not revoked.", safe(name))); err != nil {
				return err
			}
		}
		return b.DropIdentity(ctx, name)
	})
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (p *program) identityImport() *cobra.Command {
	var from opening
	c := &cobra.Command{Use: "import NAME FILE", Short: "Import an identity from a PKCS #12 file", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		data, err := os.ReadFile(args[1])
		if err != nil {
			return usage("read the file: %w", err)
		}
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		sealed, err := p.open(s, from, "pkcs12.import", "", "Password of the PKCS #12 file", false)
		if err != nil {
			return err
		}
		i, err := b.ImportIdentity(c.Context(), args[0], data, sealed.Envelope)
		if err != nil {
			return err
		}
		return p.printIdentity(i)
	}}
	c.Flags().StringVar(&from.passphraseFile, "passphrase-file", "", "file with the password of the PKCS #12 file in its first line")
	return c
}

func (p *program) identityExport() *cobra.Command {
	var now, apart opening
	c := &cobra.Command{Use: "export NAME FILE", Short: "Export an identity to a PKCS #12 file, protected by its own password", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		proof, err := p.proof(s, now, "export")
		if err != nil {
			return err
		}
		sealed, err := p.open(s, apart, "pkcs12.export", "", "Password for the PKCS #12 file (8 characters or more)", true)
		if err != nil {
			return err
		}
		out, err := b.ExportIdentity(c.Context(), args[0], sealed.Envelope, proof)
		if err != nil {
			return err
		}
		if err := replace.File(args[1], out.Data, 0o600); err != nil {
			return fmt.Errorf("write the file: %w", err)
		}
		p.sayf("%s contains the key of %s with its certificate.\n", args[1], args[0])
		return nil
	}}
	now.flags(c, "the safe")
	c.Flags().StringVar(&apart.passphraseFile, "export-passphrase-file", "", "file with the new password in its first line")
	return c
}

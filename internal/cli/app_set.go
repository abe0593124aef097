package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/internal/replace"
)

func (p *program) appSet() *cobra.Command {
	var id, identity, accept string
	c := &cobra.Command{Use: "set DIR", Short: "Set an app's id and identity in its project, after showing the difference", Args: cobra.ExactArgs(1),
		Long: `Takes an app id for your crew at the authority, and writes it and the signing
identity into .earlybench.yaml. Comments and everything else stay as they are. The
project's templates are filled in at the next build. Nothing is written before you
accept the difference.`,
		RunE: func(c *cobra.Command, args []string) error {
			values := map[string]string{}
			for key, v := range map[string]string{"id": id, "identity": identity} {
				if c.Flags().Changed(key) {
					values[key] = v
				}
			}
			if len(values) == 0 {
				return usage("nothing to set: give --id CREW/APP or --identity NAME")
			}
			return p.setApp(c.Context(), args[0], values, accept)
		}}
	c.Flags().StringVar(&id, "id", "", "app id: CREW/APP")
	c.Flags().StringVar(&identity, "identity", "", "name of the signing identity; NAME@PEER is an identity of a peer, @PEER its development key")
	c.Flags().StringVar(&accept, "accept", "", "digest of the difference that you accept, as shown by this command")
	return c
}

// signs looks whether there is an identity, here or at a peer; "" stands for none.
func (p *program) signs(ctx context.Context, b *client.Client, identity string) (err error) {
	if _, peer := appfile.SplitIdentity(identity); peer != "" {
		_, err = b.Developer(ctx, identity)
	} else if identity != "" {
		_, err = p.identityOf(ctx, b, identity)
	}
	return err
}

func (p *program) setApp(ctx context.Context, dir string, values map[string]string, accept string) error {
	file := filepath.Join(dir, appfile.ProjectFile)
	before, err := os.ReadFile(file)
	if err != nil {
		return usage("read the project: %w", err)
	}
	after, err := appfile.Set(before, values)
	if err != nil {
		return usage("%s: %w", file, err)
	}
	b, err := p.bench()
	if err != nil {
		return err
	}
	if err := p.signs(ctx, b, values["identity"]); err != nil {
		return err
	}
	if id := values["id"]; id != "" {
		if err := b.TakeApp(ctx, id); err != nil {
			return err
		}
	}
	difference, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(string(before)), B: difflib.SplitLines(string(after)), FromFile: file, ToFile: file + " (new)", Context: 2})
	if err != nil {
		return err
	}
	if difference == "" {
		p.sayf("%s already says so.\n", file)
		return nil
	}
	sum := sha256.Sum256(after)
	digest := hex.EncodeToString(sum[:])
	if accept == "" {
		if p.json {
			if err := p.printJSON(projectChange{file, difference, digest}); err != nil {
				return err
			}
		} else {
			fmt.Fprint(p.out, safe(difference))
		}
		if p.json || !p.terminal || p.unattended {
			return &exitError{exitPerson, "To change the project, accept the difference: --accept " + digest}
		}
		fmt.Fprint(p.err, "\nWrite it? [y/N] ")
		if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
			return &exitError{exitPerson, "Nothing was written."}
		}
		accept = digest
	}
	if accept != digest {
		return &exitError{exitFailed, "The difference is no longer the one that was accepted. Look at it again."}
	}
	if err := replace.File(file, after, 0o644); err != nil {
		return fmt.Errorf("write the project: %w", err)
	}
	p.sayf("%s is written.\n", file)
	return nil
}

// projectChange is what app set --json prints.
type projectChange struct {
	Path       string `json:"path"`
	Difference string `json:"difference"`
	Accept     string `json:"accept"`
}

// appSecret are the commands for an app's secrets.
func (p *program) appSecret() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Secrets of an app, such as service credentials, for its templates", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		_, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		items := []client.SafeItem{}
		for _, i := range s.Contents {
			if i.Kind == "secret" {
				items = append(items, i)
			}
		}
		if p.json {
			return p.printJSON(client.List[client.SafeItem]{Items: items})
		}
		if len(items) == 0 {
			empty(p.out, "No secret yet. Put one into the safe: earlybench app secret set APP NAME")
			return nil
		}
		var rows [][]string
		for _, i := range items {
			app, name, _ := strings.Cut(i.Name, " ")
			rows = append(rows, []string{safe(app), safe(name), clockText(i.Made)})
		}
		p.table([]string{"app", "secret", "since"}, rows)
		return nil
	}}
	var file string
	set := &cobra.Command{Use: "set APP NAME", Short: "Put a secret into the safe; templates use it as {{secret NAME}}", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		sealed, err := p.open(s, opening{passphraseFile: file}, "secret.put", args[0]+" "+args[1], fmt.Sprintf("Secret %s of %s", safe(args[1]), safe(args[0])), false)
		if err != nil {
			return err
		}
		if err := b.SetSecret(c.Context(), args[0], args[1], sealed.Envelope); err != nil {
			return err
		}
		p.sayf("It is in the safe. Templates use it as {{secret %s}}.\n", args[1])
		return nil
	}}
	set.Flags().StringVar(&file, "from", "", "file with the secret in its first line")
	drop := &cobra.Command{Use: "drop APP NAME", Short: "Remove a secret from the safe", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropSecret(c.Context(), args[0], args[1])
	}}
	c.AddCommand(set, drop)
	return c
}

package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/replace"
)

func (p *program) safeCommand() *cobra.Command {
	c := &cobra.Command{Use: "safe", Short: "Private keys and secrets of this bench, and who may use them", Args: cobra.NoArgs,
		Long: `Shows whether the safe is locked, what is in it, what is waiting for your consent, and
which uses are allowed for a time without asking. A key never leaves the safe: signing happens
inside it. The safe is opened with a passphrase, or with an unlock key in a file.`,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			s, err := b.Safe(c.Context())
			if err != nil {
				return err
			}
			return p.printSafe(s)
		}}
	uses := lists(p, &cobra.Command{Use: "uses", Short: "Which items of the safe were used, by whom and for what, and who consented", Args: cobra.NoArgs}, (*client.Client).SafeUses, p.printUses)
	c.AddCommand(p.safeMake(), p.safeUnlock(), p.safeLock(), p.safeSet(), p.safeConsent(), p.safeWithdraw(), uses, p.safeExport(), p.safeImport(), p.safeHold())
	return c
}

func (p *program) printSafe(s client.Safe) error {
	if p.json {
		return p.printJSON(s)
	}
	by := "passphrase"
	if !s.ByPassphrase {
		by = "unlock key"
	}
	switch s.State {
	case "missing":
		empty(p.out, "This bench has no safe for keys yet. Make one: earlybench safe make")
		return nil
	case "locked":
		fmt.Fprintf(p.out, "The safe is locked. Open it with its %s: earlybench safe unlock\n", by)
	default:
		fmt.Fprintf(p.out, "%s It opens with its %s.\n", openText(s), by)
	}
	var rows [][]string
	for _, i := range s.Contents {
		about := i.Thumbprint
		if i.For == "development" {
			about += "  signs the apps that this bench packs"
		}
		rows = append(rows, []string{i.ID, i.Kind, safe(i.Name), clockText(i.Made), about})
	}
	if len(rows) > 0 {
		p.table([]string{"item", "", "name", "made", ""}, rows)
	}
	p.printRequests(s.Requests)
	p.printRules(s.Rules)
	return nil
}

// openText says until when an open safe is open.
func openText(s client.Safe) string {
	if s.Locks.IsZero() {
		return "The safe is open until somebody locks it."
	}
	return fmt.Sprintf("The safe is open. It locks at %s if nobody uses it.", clockText(s.Locks))
}

func (p *program) printRequests(all []client.SafeRequest) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(p.out, "\nWaiting for your consent:")
	var rows [][]string
	for _, r := range all {
		rows = append(rows, []string{r.ID, r.Actor, safe(r.Name), safe(r.Purpose), safe(strings.TrimSpace(r.Document)), "until " + r.Ends.Local().Format(time.TimeOnly)})
	}
	p.table([]string{"request", "who", "uses", "to", "which", ""}, rows)
	fmt.Fprintln(p.err, "Answer one: earlybench safe consent REQUEST")
}

func (p *program) printRules(all []client.SafeRule) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(p.out, "\nAllowed without asking:")
	var rows [][]string
	for _, r := range all {
		rows = append(rows, []string{safe(r.Name), r.Actor, safe(r.Purpose), safe(r.App), clockText(r.Ends), r.By})
	}
	p.table([]string{"item", "who", "to", "for", "until", "by"}, rows)
}

func (p *program) printUses(all []client.SafeUse) {
	if len(all) == 0 {
		empty(p.out, "Nothing in the safe has been used yet.")
		return
	}
	var rows [][]string
	for _, u := range all {
		rows = append(rows, []string{clockText(u.At), u.Actor, safe(u.Name), safe(u.Purpose), safe(u.Document), u.Consent})
	}
	p.table([]string{"when", "who", "used", "to", "which", "consent"}, rows)
}

func (p *program) safeMake() *cobra.Command {
	var o opening
	c := &cobra.Command{Use: "make", Short: "Make the safe, with a passphrase or an unlock key", Args: cobra.NoArgs,
		Long: `Makes the safe and leaves it open. You are asked for a passphrase twice; there is no
way in without it. With --key-file an unlock key opens it instead: the file is created
if it does not exist. Whoever has that file can open the safe, so keep it elsewhere.`,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			s, err := b.Safe(c.Context())
			if err != nil {
				return err
			}
			if s.State != "missing" {
				return &exitError{exitFailed, "There is already a safe. Change its passphrase: earlybench safe set --new-passphrase"}
			}
			opens, err := p.open(s, o, "make", "", "Passphrase for the safe of this computer (8 characters or more)", true)
			if err != nil {
				return err
			}
			if s, err = b.MakeSafe(c.Context(), opens); err != nil {
				return err
			}
			return p.printSafe(s)
		}}
	o.flags(c, "the safe")
	return c
}

func (p *program) safeUnlock() *cobra.Command {
	var o opening
	c := &cobra.Command{Use: "unlock", Short: "Open the safe", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		if !s.ByPassphrase && o.keyFile == "" {
			return &exitError{exitPerson, "The safe of this computer is opened with an unlock key. Give its file: earlybench safe unlock --key-file FILE"}
		}
		opens, err := p.open(s, o, "unlock", "", "Passphrase of this computer's safe", false)
		if err != nil {
			return err
		}
		if s, err = b.UnlockSafe(c.Context(), opens); err != nil {
			return err
		}
		if p.json {
			return p.printJSON(s)
		}
		fmt.Fprintln(p.out, openText(s))
		return nil
	}}
	o.flags(c, "the safe")
	return c
}

func (p *program) safeLock() *cobra.Command {
	return &cobra.Command{Use: "lock", Short: "Lock the safe: the process that holds it ends", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.LockSafe(c.Context()); err != nil {
			return err
		}
		p.sayf("The safe is locked.\n")
		return nil
	}}
}

func (p *program) safeSet() *cobra.Command {
	var now opening
	var idle time.Duration
	var newPassphrase bool
	var newPassphraseFile, newKey string
	c := &cobra.Command{Use: "set", Short: "Change the passphrase, or the idle time after which the safe locks", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		if idle == 0 && !newPassphrase && newPassphraseFile == "" && newKey == "" {
			return usage("nothing to change: give --idle, --new-passphrase or --new-key-file")
		}
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		change := client.SafeChange{Idle: int64(idle.Seconds())}
		if newPassphrase || newPassphraseFile != "" || newKey != "" {
			if change.Proof, err = p.proof(s, now, "change"); err != nil {
				return err
			}
			opens, err := p.open(s, opening{newPassphraseFile, newKey}, "change", "", "New passphrase for this computer's safe", true)
			if err != nil {
				return err
			}
			change.New = &opens
		}
		if s, err = b.ChangeSafe(c.Context(), change); err != nil {
			return err
		}
		return p.printSafe(s)
	}}
	now.flags(c, "the safe")
	c.Flags().DurationVar(&idle, "idle", 0, "idle time after which it locks, such as 30m")
	c.Flags().BoolVar(&newPassphrase, "new-passphrase", false, "ask for a new passphrase")
	c.Flags().StringVar(&newPassphraseFile, "new-passphrase-file", "", "file with the new passphrase in its first line")
	c.Flags().StringVar(&newKey, "new-key-file", "", "file of an unlock key that opens the safe from now on")
	return c
}

func (p *program) safeConsent() *cobra.Command {
	var o opening
	var within span
	var refuse bool
	c := &cobra.Command{Use: "consent [REQUEST]", Short: "Consent to the use of a key; without a request, list those that are waiting", Args: cobra.MaximumNArgs(1),
		Long: `Answers a request to use a key. You are asked for the safe's passphrase, so that no
program can consent in your place. With --for the same caller may do the same for the
same app for that time without asking, 31 days at most.`,
		RunE: func(c *cobra.Command, args []string) error {
			b, s, err := p.theSafe(c.Context())
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if p.json {
					return p.printJSON(client.List[client.SafeRequest]{Items: s.Requests})
				}
				if len(s.Requests) == 0 {
					empty(p.out, "Nothing is waiting for your consent.")
				}
				p.printRequests(s.Requests)
				return nil
			}
			a := client.SafeAnswer{Yes: !refuse, For: int64(time.Duration(within).Seconds())}
			if a.Yes {
				p.describeRequest(s, args[0])
				if a.Proof, err = p.proof(s, o, args[0]); err != nil {
					return err
				}
			}
			if err := b.AnswerSafe(c.Context(), args[0], a); err != nil {
				return err
			}
			p.sayf("%s\n", map[bool]string{true: "Consented.", false: "Refused."}[a.Yes])
			return nil
		}}
	o.flags(c, "the safe")
	c.Flags().Var(&within, "for", "allow the same for this long without asking, such as 8h or 30d")
	c.Flags().BoolVar(&refuse, "refuse", false, "refuse it")
	return c
}

// describeRequest says what is about to be consented to.
func (p *program) describeRequest(s client.Safe, id string) {
	for _, r := range s.Requests {
		if r.ID == id {
			fmt.Fprintf(p.err, "%s wants to use %q to %s: %s\n", r.Actor, safe(r.Name), safe(r.Purpose), safe(r.Document))
		}
	}
}

func (p *program) safeWithdraw() *cobra.Command {
	return &cobra.Command{Use: "withdraw ITEM", Short: "Stop allowing uses of an item without asking", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		for _, i := range s.Contents {
			if i.ID == args[0] || i.Name == args[0] {
				return b.WithdrawSafe(c.Context(), i.ID)
			}
		}
		return usage("there is no %.60q in the safe; see earlybench safe", args[0])
	}}
}

func (p *program) safeExport() *cobra.Command {
	var o, apart opening
	c := &cobra.Command{Use: "export FILE", Short: "Export everything in the safe for another computer, under a separate passphrase", Args: cobra.ExactArgs(1),
		Long: `Writes an age file with every key and secret of the safe. It does not contain the bench's
own link key, by which devices know this computer, nor admissions,
which devices grant to that key. On the other computer: earlybench safe import FILE`,
		RunE: func(c *cobra.Command, args []string) error {
			b, s, err := p.theSafe(c.Context())
			if err != nil {
				return err
			}
			proof, err := p.proof(s, o, "export")
			if err != nil {
				return err
			}
			sealed, err := p.open(s, apart, "export", "", "Passphrase for the export (8 characters or more)", true)
			if err != nil {
				return err
			}
			out, err := b.ExportSafe(c.Context(), sealed.Envelope, proof)
			if err != nil {
				return err
			}
			if err := replace.File(args[0], out.Data, 0o600); err != nil {
				return fmt.Errorf("write the export: %w", err)
			}
			p.sayf("%s contains %d items. The bench's own link key stays here, so devices will ask again there.\n", args[0], len(s.Contents))
			return nil
		}}
	o.flags(c, "the safe")
	c.Flags().StringVar(&apart.passphraseFile, "export-passphrase-file", "", "file with the export's passphrase in its first line")
	return c
}

func (p *program) safeImport() *cobra.Command {
	var from opening
	c := &cobra.Command{Use: "import FILE", Short: "Import the export of another safe", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		data, err := os.ReadFile(args[0])
		if err != nil {
			return usage("read the export: %w", err)
		}
		b, s, err := p.theSafe(c.Context())
		if err != nil {
			return err
		}
		sealed, err := p.open(s, from, "import", "", "Passphrase of the export", false)
		if err != nil {
			return err
		}
		items, err := b.ImportSafe(c.Context(), data, sealed.Envelope)
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(client.List[client.SafeItem]{Items: items})
		}
		fmt.Fprintf(p.out, "%d new items. Those already here stay as they are.\n", len(items))
		return nil
	}}
	c.Flags().StringVar(&from.passphraseFile, "passphrase-file", "", "file with the export's passphrase in its first line")
	return c
}

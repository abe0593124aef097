package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) accessCommand() *cobra.Command {
	c := &cobra.Command{Use: "access", Short: "Keys that let programs use the bench", Args: cobra.NoArgs,
		Long: `Lists the access keys. A program gives its key in EARLYBENCH_ACCESS, or over HTTP as
"Authorization: Bearer KEY". A key may look, use or maintain. It can never give a
person's consent, or do what only the bench's owner may. Pages of people without a bench
(earlybench console --person NAME) are listed as well.`,
	}
	lists(p, c, (*client.Client).Accesses, p.printAccess)
	var n client.NewAccess
	add := &cobra.Command{Use: "add NAME", Short: "Make a key; its secret is printed only once", Args: cobra.ExactArgs(1),
		Example: "  earlybench access add nightly --may use --for 720h",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			n.Name = args[0]
			made, err := b.AddAccess(c.Context(), n)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(made)
			}
			fmt.Fprintln(p.out, made.Secret)
			fmt.Fprintf(p.err, "%s may %s until %s. The key is not shown again.\nNext: EARLYBENCH_ACCESS=… earlybench rack; end it with earlybench access drop %s\n",
				made.Name, strings.Join(made.Rights, ", "), made.Ends.Local().Format("2 Jan 2006 15:04"), made.Name)
			return nil
		}}
	add.Flags().StringSliceVar(&n.Rights, "may", nil, "rights: look, use, maintain")
	add.Flags().StringVar(&n.For, "for", "720h", "how long it is valid, a year at most")
	required(add, "may")
	drop := &cobra.Command{Use: "drop NAME", Short: "End a key at once", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropAccess(c.Context(), args[0])
	}}
	c.AddCommand(add, drop)
	browsers := lists(p, &cobra.Command{Use: "browsers", Short: "Browsers that are signed in", Args: cobra.NoArgs}, (*client.Client).Sessions, p.printSessions)
	browsers.AddCommand(&cobra.Command{Use: "drop SESSION", Short: "Sign a browser out", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.EndSession(c.Context(), args[0])
	}})
	c.AddCommand(browsers)
	return c
}

func (p *program) printAccess(keys []client.Access) {
	if len(keys) == 0 {
		empty(p.out, "No access key yet. Make one: earlybench access add NAME --may use")
		return
	}
	var rows [][]string
	for _, k := range keys {
		ends, used := clockText(k.Ends), "never"
		if k.Over {
			ends += " (has ended)"
		}
		if k.Used != nil {
			used = clockText(*k.Used)
		}
		rows = append(rows, []string{k.Name, strings.Join(k.Rights, ", "), ends, used, pageText(k)})
	}
	p.table([]string{"key", "may", "ends", "used last", ""}, rows)
}

// pageText says which devices a key of a person is for, and how its page is.
func pageText(k client.Access) string {
	if k.Page == "" {
		return ""
	}
	text := "a person's page of " + strings.Join(k.Devices, ", ") + " at " + k.Page
	switch {
	case k.Over:
	case k.Trouble != "":
		text += bad.Render(" is not served: ") + safe(k.Trouble)
	case !k.Entered:
		text += ", not opened yet"
	}
	return text
}

func (p *program) auditCommand() *cobra.Command {
	return lists(p, &cobra.Command{Use: "audit", Short: "Who did what, the newest last", Args: cobra.NoArgs}, (*client.Client).Audit, func(lines []client.AuditLine) {
		if len(lines) == 0 {
			empty(p.out, "Nothing is recorded yet. Every change that somebody makes is listed here.")
			return
		}
		var rows [][]string
		for i := len(lines) - 1; i >= 0; i-- {
			l := lines[i]
			rows = append(rows, []string{strconv.FormatInt(l.ID, 10), clockText(l.At), l.Actor, l.Operation, safe(l.Subject), outcomeText(l.Outcome)})
		}
		p.table([]string{"line", "when", "who", "what", "of", ""}, rows)
	})
}

// outcomeText says how an operation ended.
func outcomeText(status int) string {
	switch {
	case status == 0:
		return "cut off: the service ended"
	case status < 400:
		return "done"
	case status == 401 || status == 403:
		return "refused"
	}
	return fmt.Sprintf("failed (%d)", status)
}

func (p *program) printSessions(all []client.Session) {
	if len(all) == 0 {
		empty(p.out, "No browser is signed in. Sign one in: earlybench console")
		return
	}
	var rows [][]string
	for _, n := range all {
		ends := clockText(n.Ends)
		if n.Confirmed != nil {
			ends += ", confirmed until " + n.Confirmed.Local().Format("15:04")
		}
		rows = append(rows, []string{n.ID, clockText(n.Created), clockText(n.Used), ends, oneLine(safe(n.Agent), 60)})
	}
	p.table([]string{"session", "signed in", "used last", "ends", "browser"}, rows)
}

package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) tidyCommand() *cobra.Command {
	yes := false
	c := &cobra.Command{Use: "tidy", Short: "Remove what the bench no longer needs to keep", Args: cobra.NoArgs,
		Long: `Lists what nothing uses any more, by the rules for how long things are kept, and asks
whether to remove it. The bench does the same by itself every six hours.`,
		Example: "earlybench tidy\nearlybench tidy --yes\nearlybench tidy rules --tryouts 90d --most 2GB",
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			plan, err := b.Tidy(c.Context())
			if err != nil {
				return err
			}
			if !yes {
				if p.json {
					return p.printJSON(plan)
				}
				p.printTidy(plan)
				switch {
				case len(plan.Rows) == 0:
					return nil
				case p.unattended || !p.terminal:
					fmt.Fprintln(p.err, "To remove it: earlybench tidy --yes")
					return nil
				}
				if err := p.askFirst("Only a backup can bring it back."); err != nil {
					return err
				}
			}
			went, err := b.TidyNow(c.Context())
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(went)
			}
			if len(went.Rows) == 0 {
				p.printTidy(went)
				return nil
			}
			fmt.Fprintf(p.out, "Removed: %s, %s of files. The records now take %s, the files %s.\n", things(went.Rows), bytesText(went.Bytes), bytesText(went.Records), bytesText(went.Files))
			return nil
		}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.AddCommand(p.tidyRules())
	return c
}

// things says how many things rows are about.
func things(rows []client.TidyRow) string {
	var each []string
	counts := map[string]int{}
	for _, r := range rows {
		if counts[r.Kind] == 0 {
			each = append(each, r.Kind)
		}
		counts[r.Kind] += r.Count
	}
	for i, kind := range each {
		each[i] = fmt.Sprintf("%d %s", counts[kind], numbered(kind, counts[kind]))
	}
	return strings.Join(each, ", ")
}

// numbered is the name of a kind of things, such as app files, for a number of them.
func numbered(kind string, n int) string {
	if n != 1 {
		return kind
	}
	words := strings.Fields(kind)
	for i, w := range words {
		if one, plural := strings.CutSuffix(w, "s"); plural {
			words[i] = one
			break
		}
	}
	return strings.Join(words, " ")
}

func (p *program) printTidy(t client.Tidy) {
	if len(t.Rows) == 0 {
		fmt.Fprintln(p.out, "There is nothing to remove: everything is in use, or newer than the rules say (earlybench tidy rules).")
	} else {
		var rows [][]string
		for _, r := range t.Rows {
			size := ""
			if r.Bytes > 0 {
				size = bytesText(r.Bytes)
			}
			rows = append(rows, []string{strconv.Itoa(r.Count), strings.TrimSpace(numbered(r.Kind, r.Count) + " " + safe(r.Name)), size, r.Since.Local().Format(time.DateOnly), safe(r.Why)})
		}
		p.table([]string{"count", "what", "size", "since", "why"}, rows)
	}
	fmt.Fprintf(p.out, "Kept: %s of records, %s of files.\n", bytesText(t.Records), bytesText(t.Files))
}

func (p *program) tidyRules() *cobra.Command {
	spans := map[string]*span{}
	most := ""
	c := &cobra.Command{Use: "rules", Short: "Show or set how long things are kept", Args: cobra.NoArgs,
		Example: "earlybench tidy rules\nearlybench tidy rules --apps 14d --most 2GB", RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			t, err := b.Tidy(c.Context())
			if err != nil {
				return err
			}
			for name, days := range map[string]*int{"tryouts": &t.Rules.Tryouts, "jobs": &t.Rules.Jobs, "apps": &t.Rules.Apps, "packs": &t.Rules.Packs, "audit": &t.Rules.Audit} {
				if c.Flags().Changed(name) {
					if *days = int(time.Duration(*spans[name]).Hours() / 24); *days < 1 {
						return usage("--%s: give 1 day or more, such as 14d", name)
					}
				}
			}
			if c.Flags().Changed("most") {
				if t.Rules.Most, err = readBytes(most); err != nil {
					return usage("--most: %w", err)
				}
			}
			if c.Flags().NFlag() > 0 {
				if t, err = b.SetTidy(c.Context(), t.Rules); err != nil {
					return err
				}
			}
			if p.json {
				return p.printJSON(t.Rules)
			}
			r := t.Rules
			for _, line := range []struct {
				what string
				days int
				but  string
			}{
				{"tryouts", r.Tryouts, "the newest of each app on each device stays"}, {"jobs that have ended", r.Jobs, ""},
				{"app files", r.Apps, "the newest of each app stays"}, {"support packs that no device needs", r.Packs, ""},
				{"audit and uses of the safe", r.Audit, ""},
			} {
				fmt.Fprintf(p.out, "%-36s %s\n", line.what, strings.TrimSuffix(fmt.Sprintf("%d days; %s", line.days, line.but), "; "))
			}
			fmt.Fprintf(p.out, "%-36s %s at most\n", "app files together", bytesText(r.Most))
			return nil
		}}
	for name, text := range map[string]string{"tryouts": "how long tryouts are kept, such as 90d", "jobs": "how long jobs are kept that have ended", "apps": "how long app files are kept",
		"packs": "how long support packs are kept that no device needs", "audit": "how long the audit and the uses of the safe are kept"} {
		spans[name] = new(span)
		c.Flags().Var(spans[name], name, text)
	}
	c.Flags().StringVar(&most, "most", "", "how much space app files may take, such as 2GB")
	return c
}

// readBytes reads a size such as 500MB or 2GB, in powers of 1000.
func readBytes(text string) (int64, error) {
	for unit, factor := range map[string]float64{"MB": 1e6, "GB": 1e9, "TB": 1e12} {
		if number, is := strings.CutSuffix(strings.ToUpper(strings.ReplaceAll(text, " ", "")), unit); is {
			if f, err := strconv.ParseFloat(number, 64); err == nil && f > 0 && f < 1e6 {
				return int64(f * factor), nil
			}
		}
	}
	return 0, fmt.Errorf("%.40q is not a size: write it like 500MB or 2GB", text)
}

package cli

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) endingsCommand() *cobra.Command {
	date := ""
	c := &cobra.Command{Use: "endings", Short: "What expires, when, and what to do before", Args: cobra.NoArgs,
		Long: `Lists everything that is valid for a limited time: signing identities, debug tokens,
grants, admissions on devices, standings of crews, support packs, access keys. With
--date it says what will not work on that day, and what to do before.`,
		Example: "earlybench endings\nearlybench endings --date 2027-01-15", RunE: func(c *cobra.Command, _ []string) error {
			var at time.Time
			if date != "" {
				day, err := time.ParseInLocation(time.DateOnly, date, time.Local)
				if err != nil {
					return usage("--date %q is not a date: write it as 2027-01-15", date)
				}
				at = day.Add(24*time.Hour - time.Second) // the end of that day
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			e, err := b.Endings(c.Context(), at)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(e)
			case date != "":
				p.printForecast(e)
				return nil
			}
			p.printEndings(e)
			return nil
		}}
	c.Flags().StringVar(&date, "date", "", "show what will not work on this day, such as 2027-01-15")
	renew := false
	calendar := &cobra.Command{Use: "calendar", Short: "Print the address of all endings as a calendar, for any calendar program", Args: cobra.NoArgs,
		Long: `Prints the address where a calendar program reads all endings (iCalendar, RFC 5545).
Whoever has the address can read it; --renew makes a new one, and the old one stops working.`, RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			address, err := b.CalendarAddress(c.Context(), renew)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(map[string]string{"url": address})
			}
			fmt.Fprintln(p.out, address)
			return nil
		}}
	calendar.Flags().BoolVar(&renew, "renew", false, "make a new secret, so that the old address stops working")
	c.AddCommand(calendar, p.endingsNotify())
	return c
}

func (p *program) endingsNotify() *cobra.Command {
	webhook, command, off := "", []string{}, false
	c := &cobra.Command{Use: "notify", Short: "Where notices of endings are sent besides the console: a webhook, a command", Args: cobra.NoArgs,
		Long: `Shows where notices are sent about what ends soon or has ended, each once. Messages to a
webhook are CloudEvents, signed as in Standard Webhooks with the secret printed here. A
command reads the same on its standard input; repeat --command for its arguments.`,
		Example: "earlybench endings notify --webhook https://hooks.example/bench\nearlybench endings notify --command /usr/local/bin/tell --command '--team'", RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			n, err := b.Notify(c.Context())
			if err != nil {
				return err
			}
			if c.Flags().Changed("webhook") {
				n.Webhook = webhook
			}
			if c.Flags().Changed("command") {
				n.Command = command
			}
			if off {
				n.Webhook, n.Command = "", []string{}
			}
			if c.Flags().NFlag() > 0 && (off || c.Flags().Changed("webhook") || c.Flags().Changed("command")) {
				n.Secret, n.Trouble = "", ""
				if n, err = b.SetNotify(c.Context(), n); err != nil {
					return err
				}
			}
			if p.json {
				return p.printJSON(n)
			}
			p.printNotify(n)
			return nil
		}}
	c.Flags().StringVar(&webhook, "webhook", "", "address that notices are posted to")
	c.Flags().StringArrayVar(&command, "command", nil, "full path of the program, then each argument")
	c.Flags().BoolVar(&off, "off", false, "remove the webhook and the command")
	return c
}

func (p *program) printNotify(n client.Notify) {
	if n.Webhook == "" && len(n.Command) == 0 {
		empty(p.out, "Notices go to the console only. Set a webhook or a command: earlybench endings notify --help")
		return
	}
	if n.Webhook != "" {
		fmt.Fprintf(p.out, "Webhook %s\n  signed by %s\n", safe(n.Webhook), n.Secret)
	}
	if len(n.Command) > 0 {
		fmt.Fprintf(p.out, "Command %s\n", safe(strings.Join(n.Command, " ")))
	}
	if n.Trouble != "" {
		fmt.Fprintf(p.out, "The last notice could not be sent: %s\n", safe(n.Trouble))
	}
}

// termStates say how a term stands, where it is not simply good.
func termState(t client.Term) string {
	switch {
	case t.State == "ended":
		return "has ended"
	case !t.Mine:
		return "another developer's"
	case t.State == "soon" && t.Alone:
		return "soon; the bench could not renew it yet"
	case t.Alone:
		return "renewed automatically"
	case t.State == "soon":
		return "soon"
	}
	return ""
}

func (p *program) printEndings(e client.Endings) {
	if len(e.All) == 0 {
		empty(p.out, "Nothing here expires.")
		return
	}
	var rows [][]string
	for _, t := range e.All {
		ends := "no end"
		if t.Ends != nil {
			ends = t.Ends.Local().Format("2 Jan 2006")
		}
		rows = append(rows, []string{ends, t.Kind, safe(t.Name), safe(t.Holder), safe(strings.Join(t.Devices, ", ")), termState(t)})
	}
	p.table([]string{"ends", "what", "", "of", "devices", ""}, rows)
	p.printSteps(e.All)
}

// printSteps prints what to do about what ends soon or has ended, once for each thing to do.
func (p *program) printSteps(all []client.Term) {
	told := map[string]bool{}
	for _, t := range all {
		text := strings.TrimSpace(t.Step + " " + t.Command)
		if t.State != "soon" && t.State != "ended" || !t.Mine || text == "" || told[text] {
			continue
		}
		if len(told) == 0 {
			fmt.Fprintln(p.out, "\nTo do:")
		}
		told[text] = true
		fmt.Fprintf(p.out, "  %s: %s\n", safe(t.Name), safe(text))
	}
}

func (p *program) printForecast(e client.Endings) {
	day := e.At.Local().Format("2 January 2006")
	if len(e.Stops) == 0 {
		fmt.Fprintf(p.out, "On %s everything that this bench knows of still works.\n", day)
	} else {
		fmt.Fprintf(p.out, "On %s this will not work:\n\n", day)
	}
	var rows [][]string
	for _, t := range e.Stops {
		rows = append(rows, []string{t.Kind + " " + safe(t.Name), safe(t.Stops), safe(strings.Join(t.Devices, ", ")), "ended " + t.Ends.Local().Format("2 Jan"), strings.TrimSpace("by " + t.By.Local().Format("2 Jan") + ": " + safe(cmp.Or(t.Command, t.Step)))})
	}
	if len(rows) > 0 {
		p.table([]string{"what", "", "devices", "", "do"}, rows)
	}
	p.printNames("\nRenewed by the bench before then, while the safe is open: ", e.Alone)
	p.printNames("\nBelonging to others, and ended by then: ", e.Others)
}

func (p *program) printNames(head string, all []client.Term) {
	var names []string
	for _, t := range all {
		names = append(names, t.Kind+" "+safe(t.Name))
	}
	if len(names) > 0 {
		fmt.Fprintln(p.out, head+strings.Join(names, ", "))
	}
}

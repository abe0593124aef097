package cli

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

// unseen is the handle of a device that does not show up at all.
const unseen = "unseen"

// whyOptions are the options of why.
type whyOptions struct {
	app            string
	unseen         bool
	ask            bool
	report         bool
	learned        bool
	learnedOf      *client.Select
	forget         string
	answer         []string
	back, remedied string
}

func (p *program) whyCommand() *cobra.Command {
	var o whyOptions
	c := &cobra.Command{Use: "why [DEVICE]", Short: "What is wrong with a device, how the bench knows, what to do now", Args: cobra.MaximumNArgs(1),
		Long: `Says of a device the first thing that is wrong, the evidence, the causes that may
be behind it in the order of their probability, and the one thing to do next.
With --unseen it does so for a device that does not show up at all. With --ask it
leads through the checks one by one; without a terminal, answers are options.`,
		Example: "  earlybench why heron-2\n  earlybench why --unseen --ask\n  earlybench why heron-2 --answer back-room=no",
		RunE:    func(c *cobra.Command, args []string) error { return p.why(c, o, args) }}
	o.learnedOf = p.selection(c)
	f := c.Flags()
	f.StringVar(&o.app, "app", "", "count the gates of an app too")
	f.BoolVar(&o.unseen, "unseen", false, "for a device that does not show up at all")
	f.BoolVar(&o.ask, "ask", false, "one check after the other, at this terminal")
	f.StringArrayVar(&o.answer, "answer", nil, "answer a check: CHECK=ANSWER")
	f.StringVar(&o.back, "take-back", "", "take the answer to a check back")
	f.StringVar(&o.remedied, "tried-remedy", "", "say that the remedy of this cause was tried")
	f.BoolVar(&o.report, "report", false, "a text without secrets, for a colleague")
	f.BoolVar(&o.learned, "learned", false, "which causes were found on this bench, and how often")
	f.StringVar(&o.forget, "forget", "", "with --learned: forget the cases of this family; all forgets all")
	return c
}

func (p *program) why(c *cobra.Command, o whyOptions, args []string) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	ctx := c.Context()
	if o.learned {
		return p.whatWasLearned(ctx, b, o)
	}
	if o.unseen == (len(args) == 1) || o.forget != "" {
		return usage("name one device, or give --unseen (and --forget only with --learned)")
	}
	handle := unseen
	if !o.unseen {
		handle = args[0]
	}
	for _, a := range o.answer {
		check, answer, ok := strings.Cut(a, "=")
		if !ok {
			return usage("--answer %q: write CHECK=ANSWER", a)
		}
		if err := b.Answer(ctx, handle, check, answer); err != nil {
			return err
		}
	}
	if o.back != "" {
		err = b.TakeBack(ctx, handle, o.back)
	}
	if err == nil && o.remedied != "" {
		err = b.Remedied(ctx, handle, o.remedied)
	}
	if err != nil {
		return err
	}
	if o.report {
		text, err := b.Report(ctx, handle, o.app)
		if err == nil {
			fmt.Fprint(p.out, safe(text))
		}
		return err
	}
	if o.ask {
		return p.askWhy(ctx, b, handle, o.app)
	}
	w, err := b.Why(ctx, handle, o.app)
	if err != nil {
		return err
	}
	if p.json {
		return p.printJSON(w)
	}
	p.printWhy(w)
	return nil
}

func (p *program) printWhy(w client.Why) {
	p.printGate(w)
	p.printCauses(w)
	p.printAnswers(w)
	p.printEvidence(w)
	p.printMove(w)
}

func (p *program) printGate(w client.Why) {
	switch {
	case w.Gate == "":
		fmt.Fprintf(p.out, "%s is ready. Nothing is shut.\n", bold.Render(w.Device))
		return
	case w.Device == unseen:
		fmt.Fprintf(p.out, "%s\n\n", bold.Render("A device that does not show up at all"))
		fmt.Fprintln(p.out, "  It is not on any bus that this bench watches, so what you see counts.")
		return
	}
	fmt.Fprintf(p.out, "%s  gate %s is %s\n\n", bold.Render(w.Device), lamp.Render(" "+w.Gate+" "), w.State)
	wrapped(p.out, "  ", emphasis(w.Text), p.width)
}

// printCauses prints the ranked causes; the improbable ones are summed up in a line.
func (p *program) printCauses(w client.Why) {
	if len(w.Causes) == 0 {
		return
	}
	fmt.Fprintln(p.out, "\n"+faint.Render("What it may be"))
	rest, others := 0.0, 0
	for i, c := range w.Causes {
		if i >= 6 || c.Probability < 0.01 && i > 0 {
			rest += c.Probability
			others++
			continue
		}
		done := ""
		if c.Done {
			done = faint.Render("  tried, did not help")
		}
		fmt.Fprintf(p.out, "  %s %3.0f %%  %s%s\n", bar(c.Probability, 16), 100*c.Probability, emphasis(c.Text), done)
	}
	if rest >= 0.005 {
		fmt.Fprintf(p.out, "  %s %3.0f %%  %s\n", bar(rest, 16), 100*rest, faint.Render(otherCauses(others)))
	}
}

func otherCauses(n int) string {
	if n == 1 {
		return "one other"
	}
	return fmt.Sprintf("%d others", n)
}

// bar draws a probability, in eighths of a cell.
func bar(share float64, cells int) string {
	eighths := int(math.Round(share * float64(cells) * 8))
	s := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		s += string(rune('▏' - rest + 1))
	}
	return s + strings.Repeat(" ", cells-len([]rune(s)))
}

func (p *program) printAnswers(w client.Why) {
	if len(w.Answers) == 0 {
		return
	}
	fmt.Fprintln(p.out, "\n"+faint.Render("What was answered"))
	var rows [][]string
	for _, g := range w.Answers {
		how := "confirmed by " + g.Fact.By
		if g.Seen {
			how = "observed, " + g.Fact.Source
		}
		rows = append(rows, []string{"  " + emphasis(g.Text), emphasis(g.Said), how, clockText(g.Fact.At), faint.Render(g.Check)})
	}
	p.table(make([]string, 5), rows)
}

func (p *program) printEvidence(w client.Why) {
	if len(w.Evidence) > 0 {
		fmt.Fprintln(p.out, "\n"+faint.Render("Evidence"))
		var rows [][]string
		for _, f := range w.Evidence {
			rows = append(rows, []string{"  " + safe(capital(f.Text)), how(f), clockText(f.At)})
		}
		p.table([]string{"", "", ""}, rows)
	}
	p.printDenied(w.Denied)
}

// printDenied prints where observations contradict what a person stated.
func (p *program) printDenied(denied []client.Denied) {
	for _, d := range denied {
		fmt.Fprintf(p.out, "\n%s %s, confirmed by %s at %s; but %s, %s at %s. What is observed counts.\n", lamp.Render(" ! "),
			safe(capital(d.Told.Text)), d.Told.By, clockText(d.Told.At), safe(d.Observed.Text), how(d.Observed), clockText(d.Observed.At))
	}
}

func how(f client.Fact) string {
	if f.Source == "person" {
		return "confirmed by " + f.By
	}
	return "observed, " + f.Source
}

var whoWords = map[string]string{"hands": "with your hands", "computer": "at the computer", "automatic": "by itself"}

func (p *program) printMove(w client.Why) {
	m := w.Next
	if m == nil {
		return
	}
	fmt.Fprintln(p.out, "\n"+faint.Render("What to do now: "+whoWords[m.Who]+secondsText(m.Seconds)))
	wrapped(p.out, "  ", emphasis(m.Text), p.width)
	if m.Note != "" {
		wrapped(p.out, "  ", emphasis(m.Note), p.width)
	}
	if m.Step != nil && len(m.Step.Where) > 0 {
		wrapped(p.out, "  ", "On the device: "+way(m.Step.Where), p.width)
	}
	if m.Sight != "" {
		wrapped(p.out, "  ", "You will see: "+emphasis(m.Sight), p.width)
	}
	for _, a := range m.Answers {
		fmt.Fprintf(p.out, "    %-10s %s\n", a.ID, emphasis(a.Text))
	}
	name := w.Device
	if name == unseen {
		name = "--unseen"
	}
	if w.App != "" {
		name += " --app " + w.App
	}
	switch m.Kind {
	case "check":
		fmt.Fprintf(p.out, "\nAnswer it: %s, or one check after the other: %s\n", bold.Render(fmt.Sprintf("earlybench why %s --answer %s=…", name, m.ID)),
			bold.Render("earlybench why "+name+" --ask"))
	case "remedy":
		fmt.Fprintf(p.out, "\nIf it did not help: %s\n", bold.Render(fmt.Sprintf("earlybench why %s --tried-remedy %s", name, m.ID)))
	}
	if w.Device != unseen {
		fmt.Fprintf(p.out, "Led step by step: %s\n", bold.Render("earlybench prep "+name))
	}
}

func secondsText(s float64) string {
	switch {
	case s == 0:
		return ""
	case s < 90:
		return fmt.Sprintf(", about %.0f seconds", s)
	}
	return fmt.Sprintf(", about %.0f minutes", s/60)
}

func (p *program) whatWasLearned(ctx context.Context, b *client.Client, o whyOptions) error {
	if forget := o.forget; forget != "" {
		n, err := b.Unlearn(ctx, forget, forget == "all")
		if err != nil {
			return err
		}
		fmt.Fprintf(p.err, "Forgotten: the cases of %d causes.\n", n)
		return nil
	}
	items, err := b.Learned(ctx, *o.learnedOf)
	if err != nil {
		return err
	}
	return printList(p, items, func(items []client.Learned) {
		if len(items) == 0 {
			empty(p.out, "Nothing was learned yet. A case is counted when a gate opens and its cause is clear.")
			return
		}
		var rows [][]string
		for _, l := range items {
			family := l.Family
			if family == "" {
				family = "(not seen)"
			}
			rows = append(rows, []string{family, l.Host, l.Cause, fmt.Sprint(l.Cases), clockText(l.Last)})
		}
		p.table([]string{"family", "host", "cause", "cases", "last"}, rows)
	})
}

func way(where []string) string {
	s := ""
	for i, w := range where {
		if i > 0 {
			s += " › "
		}
		s += safe(w)
	}
	return s
}

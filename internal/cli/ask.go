package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/client"
)

// askWhy leads through the checks one after the other. What is observed
// meanwhile counts at once.
func (p *program) askWhy(ctx context.Context, b *client.Client, handle, app string) error {
	if p.unattended || !p.terminal {
		w, err := b.Why(ctx, handle, app)
		if err != nil {
			return err
		}
		if w.Next == nil {
			p.printGate(w)
			return nil
		}
		return &exitError{exitPerson, fmt.Sprintf("This needs a person at a terminal. Without one, answer with an option: --answer %s=…", w.Next.ID)}
	}
	lines := readLines(p.in)
	var given []string
	for {
		w, err := b.Why(ctx, handle, app)
		if err != nil {
			return err
		}
		m := w.Next
		if w.Gate == "" || m == nil {
			p.printGate(w)
			return nil
		}
		fmt.Fprintf(p.out, "\n%s  gate %s is %s\n", bold.Render(w.Device), lamp.Render(" "+w.Gate+" "), w.State)
		p.printCauses(w)
		fmt.Fprintln(p.out)
		wrapped(p.out, "", emphasis("**"+strings.ReplaceAll(m.Text, "**", "")+"**")+faint.Render("  "+whoWords[m.Who]+secondsText(m.Seconds)), p.width)
		choices := p.printChoices(m)
		line, err := p.readChoice(ctx, lines, len(given) > 0)
		if err != nil || line == "q" {
			return err
		}
		switch n, _ := strconv.Atoi(line); {
		case line == "b" && len(given) > 0:
			last := given[len(given)-1]
			given = given[:len(given)-1]
			err = b.TakeBack(ctx, handle, last)
		case line == "":
			continue // look again
		case n < 1 || n > len(choices):
			fmt.Fprintf(p.out, "There is no %q here.\n", safe(line))
			continue
		case m.Kind == "check":
			given = append(given, m.ID)
			err = b.Answer(ctx, handle, m.ID, choices[n-1].ID)
		case m.Kind == "remedy" && choices[n-1].ID == "helped":
			fmt.Fprintln(p.out, "Good. The bench counts it once it sees the gate open.")
			err = b.Remedied(ctx, handle, m.ID)
			if err == nil {
				return nil
			}
		case m.Kind == "remedy":
			err = b.Remedied(ctx, handle, m.ID)
		default:
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// printChoices prints what may be answered; of a remedy, whether it helped.
func (p *program) printChoices(m *client.Move) []client.Choice {
	choices := m.Answers
	switch m.Kind {
	case "remedy":
		choices = []client.Choice{{ID: "not", Text: "Done, and it did not help"}, {ID: "helped", Text: "Done, and it helped"}}
	case "step":
		choices = []client.Choice{{ID: "end", Text: "Done"}}
	}
	if m.Note != "" {
		wrapped(p.out, "  ", emphasis(m.Note), p.width)
	}
	if m.Sight != "" {
		wrapped(p.out, "  ", "You will see: "+emphasis(m.Sight), p.width)
	}
	for i, c := range choices {
		fmt.Fprintf(p.out, "  %s  %s\n", bold.Render(strconv.Itoa(i+1)), emphasis(c.Text))
	}
	return choices
}

func (p *program) readChoice(ctx context.Context, lines <-chan string, back bool) (string, error) {
	more := ", q ends"
	if back {
		more = ", b takes the last answer back" + more
	}
	fmt.Fprint(p.out, faint.Render("Number"+more+": "))
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case line, ok := <-lines:
		if !ok {
			return "q", nil
		}
		return strings.TrimSpace(line), nil
	}
}

// readLines reads lines for as long as there are some.
func readLines(r io.Reader) <-chan string {
	lines := make(chan string)
	go func() { // it ends with the program, which ends with its terminal
		defer close(lines)
		for s := bufio.NewScanner(r); s.Scan(); {
			lines <- s.Text()
		}
	}()
	return lines
}

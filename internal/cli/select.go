package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

// selection adds the options that every list has.
func (p *program) selection(c *cobra.Command) *client.Select {
	s := &client.Select{}
	f := c.Flags()
	f.StringVar(&s.Where, "where", "", "print only items for which this expression is true (earlybench help where)")
	f.IntVar(&s.Limit, "limit", 0, "print at most this many")
	f.StringVar(&s.After, "after", "", "print only what comes after this item")
	p.chosenBy(c, &s.Where)
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		if s.Limit < 0 {
			return usage("--limit %d: give a number of 1 or more, or leave it out", s.Limit)
		}
		return run(c, args)
	}
	return s
}

// chosenBy makes a command show a mistake in its expression with its position.
func (p *program) chosenBy(c *cobra.Command, where *string) {
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error { return marked(run(c, args), *where) }
}

// marked turns the answer to a wrong expression into an error that marks the position.
func marked(err error, expression string) error {
	var p *client.Problem
	if !errors.As(err, &p) || len(p.Errors) == 0 {
		return err
	}
	var line, col int
	if n, _ := fmt.Sscanf(p.Errors[0].Location, "query.where:%d:%d", &line, &col); n != 2 {
		return err
	}
	lines := strings.Split(expression, "\n")
	if line < 1 || line > len(lines) {
		return err
	}
	return usage("--where: %s\n  %s\n  %s^\nWhat you can use: earlybench help where", p.Errors[0].Message, lines[line-1], strings.Repeat(" ", max(col-1, 0)))
}

// lists makes a command list the items that call returns.
func lists[T any](p *program, c *cobra.Command, call func(*client.Client, context.Context, ...client.Select) ([]T, error), table func([]T)) *cobra.Command {
	var s *client.Select
	c.RunE = func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		items, err := call(b, c.Context(), *s)
		if err != nil {
			return err
		}
		if len(items) == 0 && *s != (client.Select{}) && !p.json {
			empty(p.out, "Nothing matches. See the whole list: "+c.CommandPath())
			return nil
		}
		return printList(p, items, table)
	}
	s = p.selection(c)
	return c
}

// choice returns the devices that a command is to use.
type choice func(ctx context.Context, b *client.Client, named []string) ([]string, error)

// some is the choice for a command that wants one device at least.
func (c choice) some(ctx context.Context, b *client.Client, named []string) ([]string, error) {
	all, err := c(ctx, b, named)
	if err == nil && len(all) == 0 {
		err = usage("name a device: nothing is sent to a device that was not named")
	}
	return all, err
}

// chooses adds the option to choose devices by an expression. The choice that it returns
// gives the named devices first, then the chosen ones.
func (p *program) chooses(c *cobra.Command) choice {
	where := ""
	c.Flags().StringVar(&where, "where", "", "also use devices for which this expression is true (earlybench help where)")
	p.chosenBy(c, &where)
	return func(ctx context.Context, b *client.Client, named []string) ([]string, error) {
		if where == "" {
			return named, nil
		}
		devices, err := b.Devices(ctx, "", client.Select{Where: where})
		if err != nil {
			return nil, err
		}
		all := slices.Clone(named)
		for _, d := range devices {
			if !slices.Contains(all, d.Handle) {
				all = append(all, d.Handle)
			}
		}
		if len(all) == 0 {
			return nil, &exitError{exitFailed, fmt.Sprintf("No device matches %s. See all of them: earlybench rack", where)}
		}
		fmt.Fprintf(p.err, "Chosen: %s\n", strings.Join(all, ", "))
		return all, nil
	}
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"earlybench.invalid/earlybench/client"
)

// orPrep runs do, which needs a device that is ready. If the device is not, and a person
// is at the terminal, it offers to prepare the device first and then runs do again.
func (p *program) orPrep(ctx context.Context, handle, app string, do func() error) error {
	err := do()
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Kind != "blocked" || problem.Gate == "" || !p.terminal || p.unattended || p.json {
		return err
	}
	if b, berr := p.bench(); berr != nil {
		return err
	} else if plan, perr := b.Prep(ctx, handle, app); perr != nil || plan.Device.Next == nil {
		return err // no step leads on
	}
	fmt.Fprintln(p.err, safe(problem.Error()))
	fmt.Fprintf(p.err, "\nPrepare %s now, and then continue? [Y/n] ", handle)
	switch answer, rerr := p.readLine(); {
	case rerr != nil:
		return err
	case answer != "" && !strings.EqualFold(answer[:1], "y"):
		return &exitError{exitBlocked, "Not finished. Continue with: earlybench prep " + handle}
	}
	if err := p.leadOnScreen(ctx, []string{handle}, ""); err != nil {
		return err
	}
	return do()
}

// readLine reads one line of input, and no byte beyond it.
func (p *program) readLine() (string, error) {
	var line []byte
	one := make([]byte, 1)
	for {
		n, err := p.in.Read(one)
		if n == 1 && one[0] == '\n' {
			return strings.TrimSpace(string(line)), nil
		}
		line = append(line, one[:n]...)
		if err != nil {
			return "", err
		}
	}
}

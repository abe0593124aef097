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

func (p *program) statementPut(k statementKind) *cobra.Command {
	replace := false
	var chosen choice
	c := &cobra.Command{Use: "put FILE|ID DEVICE...", Short: fmt.Sprintf("Put a %s on devices", k.kind), Args: cobra.MinimumNArgs(1),
		Long: fmt.Sprintf(`Puts a %[1]s on devices: one of the bench, by its id, or one from a file that somebody
gave you. It is checked first, without a network; nothing is sent to a device that it does
not name. A table at the end has a row for each device.`, k.kind),
		Example: fmt.Sprintf("earlybench %s put fellgate.token kestle-1 kestle-2\nearlybench %[1]s put 3JX7QD --where 'device.family == \"kestle\"'", k.word),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			devices, err := chosen.some(c.Context(), b, args[1:])
			if err != nil {
				return err
			}
			s, err := p.statementIn(c.Context(), b, k, args[0])
			if err != nil {
				return err
			}
			return p.putStatement(c.Context(), b, k, s, client.PutStatement{Devices: devices, Replace: replace})
		}}
	chosen = p.chooses(c)
	c.Flags().BoolVar(&replace, "replace", false, "replace another developer's where a device can hold only one")
	return c
}

// putStatement puts a statement on devices, asks about those that have another developer's, and
// prints the table.
func (p *program) putStatement(ctx context.Context, b *client.Client, k statementKind, s client.Statement, put client.PutStatement) error {
	rows, j, err := p.putOnce(ctx, b, s.ID, put)
	if err != nil {
		return err
	}
	if asks := p.replaceable(ctx, rows); len(asks) > 0 {
		again, job, err := p.putOnce(ctx, b, s.ID, client.PutStatement{Devices: asks, Replace: true})
		if err != nil {
			return err
		}
		j = job
		for i := range rows {
			if at := slices.IndexFunc(again, func(r client.PutRow) bool { return r.Device == rows[i].Device }); at >= 0 {
				rows[i] = again[at]
			}
		}
	}
	if p.json {
		j.Put = &client.PutResult{Statement: s.ID, Rows: rows}
		if err := p.printJSON(j); err != nil {
			return err
		}
	} else {
		p.printPut(k, rows)
	}
	return putFailed(k, s, rows)
}

// putOnce puts it once. A job that failed on some devices is not an error here: its rows say so.
func (p *program) putOnce(ctx context.Context, b *client.Client, id string, put client.PutStatement) ([]client.PutRow, client.Job, error) {
	j, err := b.PutStatement(ctx, id, put)
	if err != nil {
		return nil, j, err
	}
	j, err = p.followed(ctx, b, j, nil) // the rows say how far it came
	if _, failed := errors.AsType[*jobError](err); j.Put != nil && (failed || err == nil) {
		return j.Put.Rows, j, nil
	}
	return nil, j, err
}

// replaceable asks for each device that has another developer's whether to replace that.
func (p *program) replaceable(ctx context.Context, rows []client.PutRow) (out []string) {
	if !p.terminal || p.unattended || p.json {
		return nil
	}
	for _, r := range rows {
		if r.Outcome != "asks" || ctx.Err() != nil {
			continue
		}
		fmt.Fprintf(p.err, "%s: %s. Replace it? [y/N] ", r.Device, safe(r.Text))
		if answer, err := p.readLine(); err == nil && (strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")) {
			out = append(out, r.Device)
		}
	}
	return out
}

// outcomeTexts say what has become of it on a device.
var outcomeTexts = map[string]string{"put": "put", "already there": "already there", "replaced": "put, replacing another developer's", "asks": "not put: another developer's is there", "refused": "not put"}

func (p *program) printPut(k statementKind, rows []client.PutRow) {
	var out [][]string
	for _, r := range rows {
		out = append(out, []string{safe(r.Device), outcomeTexts[r.Outcome], safe(r.Text)})
	}
	p.table([]string{"device", k.kind, ""}, out)
}

// putFailed is the error for devices that do not have it, with the line that repeats it for just those.
func putFailed(k statementKind, s client.Statement, rows []client.PutRow) error {
	var failed []string
	replace := ""
	for _, r := range rows {
		if r.Outcome == "asks" {
			replace = " --replace"
		}
		if r.Outcome == "asks" || r.Outcome == "refused" {
			failed = append(failed, r.Device)
		}
	}
	if len(failed) == 0 {
		return nil
	}
	return &exitError{exitFailed, fmt.Sprintf("It could not be put on %d of %d devices. Once that is fixed: earlybench %s put %s %s%s", len(failed), len(rows), k.word, short(s.ID), strings.Join(failed, " "), replace)}
}

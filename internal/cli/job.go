package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

// follow prints a job's phases to standard error until the job ends. It returns the job,
// and the job's error with its exit code.
func (p *program) follow(ctx context.Context, b *client.Client, j client.Job) (client.Job, error) {
	show := phases{p: p}
	return p.followed(ctx, b, j, show.print)
}

// followed calls print with the job each time it has changed, until it ends. Without print nothing is
// shown of it.
func (p *program) followed(ctx context.Context, b *client.Client, j client.Job, print func(client.Job)) (client.Job, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	bench, err := b.Bench(ctx)
	if err != nil {
		return j, err
	}
	changed := make(chan struct{}, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- b.Events(ctx, bench.Sequence-1, func(e client.Event) {
			if e.Type == "job.changed" && e.Subject == j.ID {
				select {
				case changed <- struct{}{}:
				default:
				}
			}
		})
	}()
	for {
		if j, err = b.Job(ctx, j.ID); err != nil {
			return j, err
		}
		if print != nil {
			print(j)
		}
		if j.Ended != nil {
			return j, p.jobError(j)
		}
		select {
		case <-changed:
		case <-time.After(5 * time.Second): // in case an event was missed
		case err := <-ended:
			if ctx.Err() != nil {
				return j, context.Cause(ctx)
			}
			// The next service continues the job, so only the display of its progress ends here.
			return j, &exitError{exitUnreachable, fmt.Sprintf("The bench stopped while this was running (%s). It continues by itself once the bench is back: earlybench job show %s", endText(err), j.ID)}
		}
	}
}

// endText describes how a stream of events ended.
func endText(err error) string {
	if err == nil {
		return "it closed the connection"
	}
	return err.Error()
}

func (p *program) jobError(j client.Job) error {
	if j.State == "done" {
		return nil
	}
	if j.Error == nil {
		return &exitError{exitFailed, "The job was " + j.State + "."}
	}
	return &jobError{*j.Error}
}

// phases prints each phase when it has ended and, on a terminal, the progress of the
// running one.
type phases struct {
	p     *program
	shown int
	line  bool
	asked string
}

func (s *phases) print(j client.Job) {
	for i, ph := range j.Phases {
		if i >= s.shown && ph.Ended != nil {
			s.clear()
			mark := good.Render("✓")
			if ph.State != "done" {
				mark = bad.Render("✗")
			}
			took := ""
			if ph.Began != nil {
				took = ph.Ended.Sub(*ph.Began).Round(10 * time.Millisecond).String()
			}
			switch {
			case ph.Total > 0 && ph.State != "done":
				took += fmt.Sprintf(", %s of %s", bytesText(ph.Done), bytesText(ph.Total))
			case ph.Total > 0:
				took += ", " + bytesText(ph.Total)
			}
			fmt.Fprintf(s.p.err, "  %s %-8s %s\n", mark, ph.Name, faint.Render(took))
			s.shown = i + 1
		}
		if ph.State == "running" && ph.Asks != "" && ph.Asks != s.asked {
			s.clear()
			s.asked = ph.Asks
			fmt.Fprintf(s.p.err, "  %s %s\n", lamp.Render("▸"), safe(ph.Asks))
		}
		if ph.State == "running" && s.p.terminal {
			s.clear()
			text := fmt.Sprintf("  ▸ %-8s %s", ph.Name, safe(ph.Note))
			if ph.Total > 0 {
				text = fmt.Sprintf("  ▸ %-8s %s of %s  %s", ph.Name, bytesText(ph.Done), bytesText(ph.Total), safe(ph.Note))
			}
			fmt.Fprint(s.p.err, text[:min(len(text), s.p.width-1)])
			s.line = true
		}
	}
}

func (s *phases) clear() {
	if s.line {
		fmt.Fprint(s.p.err, "\r\x1b[K")
		s.line = false
	}
}

func (p *program) jobCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "job", Short: "Work that is running or has ended", Args: cobra.NoArgs}, (*client.Client).Jobs, p.printJobs)
	c.AddCommand(&cobra.Command{Use: "show JOB", Short: "One job", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		j, err := b.Job(c.Context(), args[0])
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(j)
		}
		p.printJobs([]client.Job{j})
		for _, ph := range j.Phases {
			size := ""
			if ph.Total > 0 {
				size = fmt.Sprintf("%d of %d bytes", ph.Done, ph.Total)
			}
			if ph.State == "running" && ph.Note != "" {
				size = strings.TrimSpace(size + "  " + safe(ph.Note))
			}
			fmt.Fprintf(p.out, "  %-10s %-12s %s\n", ph.Name, ph.State, size)
		}
		if j.Error != nil {
			wrapped(p.out, "  ", safe(j.Error.Text+" "+j.Error.Remedy), p.width)
		}
		return nil
	}}, &cobra.Command{Use: "stop JOB", Short: "Stop a job", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.StopJob(c.Context(), args[0])
	}}, &cobra.Command{Use: "repeat JOB", Short: "Repeat a run or tryout; if it was on several devices, only where it failed", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		j, err := b.RepeatJob(c.Context(), args[0])
		if err != nil {
			return err
		}
		fmt.Fprintln(p.err, safe(j.Title))
		j, err = p.follow(c.Context(), b, j)
		if p.json && err == nil {
			return p.printJSON(j)
		}
		return err
	}})
	return c
}

func (p *program) printJobs(jobs []client.Job) {
	if len(jobs) == 0 {
		empty(p.out, "No job yet. Runs, tryouts and installs are jobs.")
		return
	}
	var rows [][]string
	for _, j := range jobs {
		at := ""
		if i := strings.IndexByte(j.State, ' '); i < 0 && j.Error != nil {
			at = j.Error.Text
		}
		rows = append(rows, []string{j.ID, safe(j.Title), j.State, clockText(j.Created), oneLine(safe(at), 60)})
	}
	p.table([]string{"job", "what", "state", "begun", "why"}, rows)
}

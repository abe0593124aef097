package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/plain"
)

const buildHelp = "which of the project's builds (from builds: in .earlybench.yaml; default: the project itself)"

func (p *program) runCommand() *cobra.Command {
	follow, long, build, at := true, time.Duration(0), "", ""
	var chosen choice
	c := &cobra.Command{Use: "run APP [DEVICE...]", Short: "Build an app, put it on devices, start it, follow its log", Args: cobra.MinimumNArgs(1),
		Long: `Builds the app of a project (given by its directory, or by its id if the bench knows it),
packs it, copies what the device does not have yet, installs and starts it, and follows its
log. APP may also be an app file (.ebapp), which is checked first. The app keeps
running when this command ends.`,
		RunE: func(c *cobra.Command, args []string) error {
			if at != "" {
				return p.deliver(c, client.Run{Build: build, Peer: at}, args)
			}
			b, what, args, err := p.app(c.Context(), args, chosen)
			if err != nil {
				return err
			}
			what.Build = build
			if len(args) > 2 {
				if long > 0 {
					return usage("--for works with one device: for several, follow each log with earlybench log DEVICE --for %s", long)
				}
				return p.runMany(c.Context(), b, what, "run", args)
			}
			what.Device = args[1]
			var j client.Job
			err = p.orPrep(c.Context(), args[1], what.App, func() (err error) {
				j, err = p.start(c.Context(), b, what)
				return err
			})
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(j)
			}
			if !follow {
				fmt.Fprintf(p.err, "It is running. See its log: earlybench log %s\n", args[1])
				return nil
			}
			return p.followRun(c.Context(), b, args[1], j, long)
		}}
	chosen = p.chooses(c)
	c.Flags().BoolVar(&follow, "follow", true, "follow the log, if there is one device")
	c.Flags().DurationVar(&long, "for", 0, "how long to follow the log (default: until Ctrl-C)")
	c.Flags().StringVar(&build, "build", "", buildHelp)
	c.Flags().StringVar(&at, "at", "", atHelp)
	return c
}

// app finds the app and the devices that a command names. A directory or an app file is
// registered with the bench. The devices that an expression chooses are appended to args.
func (p *program) app(ctx context.Context, args []string, chosen choice) (*client.Client, client.Run, []string, error) {
	b, err := p.bench()
	if err != nil {
		return nil, client.Run{}, nil, err
	}
	devices, err := chosen(ctx, b, args[1:])
	if err != nil {
		return nil, client.Run{}, nil, err
	}
	if len(devices) == 0 {
		if err := appMissing(ctx, b, args[0]); err != nil {
			return nil, client.Run{}, nil, err
		}
		return nil, client.Run{}, nil, p.noDevice(ctx, b)
	}
	run, err := p.runnable(ctx, b, args[0])
	return b, run, append([]string{args[0]}, devices...), err
}

// appMissing returns an error if the only word of a command is a device.
func appMissing(ctx context.Context, b *client.Client, word string) error {
	devices, err := b.Devices(ctx, "")
	if err != nil || !slices.ContainsFunc(devices, func(d client.Device) bool { return d.Handle == word }) {
		return err
	}
	lines := []string{fmt.Sprintf("%s is a device; name the app before it: a directory, an app file (.ebapp), or one of", word)}
	projects, err := b.Projects(ctx)
	for _, a := range projects {
		lines = append(lines, "  "+a.App)
	}
	if len(projects) == 0 {
		lines[0] = strings.TrimSuffix(lines[0], ", or one of")
	}
	return cmp.Or(err, usage("%s", strings.Join(lines, "\n")))
}

// runnable finds the app that a word names.
func (p *program) runnable(ctx context.Context, b *client.Client, app string) (client.Run, error) {
	if info, err := os.Stat(app); err == nil {
		path, err := filepath.Abs(app)
		if err != nil {
			return client.Run{}, err
		}
		if !info.IsDir() {
			a, err := b.AddApp(ctx, path)
			return client.Run{File: a.Digest}, err
		}
		project, err := b.AddProject(ctx, path)
		return client.Run{App: project.App}, err
	}
	if strings.HasPrefix(app, ".") || strings.HasPrefix(app, "/") || appfile.CheckID(app) != nil {
		return client.Run{}, usage("%q is neither a directory or app file here nor an app id such as fellgate/callout", app)
	}
	return client.Run{App: app}, nil
}

// noDevice lists the devices: nothing is ever sent to one that was not named.
func (p *program) noDevice(ctx context.Context, b *client.Client) error {
	devices, err := b.Devices(ctx, "")
	if err != nil {
		return err
	}
	lines := []string{"name the device; there are:"}
	for _, usable := range []bool{true, false} {
		for _, d := range devices {
			if (d.Summary == "ready") != usable {
				continue
			}
			line := "  " + d.Handle + "  " + d.Summary
			if d.Says != "" {
				line += ": " + plainText(d.Says)
			}
			lines = append(lines, line)
		}
	}
	return usage("%s", strings.Join(lines, "\n"))
}

func (p *program) start(ctx context.Context, b *client.Client, what client.Run) (client.Job, error) {
	what.Unattended = p.unattended
	j, err := b.Start(ctx, what)
	if err != nil {
		return j, err
	}
	fmt.Fprintln(p.err, safe(j.Title))
	done, err := p.follow(ctx, b, j)
	if ctx.Err() != nil { // Ctrl-C: the job is stopped too
		done = stopNow(b, j)
	}
	return done, err
}

// stopNow stops a job and returns it as it has ended, or as it stands after a moment.
func stopNow(b *client.Client, j client.Job) client.Job {
	short, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	b.StopJob(short, j.ID) //nolint:errcheck // it may have ended
	for {
		now, err := b.Job(short, j.ID)
		if err != nil || now.Ended != nil {
			return now
		}
		select {
		case <-short.Done():
			return now
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// runMany runs an app on several devices, independently of each other, and prints a table
// at the end.
func (p *program) runMany(ctx context.Context, b *client.Client, what client.Run, verb string, args []string) error {
	what.Devices = args[1:]
	j, err := p.start(ctx, b, what)
	if j.Result == nil || len(j.Result.Devices) == 0 {
		return err
	}
	if p.json {
		if perr := p.printJSON(j); perr != nil {
			return perr
		}
		return err
	}
	var rows [][]string
	var again []string
	for _, d := range j.Result.Devices {
		mark, why := good.Render("✓"), ""
		if d.State != "done" {
			mark = bad.Render("✗")
			if !d.Unfit {
				again = append(again, d.Device)
			}
		}
		if d.Error != nil {
			why = strings.TrimSpace(d.Error.Text + " " + d.Error.Remedy)
		}
		if d.Tryout != "" && why == "" {
			why = "tryout " + d.Tryout
		}
		rows = append(rows, []string{mark, d.Device, d.State, oneLine(safe(why), max(p.width-30, 40))})
	}
	p.table([]string{"", "device", "", ""}, rows)
	if len(again) > 0 {
		fmt.Fprintf(p.err, "\nRepeat for just those: earlybench %s %s %s\n", verb, args[0], strings.Join(again, " "))
	}
	return err
}

// oneLine is text in one line of at most most characters.
func oneLine(s string, most int) string {
	r := []rune(strings.Join(strings.Fields(s), " "))
	if len(r) <= most {
		return string(r)
	}
	return string(r[:most-1]) + "…"
}

// followRun prints the log since the start, until Ctrl-C or for a given time.
func (p *program) followRun(ctx context.Context, b *client.Client, handle string, j client.Job, long time.Duration) error {
	if j.Result == nil {
		return nil
	}
	parent := ctx
	if long > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, long)
		defer cancel()
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	crashed := errors.New("crashed")
	err := b.Log(ctx, handle, j.Result.App, j.Result.After, func(l client.Line) {
		p.printLine(l)
		if l.Ended != nil && l.Ended.Reason == "crashed" && l.App == j.Result.App {
			cancel(crashed)
		}
	})
	switch {
	case errors.Is(context.Cause(ctx), crashed):
		return &exitError{exitFailed, fmt.Sprintf("%s has crashed on %s.", j.Result.App, handle)}
	case parent.Err() != nil || errors.Is(err, context.DeadlineExceeded):
		fmt.Fprintf(p.err, "%s keeps running on %s. See its log again: earlybench log %[2]s\n", j.Result.App, handle)
		return nil
	case err == nil:
		return &exitError{exitGone, fmt.Sprintf("The link to %s ended. Plug it in again, then: earlybench log %s", handle, handle)}
	}
	return err
}

func (p *program) printLine(l client.Line) {
	if l.Text == "" && l.Ended != nil { // the line before said it in the device's words
		return
	}
	text := plain.Line(l.Text) // a line end in it does not make another line
	if l.Level == "error" {
		text = bad.Render(text)
	}
	app := l.App
	if app == "" {
		app = "device"
	}
	fmt.Fprintf(p.out, "%s  %s  %s\n", faint.Render(l.At.Local().Format("15:04:05.000")), faint.Render(safe(app)), text)
}

func (p *program) logCommand() *cobra.Command {
	var app string
	var after uint64
	var long time.Duration
	c := &cobra.Command{Use: "log DEVICE", Short: "Follow the log of a device and its apps", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			ctx := c.Context()
			if long > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, long)
				defer cancel()
			}
			err = p.orPrep(ctx, args[0], "", func() error {
				return b.Log(ctx, args[0], app, after, func(l client.Line) {
					if p.json {
						p.printJSON(l) //nolint:errcheck // standard output is gone
						return
					}
					p.printLine(l)
				})
			})
			switch {
			case ctx.Err() != nil:
				return nil
			case err == nil:
				return &exitError{exitGone, fmt.Sprintf("The link to %s ended. To find out why: earlybench why %[1]s. Then continue: earlybench log %[1]s", args[0])}
			}
			return err
		}}
	c.Flags().StringVar(&app, "app", "", "show one app only")
	c.Flags().Uint64Var(&after, "after", 0, "show only lines after the one with this number")
	c.Flags().DurationVar(&long, "for", 0, "how long (default: until Ctrl-C)")
	return c
}

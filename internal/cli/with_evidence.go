package cli

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/rfb"
)

// outcome is how a command has ended.
type outcome struct {
	Code int
	Lost string // which device was lost; "" for none
	Took time.Duration
}

// evidence is what is kept of a run in its directory.
type evidence struct {
	*with
	began   time.Time // by the bench's clock
	devices []string
	stop    context.CancelFunc
	logs    sync.WaitGroup
}

// makeDir makes the directory for what comes of a run, which must be empty.
func (w *with) makeDir() error {
	if w.dir == "" {
		return nil
	}
	dir, err := filepath.Abs(w.dir)
	if err != nil {
		return err
	}
	w.dir = dir
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return usage("--out: %w", err)
	}
	has, err := os.ReadDir(dir)
	if err != nil {
		return usage("--out: %w", err)
	}
	if len(has) > 0 {
		return usage("--out %s is not empty; name a new directory, so that nothing of another run lies between", dir)
	}
	return nil
}

// collect begins to keep what the devices log.
func (w *with) collect(ctx context.Context, devices []string) *evidence {
	e := &evidence{with: w, devices: devices, stop: func() {}}
	w.mu.Lock()
	if w.now.Began != nil {
		e.began = *w.now.Began
	}
	w.mu.Unlock()
	if w.dir == "" {
		return e
	}
	ctx, e.stop = context.WithCancel(ctx)
	for _, handle := range devices {
		e.logs.Go(func() {
			if err := e.keepLog(ctx, handle); err != nil {
				fmt.Fprintf(w.err, "The log of %s is not kept: %s\n", safe(handle), safe(err.Error()))
			}
		})
	}
	return e
}

// keepLog writes what a device logs into a file, until ctx ends.
func (e *evidence) keepLog(ctx context.Context, handle string) error {
	dir := filepath.Join(e.dir, handle)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(dir, "log.txt"))
	if err != nil {
		return err
	}
	last := uint64(0)
	for ctx.Err() == nil {
		err := e.bench.Log(ctx, handle, "", last, func(l client.Line) {
			last = l.Seq
			if l.At.Before(e.began) || l.Text == "" {
				return
			}
			app := l.App
			if app == "" {
				app = "device"
			}
			fmt.Fprintf(f, "%s %s %s %s\n", l.At.UTC().Format(time.RFC3339Nano), app, l.Level, plain.Line(l.Text))
		})
		var p *client.Problem
		if errors.As(err, &p) && p.Kind == "invalid" {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second): // the device is away
		}
	}
	return f.Close()
}

// end keeps pictures, tryouts and the outcome.
func (e *evidence) end(ctx context.Context, o outcome) {
	if e.dir == "" && !e.json {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, evidenceTime)
	defer cancel()
	if e.dir != "" {
		time.Sleep(200 * time.Millisecond) // for the last lines of the log
		for _, handle := range e.devices {
			if err := e.keepPicture(ctx, handle); err != nil {
				fmt.Fprintf(e.err, "No picture of %s: %s\n", safe(handle), safe(err.Error()))
			}
		}
	}
	e.stop()
	e.logs.Wait()
	tryouts, err := e.tryouts(ctx)
	if err == nil && e.dir != "" {
		err = errors.Join(e.keepTryouts(ctx, tryouts), e.keepJUnit(o, tryouts))
	}
	if err == nil {
		err = e.tell(o, tryouts)
	}
	if err != nil {
		fmt.Fprintf(e.err, "Not all of the run was kept: %s\n", safe(err.Error()))
	}
}

func (e *evidence) keepPicture(ctx context.Context, handle string) error {
	rw, err := e.bench.Screen(ctx, handle)
	if err != nil {
		return err
	}
	defer rw.Close()
	defer context.AfterFunc(ctx, func() { rw.Close() })()
	picture, err := rfb.Picture(rw)
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(e.dir, handle, "screen.png"))
	if err != nil {
		return err
	}
	return errors.Join(png.Encode(f, picture), f.Close())
}

// tryouts are those that were made on the devices during the run, the first one first.
func (e *evidence) tryouts(ctx context.Context) (out []client.Tryout, err error) {
	for _, handle := range e.devices {
		all, err := e.bench.Tryouts(ctx, handle)
		if err != nil {
			return nil, err
		}
		for _, t := range all {
			if !t.Created.Before(e.began) {
				out = append(out, t)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b client.Tryout) int { return a.Created.Compare(b.Created) })
	return out, nil
}

func (e *evidence) keepTryouts(ctx context.Context, all []client.Tryout) error {
	if len(all) == 0 {
		return nil
	}
	dir := filepath.Join(e.dir, "tryouts")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, t := range all {
		raw, err := json.MarshalIndent(t, "", "  ")
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, t.ID+".json"), append(raw, '\n'), 0o644)
		}
		if err == nil && t.Picture {
			var picture []byte
			if picture, err = e.bench.Picture(ctx, t.ID); err == nil {
				err = os.WriteFile(filepath.Join(dir, t.ID+".png"), picture, 0o644)
			}
		}
		if err != nil {
			return fmt.Errorf("keep tryout %s: %w", t.ID, err)
		}
	}
	return nil
}

// told is what --json prints of a run, and what run.json holds.
type told struct {
	Command []string `json:"command"`
	Code    int      `json:"code"`
	Lost    string   `json:"lost"`
	Took    int64    `json:"took_ms"`
	Devices []string `json:"devices"`
	Tryouts []string `json:"tryouts"`
}

func (e *evidence) tell(o outcome, tryouts []client.Tryout) error {
	t := told{Command: e.command, Code: o.Code, Lost: o.Lost, Took: o.Took.Milliseconds(), Devices: e.devices, Tryouts: []string{}}
	for _, one := range tryouts {
		t.Tryouts = append(t.Tryouts, one.ID)
	}
	if e.json {
		if err := e.printJSON(t); err != nil {
			return err
		}
	}
	if e.dir == "" {
		return nil
	}
	raw, err := json.MarshalIndent(t, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(e.dir, "run.json"), append(raw, '\n'), 0o644)
}

// A report of tests as the programs that show them read it: suites of cases, which may have failed.
type (
	junitSuites struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Time     string      `xml:"time,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string       `xml:"classname,attr"`
		Name    string       `xml:"name,attr"`
		Time    string       `xml:"time,attr"`
		Failure *junitResult `xml:"failure,omitempty"`
		Error   *junitResult `xml:"error,omitempty"`
		Output  string       `xml:"system-out,omitempty"`
	}
	junitResult struct {
		Message string `xml:"message,attr"`
	}
)

func (s *junitSuite) add(c junitCase) {
	s.Tests++
	if c.Failure != nil {
		s.Failures++
	}
	if c.Error != nil {
		s.Errors++
	}
	s.Cases = append(s.Cases, c)
}

// report makes the report of a run: the command is a case, and so is every point of every tryout.
func report(o outcome, command string, tryouts []client.Tryout) junitSuites {
	seconds := func(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }
	run := junitSuite{Name: "command", Time: seconds(o.Took)}
	c := junitCase{Class: "command", Name: command, Time: seconds(o.Took)}
	switch {
	case o.Lost != "":
		c.Error = &junitResult{o.Lost}
	case o.Code != 0:
		c.Failure = &junitResult{fmt.Sprintf("it ended with %d", o.Code)}
	}
	run.add(c)
	out := junitSuites{Suites: []junitSuite{run}}
	for _, t := range tryouts {
		took := time.Duration(0)
		s := junitSuite{Name: fmt.Sprintf("%s %s on %s", t.App, t.Version, t.Device)}
		for _, p := range t.Points {
			d := time.Duration(p.Took) * time.Millisecond
			took += d
			c := junitCase{Class: t.App + "." + t.Device, Name: p.Name, Time: seconds(d)}
			if !p.OK {
				c.Failure, c.Output = &junitResult{p.Text}, strings.Join(t.Log, "\n")
			}
			s.add(c)
		}
		s.Time = seconds(took)
		out.Suites = append(out.Suites, s)
	}
	return out
}

func (e *evidence) keepJUnit(o outcome, tryouts []client.Tryout) error {
	raw, err := xml.MarshalIndent(report(o, strings.Join(e.command, " "), tryouts), "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(e.dir, "junit.xml"), []byte(xml.Header+string(raw)+"\n"), fs.FileMode(0o644))
}

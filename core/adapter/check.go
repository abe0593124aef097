package adapter

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/sheet"
)

// Program is a program that runs, with its output and input as a stream.
type Program interface {
	io.ReadWriteCloser
	CloseInput() error
	Ended() <-chan struct{}
	Err() error
}

// Starter starts an adapter's program, held to what is given.
type Starter func(command []string, dir, work, given string, files []string, connect []int, log func(string)) (Program, error)

// Report is what a check has found.
type Report struct {
	Points []Point `json:"points"`
}

// Point is one thing that was checked.
type Point struct {
	Name  string `json:"name"`
	Wrong string `json:"wrong,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Wrong is how many points are wrong.
func (r Report) Wrong() (n int) {
	for _, p := range r.Points {
		if p.Wrong != "" {
			n++
		}
	}
	return n
}

// checker checks one adapter.
type checker struct {
	report   Report
	dir      string
	manifest *Manifest
	sheet    []byte
	at       Candidate // zero: no device
	start    Starter

	mu   sync.Mutex
	said []string // what the adapter did wrong
	log  string   // the last line of its standard error
}

// Check checks the adapter in a directory; at is a candidate that is a device, or the zero value. An error means a
// directory without an adapter.
func Check(ctx context.Context, dir string, at Candidate, start Starter) (Report, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return Report{}, err
	}
	raw, err := os.ReadFile(filepath.Join(dir, ManifestName))
	if err != nil {
		return Report{}, fmt.Errorf("%s is not an adapter's directory: %w", dir, err)
	}
	c := &checker{dir: dir, at: at, start: start}
	c.manifest, err = ParseManifest(raw)
	if !c.point("adapter.yaml says how to run it, and what it may use", err) || !c.point("its sheet exists, and has no errors", c.readSheet()) {
		return c.report, nil
	}
	c.run(ctx)
	return c.report, nil
}

// point records a point, and reports whether it is right.
func (c *checker) point(name string, err error) bool {
	p := Point{Name: name}
	if err != nil {
		p.Wrong = err.Error()
	}
	c.report.Points = append(c.report.Points, p)
	return err == nil
}

func (c *checker) note(name, note string) {
	c.report.Points = append(c.report.Points, Point{Name: name, Note: note})
}

func (c *checker) readSheet() error {
	text, err := os.ReadFile(filepath.Join(c.dir, c.manifest.Sheet))
	if err != nil {
		return err
	}
	c.sheet = text
	if _, wrong := sheet.NameOf(text); len(wrong) > 0 {
		return wrong
	}
	_, err = sheet.FamilyOf(text)
	return err
}

// logs keeps what the program says on its standard error.
func (c *checker) logs(line string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.log = line
}

// withLog is an error with how the program has ended, and what it said last.
func (c *checker) withLog(err error, p Program) error {
	select {
	case <-p.Ended():
		if p.Err() != nil {
			err = fmt.Errorf("%w: its program has ended: %w", err, p.Err())
		}
	case <-time.After(time.Second): // it goes on
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.log != "" {
		err = fmt.Errorf("%w; it said last: %s", err, plain.Cut(plain.Line(c.log), 300))
	}
	return err
}

func (c *checker) says(text string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.said) < 20 && !slices.Contains(c.said, text) {
		c.said = append(c.said, text)
	}
}

// run runs the adapter, and talks with it.
func (c *checker) run(ctx context.Context) {
	base, err := os.MkdirTemp("", "adapter-check")
	work, given := filepath.Join(base, "own"), filepath.Join(base, "given")
	if err == nil {
		defer os.RemoveAll(base) //nolint:errcheck // it is a temporary one
		err = errors.Join(os.Mkdir(work, 0o700), os.Mkdir(given, 0o700))
	}
	if err != nil {
		c.point("there is room for its directories", err)
		return
	}
	if c.at.Kind != "" {
		c.point("what it is shown is among its rights", c.mayUse())
	}
	p, err := c.start(c.manifest.Command, c.dir, work, given, c.at.Files(), append(c.at.Ports(), c.manifest.Rights.Connect...), c.logs)
	if !c.point("it starts", err) {
		return
	}
	defer p.Close()
	began := time.Now()
	a, err := Begin(ctx, p, Hello{Bench: "check", Work: work, Given: given}, c.says)
	if err != nil {
		err = c.withLog(err, p)
	}
	if !c.point("it answers hello, with its facts and actions", err) {
		return
	}
	defer a.Close()
	c.note("it is ready after", time.Since(began).Round(time.Millisecond).String())
	c.point("it declares the facts in its sheet, with the same types", c.facts(a))
	c.point("it refuses a method that it does not know", c.unknownMethod(ctx, a))
	c.point("it says that a file that is not one of its devices does not fit", c.noDevice(ctx, a))
	if c.at.Kind == "" {
		c.note("what needs a device was not checked", "give its device file or its address: --at FILE, --at SERVICE=HOST:PORT")
	} else {
		c.withDevice(ctx, a)
	}
	c.mu.Lock()
	said := strings.Join(c.said, "; ")
	c.mu.Unlock()
	if said != "" {
		c.point("everything that it sends follows the protocol", errors.New(said))
	} else {
		c.point("everything that it sends follows the protocol", nil)
	}
	c.point("it ends when its input does", ends(p))
}

// mayUse reports whether the candidate is among the adapter's rights.
func (c *checker) mayUse() error {
	rights := c.manifest.Rights
	if c.at.Kind == KindNetwork {
		if !slices.Contains(rights.Announced, c.at.Service) {
			return fmt.Errorf("%s is not under rights: announced", c.at.Service)
		}
		return nil
	}
	for _, pattern := range rights.Files {
		if ok, _ := filepath.Match(pattern, c.at.Path); ok {
			return nil
		}
	}
	return fmt.Errorf("%s is not under rights: files", c.at.Path)
}

// facts compares what an adapter declares with its sheet.
func (c *checker) facts(a *Adapter) error {
	declared := map[string]string{}
	for _, f := range a.Facts {
		declared[f.Key] = f.Type
	}
	var wrong []string
	for key, kind := range sheet.DeclaredIn(c.sheet) {
		if have, ok := declared[key]; ok && have != kind {
			wrong = append(wrong, fmt.Sprintf("%s is a %s there, and it says %s", key, kind, have))
		}
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		return errors.New(strings.Join(wrong, "; "))
	}
	return nil
}

func (c *checker) unknownMethod(ctx context.Context, a *Adapter) error {
	ctx, cancel := context.WithTimeout(ctx, candidateWithin)
	defer cancel()
	err := a.conn.Call(ctx, "no.such.method", struct{}{}, nil)
	e, ok := errors.AsType[*rpc.Error](err)
	switch {
	case err == nil:
		return errors.New("it answers with a result")
	case !ok:
		return err
	case e.Code != rpc.CodeMethodNotFound:
		return fmt.Errorf("it answers with error %d; JSON-RPC 2.0 specifies %d", e.Code, rpc.CodeMethodNotFound)
	}
	return nil
}

func (c *checker) noDevice(ctx context.Context, a *Adapter) error {
	f, err := a.Look(ctx, Candidate{Device: "/dev/null", Kind: KindFile, Path: "/dev/null"})
	if err == nil && f.Fit != 0 {
		err = fmt.Errorf("it says that /dev/null fits with %d", f.Fit)
	}
	return err
}

// factsWithin is how long the first facts may take.
const factsWithin = 10 * time.Second

// withDevice checks what only shows with a device.
func (c *checker) withDevice(ctx context.Context, a *Adapter) {
	f, err := a.Look(ctx, c.at)
	if err == nil && f.Fit < 50 {
		err = fmt.Errorf("it says that it fits with %d; 50 or more means that it is its device", f.Fit)
	}
	if !c.point("it recognises its device", err) {
		return
	}
	c.point("its sheet has the model", c.hasModel(f.Model))
	s := a.Open(c.at.Device)
	defer s.Close()
	c.point("it reports facts of the types that it has declared", c.firstFacts(ctx, a, s))
	if apps, err := s.Apps(); err == nil {
		_, err := apps.List(ctx)
		c.point("it lists the apps", err)
		_, err = apps.Start(ctx, "nobody/nothing")
		if err == nil {
			err = errors.New("it started an app that does not exist")
		} else {
			err = nil
		}
		c.point("it refuses to start an app that does not exist", err)
	} else {
		c.note("it cannot install apps", "")
	}
	if a.Can(ActLog) {
		c.point("it ends a log that is no longer followed", c.stops(ctx, a, s))
	}
}

func (c *checker) hasModel(code string) error {
	if codes := sheet.CodesIn(c.sheet); !slices.Contains(codes, code) {
		return fmt.Errorf("it names the model %q; the sheet has %s", code, strings.Join(codes, ", "))
	}
	return nil
}

func (c *checker) firstFacts(ctx context.Context, a *Adapter, s *Session) error {
	ctx, cancel := context.WithTimeout(ctx, factsWithin)
	defer cancel()
	told, _ := s.Facts()
	var wrong error
	seen := map[string]bool{}
	err := told.Follow(ctx, func(all []device.Fact) {
		for _, f := range all {
			seen[f.Key] = true
			for _, k := range a.Facts {
				if k.Key == f.Key && !typed(k.Type, f.Value) {
					wrong = fmt.Errorf("%s is declared as %s, but it reports %.40s", f.Key, k.Type, f.Value)
				}
			}
		}
		if len(seen) == len(a.Facts) || wrong != nil {
			cancel()
		}
	})
	switch {
	case wrong != nil:
		return wrong
	case errors.Is(err, device.ErrEnded):
		return fmt.Errorf("the device went away at once: %v", s.Gone())
	case len(seen) == 0 && len(a.Facts) > 0:
		return fmt.Errorf("it did not report a fact within %s", factsWithin)
	}
	return nil
}

// typed reports whether a value is of a type.
func typed(kind string, value json.RawMessage) bool {
	var v any
	if json.Unmarshal(value, &v) != nil {
		return false
	}
	switch v := v.(type) {
	case bool:
		return kind == "bool"
	case float64:
		return kind == "int" && v == float64(int64(v))
	case string:
		return kind == "text" || kind == "release" || kind == "time"
	case []any:
		return kind == "texts"
	}
	return false
}

// stops checks that a log ends when it is stopped.
func (c *checker) stops(ctx context.Context, a *Adapter, s *Session) error {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	log, _ := s.Log()
	err := log.Follow(ctx, device.LogFrom{}, func(device.Line) bool { return true })
	select {
	case <-a.Done():
		return a.Err()
	case <-time.After(100 * time.Millisecond):
	}
	if !errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("it ended the log by itself: %w", err)
	}
	return a.Err()
}

// ends checks that the program ends when its input is closed.
func ends(p Program) error {
	p.CloseInput() //nolint:errcheck // the program tells
	select {
	case <-p.Ended():
		return nil
	case <-time.After(stopWithin):
		return fmt.Errorf("it continues after %s", stopWithin)
	}
}

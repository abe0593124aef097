// Package adapter implements the way to devices that an adapter speaks for: a separate program, in any
// language (docs/formats/adapter.md). It runs the adapters, shows them candidates, and gives the
// devices that they recognise to the rack.
package adapter

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/adapters"
	"earlybench.invalid/earlybench/internal/fence"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Config is what the way needs. All fields but Browse are needed.
type Config struct {
	Dir  string // of the adapters; work is beside it
	Work string // where each adapter has a directory of its own
	// Present puts a device that an adapter recognises on record, and returns its keeper.
	Present func(ctx context.Context, family, model, serial, place string) (*keeper.Keeper, error)
	// AddSheet takes a sheet in.
	AddSheet func(ctx context.Context, text []byte) error
	// Browse starts to listen for announcements; nil for not at all.
	Browse func(dnssd.BrowserConfig) (*dnssd.Browser, error)
	// USB returns the devices on the USB of the bench's computer.
	USB   func() []USBDevice
	Tell  func(ctx context.Context, event string, subjects ...string) error
	Bench func() string
	Clock clock.Clock
	Log   *slog.Logger
}

// USBDevice is a device on the USB of the bench's computer.
type USBDevice struct {
	BusID  string
	ID     string // vendor:product
	Serial string
	Name   string // in its own words
	Node   string // path of its device file
}

// Adapters are the adapters of a bench. It is made by New, and runs from Start to Close.
type Adapters struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	adding sync.Mutex // held while one is added or dropped
	mu     sync.Mutex
	all    map[string]*runner
	count  int // ways that were made
}

var _ adapters.Adapters = (*Adapters)(nil)

// New makes the way. Nothing runs before Start.
func New(cfg Config) *Adapters {
	a := &Adapters{cfg: cfg, all: map[string]*runner{}}
	a.ctx, a.end = context.WithCancel(context.Background())
	return a
}

// Start runs the adapters that are there. One that cannot be read is left out, and logged.
func (a *Adapters) Start() error {
	entries, err := os.ReadDir(a.cfg.Dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read the adapters: %w", err)
	}
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		r, err := read(filepath.Join(a.cfg.Dir, e.Name()))
		if err != nil {
			a.cfg.Log.Warn("left out an adapter", "dir", e.Name(), "error", err)
			continue
		}
		a.begin(r)
	}
	return nil
}

// begin runs an adapter.
func (a *Adapters) begin(r *runner) {
	r.adapters = a
	ctx, end := context.WithCancel(a.ctx)
	r.end, r.ended = end, make(chan struct{})
	a.mu.Lock()
	a.all[r.manifest.Adapter] = r
	a.mu.Unlock()
	a.work.Go(func() {
		defer close(r.ended)
		r.run(ctx)
	})
}

// Close ends all adapters.
func (a *Adapters) Close() {
	a.end()
	a.work.Wait()
}

// List returns the adapters by name.
func (a *Adapters) List() []adapters.Adapter {
	a.mu.Lock()
	all := make([]*runner, 0, len(a.all))
	for _, r := range a.all {
		all = append(all, r)
	}
	a.mu.Unlock()
	slices.SortFunc(all, func(x, y *runner) int { return strings.Compare(x.manifest.Adapter, y.manifest.Adapter) })
	var out []adapters.Adapter
	for _, r := range all {
		out = append(out, r.shown())
	}
	return out
}

// Look reads an adapter in a directory.
func (a *Adapters) Look(dir string) (adapters.Adapter, error) {
	r, err := read(dir)
	if err != nil {
		return adapters.Adapter{}, wrong(dir, err)
	}
	return r.shown(), nil
}

func wrong(dir string, err error) error {
	return &problem.Problem{Kind: problem.Invalid, Text: fmt.Sprintf("%s cannot be used as an adapter: %s.", plain.Cut(plain.Line(dir), 200), strings.TrimSuffix(plain.Cut(err.Error(), 1000), ".")),
		Remedy: "See what is wrong: earlybench adapter check " + plain.Cut(plain.Line(dir), 200)}
}

// Add copies an adapter, with its sheet, and runs it.
func (a *Adapters) Add(ctx context.Context, dir, accept string) (adapters.Adapter, error) {
	a.adding.Lock()
	defer a.adding.Unlock()
	coming := filepath.Join(a.cfg.Dir, ".coming")
	if err := errors.Join(os.RemoveAll(coming), os.MkdirAll(a.cfg.Dir, 0o700)); err != nil {
		return adapters.Adapter{}, fmt.Errorf("make room for the adapter: %w", err)
	}
	defer os.RemoveAll(coming) //nolint:errcheck // it is taken away before the next one, too
	if err := copyTree(dir, coming); err != nil {
		return adapters.Adapter{}, wrong(dir, err)
	}
	r, err := read(coming)
	if err != nil {
		return adapters.Adapter{}, wrong(dir, err)
	}
	if r.digest != accept {
		return adapters.Adapter{}, &problem.Problem{Kind: problem.Changed, Text: "The adapter has changed since it was shown: its files have the digest " + r.digest + ".", Remedy: "Look at it again: earlybench adapter add " + plain.Cut(plain.Line(dir), 200)}
	}
	if err := a.cfg.AddSheet(ctx, r.sheetText); err != nil {
		return adapters.Adapter{}, err
	}
	name := r.manifest.Adapter
	to, before := filepath.Join(a.cfg.Dir, name), filepath.Join(a.cfg.Dir, ".before")
	a.stop(name)
	err = errors.Join(os.RemoveAll(before), movedAside(to, before))
	if err == nil {
		if err = os.Rename(coming, to); err != nil {
			err = errors.Join(err, movedAside(before, to))
		}
	}
	now, rerr := read(to) // the new one, or the one before
	if rerr == nil {
		a.begin(now)
	}
	if err = errors.Join(err, rerr); err != nil {
		return adapters.Adapter{}, fmt.Errorf("put the adapter in its place: %w", err)
	}
	r = now
	os.RemoveAll(before) //nolint:errcheck // it is taken away before the next one, too
	a.tell()
	return r.shown(), nil
}

// movedAside renames a directory, if it is there.
func movedAside(from, to string) error {
	if err := os.Rename(from, to); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// stop ends an adapter that runs.
func (a *Adapters) stop(name string) bool {
	a.mu.Lock()
	r := a.all[name]
	delete(a.all, name)
	a.mu.Unlock()
	if r == nil {
		return false
	}
	r.end()
	<-r.ended
	return true
}

// Drop ends an adapter and deletes it. Its sheet stays.
func (a *Adapters) Drop(_ context.Context, name string) error {
	a.adding.Lock()
	defer a.adding.Unlock()
	if !a.stop(name) {
		return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("There is no adapter %.40q.", name), Remedy: "List them: earlybench adapter."}
	}
	err := errors.Join(os.RemoveAll(filepath.Join(a.cfg.Dir, name)), os.RemoveAll(filepath.Join(a.cfg.Work, name)))
	a.tell()
	return err
}

// number is a new number for a way.
func (a *Adapters) number() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.count++
	return a.count
}

func (a *Adapters) tell() {
	if err := a.cfg.Tell(a.ctx, "adapter.changed", ""); err != nil && a.ctx.Err() == nil {
		a.cfg.Log.Error("tell of adapters", "error", err)
	}
}

// read reads the adapter in a directory.
func read(dir string) (*runner, error) {
	raw, err := os.ReadFile(filepath.Join(dir, adapter.ManifestName))
	if err != nil {
		return nil, fmt.Errorf("it has no readable %s", adapter.ManifestName)
	}
	m, err := adapter.ParseManifest(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", adapter.ManifestName, err)
	}
	text, err := os.ReadFile(filepath.Join(dir, m.Sheet))
	if err != nil {
		return nil, fmt.Errorf("its sheet %s cannot be read", m.Sheet)
	}
	name, wrong := sheet.NameOf(text)
	if len(wrong) > 0 {
		return nil, fmt.Errorf("its sheet %s: %w", m.Sheet, wrong)
	}
	family, err := sheet.FamilyOf(text)
	if err != nil {
		return nil, fmt.Errorf("its sheet %s: %w", m.Sheet, err)
	}
	digest, err := digestTree(dir)
	if err != nil {
		return nil, err
	}
	return &runner{dir: dir, manifest: m, sheet: name, family: family, sheetText: text, digest: digest, parts: map[string]*part{}}, nil
}

// shown is the adapter as it is shown to people.
func (r *runner) shown() adapters.Adapter {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := adapters.Adapter{Name: r.manifest.Adapter, About: plain.Cut(plain.Line(r.manifest.About), 200), Command: r.manifest.Command, Files: r.manifest.Rights.Files, Announced: r.manifest.Rights.Announced, USB: r.manifest.Rights.USB, Connect: r.manifest.Rights.Connect,
		Sheet: r.sheet, Digest: r.digest, Version: r.version, State: adapters.Waiting, Fenced: fence.Version() > 0, Log: slices.Clone(r.log)}
	for _, device := range slices.Sorted(maps.Keys(r.parts)) {
		d := r.parts[device]
		switch {
		case d.trouble != "":
			out.State, out.Trouble = adapters.Failing, device+": "+d.trouble
		case d.keeper != nil:
			out.Devices = append(out.Devices, d.keeper.Device().Handle)
			if out.State == adapters.Waiting {
				out.State = adapters.Running
			}
		}
	}
	slices.Sort(out.Devices)
	return out
}

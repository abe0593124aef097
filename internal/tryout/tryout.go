// Package tryout brings an app from its project onto a device and looks whether
// it works there: build, pack, copy, install, start; and for a tryout what the
// log says, what the screen shows, and how long each took.
package tryout

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Tryouts is the use case. All fields are needed.
type Tryouts struct {
	Store *store.Store
	Files store.Files
	Rack  *keeper.Rack
	Jobs  *job.Runner
	Clock clock.Clock
}

// phases of a run; a tryout has more.
var (
	runPhases = []string{"build", "pack", "copy", "install", "start"}
	tryPhases = append(runPhases[:len(runPhases):len(runPhases)], "log", "picture")
)

// Result is what a run ends with; a tryout keeps more.
type Result struct {
	App     string `json:"app"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Tryout  string `json:"tryout,omitempty"` // id of what was kept
	Passed  bool   `json:"passed,omitempty"`
	Sent    int64  `json:"sent_bytes"`
	After   uint64 `json:"log_after"` // the log of this start comes behind this line
}

// AddProject puts an app's directory on record, from which the bench may build.
func (t *Tryouts) AddProject(ctx context.Context, dir string) (*appfile.Project, error) {
	if !filepath.IsAbs(dir) {
		return nil, fmt.Errorf("%q: give the directory's whole path", dir)
	}
	p, err := appfile.ReadProject(filepath.Clean(dir))
	if err != nil {
		return nil, err
	}
	if err := t.Store.SaveProject(ctx, store.Project{App: p.ID, Dir: p.Dir}); err != nil {
		return nil, fmt.Errorf("keep the project: %w", err)
	}
	return p, nil
}

// ErrRefused is an app file that cannot be taken in.
var ErrRefused = errors.New("the app file is refused")

// TakeIn checks an app file that somebody else has packed, and keeps it.
func (t *Tryouts) TakeIn(ctx context.Context, path string) (store.AppFile, error) {
	f, err := os.Open(path)
	if err != nil {
		return store.AppFile{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return store.AppFile{}, err
	}
	opened, err := appfile.Open(f, info.Size())
	if err != nil {
		return store.AppFile{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return store.AppFile{}, err
	}
	sum, size, err := t.Files.Put(f)
	if err != nil {
		return store.AppFile{}, err
	}
	a := store.AppFile{Digest: opened.Digest, App: opened.App.ID, Version: opened.App.Version, File: sum, Size: size, Created: t.Clock.Now()}
	return a, t.Store.SaveAppFile(ctx, a)
}

// Ask is what is to be run: an app of a project, which is built, or an app file
// by its digest.
type Ask struct {
	App    string
	File   string
	Device string
	Try    bool
}

// Start starts the job that runs an app on a device, or tries it.
func (t *Tryouts) Start(ctx context.Context, ask Ask) (job.Job, error) {
	w := &work{Tryouts: t, try: ask.Try}
	phases := runPhases
	if ask.Try {
		phases = tryPhases
	}
	if ask.File != "" {
		phases = phases[2:]
	}
	if err := w.find(ctx, ask); err != nil {
		return job.Job{}, err
	}
	k, err := t.Rack.Find(ask.Device)
	if err != nil {
		return job.Job{}, err
	}
	if _, err := k.Linked(ctx); err != nil {
		return job.Job{}, err
	}
	w.keeper = k
	w.record = store.Tryout{ID: store.NewID(), Device: ask.Device, App: w.project.ID, Version: w.project.Version}
	kind, verb := "app.run", "Run"
	if ask.Try {
		kind, verb = "app.try", "Try"
	}
	title := fmt.Sprintf("%s %s on %s", verb, w.project.ID, ask.Device)
	release, err := k.Lease(title)
	if err != nil {
		return job.Job{}, err
	}
	j, err := t.Jobs.Start(ctx, kind, title, ask.Device, phases, func(ctx context.Context, run *job.Run) (any, error) {
		defer release()
		w.run = run
		return w.do(ctx)
	})
	if err != nil {
		release()
	}
	return j, err
}

// find finds what is to be run: the project on record, or the app file, with
// what the project of the same app says of tryouts, where there is one.
func (w *work) find(ctx context.Context, ask Ask) error {
	id := ask.App
	if ask.File != "" {
		a, err := w.Store.AppFile(ctx, ask.File)
		if err != nil {
			return fmt.Errorf("app file %.80q: %w", ask.File, err)
		}
		w.packed, w.packedAlready = a, true
		w.result.Digest = a.Digest
		id = a.App
	}
	known, err := w.Store.Project(ctx, id)
	if err == nil {
		w.project, err = appfile.ReadProject(known.Dir)
	}
	switch {
	case w.packedAlready && err != nil:
		w.project = &appfile.Project{ID: id, Try: appfile.Try{Log: "."}}
	case err != nil && known.Dir != "":
		return err
	case err != nil:
		return fmt.Errorf("app %q: %w; name its directory once: earlybench project add DIR", id, err)
	}
	if w.packedAlready {
		w.project.Version = w.packed.Version
	}
	return nil
}

// work is one run of an app on a device.
type work struct {
	*Tryouts
	project *appfile.Project
	keeper  *keeper.Keeper
	run     *job.Run
	try     bool
	link    *keeper.Link
	packed  store.AppFile
	// packedAlready: it came as an app file, so that nothing is built or packed.
	packedAlready bool
	record        store.Tryout
	result        Result
	before        uint64 // the log's last line before the start
}

func (w *work) do(ctx context.Context) (any, error) {
	steps := []struct {
		name string
		do   func(context.Context) (string, error)
	}{{"build", w.build}, {"pack", w.pack}, {"copy", w.copy}, {"install", w.install}, {"start", w.start}}
	if w.packedAlready {
		steps = steps[2:]
	}
	if w.try {
		steps = append(steps, []struct {
			name string
			do   func(context.Context) (string, error)
		}{{"log", w.watchLog}, {"picture", w.takePicture}}...)
	}
	for _, s := range steps {
		w.run.Phase(s.name, 0)
		began := time.Now()
		text, err := s.do(ctx)
		point := store.Point{Name: s.name, OK: err == nil, Text: text, Took: time.Since(began).Milliseconds()}
		if err != nil {
			point.Text = err.Error()
		}
		w.record.Points = append(w.record.Points, point)
		if err != nil {
			w.record.Failed = s.name + ": " + err.Error()
			w.record.Ended = cmp.Or(w.record.Ended, endedAt(s.name, err))
			if kerr := w.keep(ctx); kerr != nil {
				err = errors.Join(err, kerr)
			}
			return nil, err
		}
	}
	w.record.Passed, w.result.Passed = w.try, w.try
	err := w.keep(ctx)
	w.result.App, w.result.Version = w.project.ID, w.project.Version
	return w.result, err
}

// endedAt tells what a phase's failure shows of the device or the app; "" where
// it shows nothing of either.
func endedAt(phase string, err error) string {
	if p, ok := errors.AsType[*job.Problem](err); ok && p.Kind == job.Gone {
		return store.EndedLost
	}
	switch phase {
	case "start":
		return store.EndedAtStart
	case "log", "picture":
		return store.EndedAtLog
	}
	return ""
}

// keep keeps a tryout, once the app was really sent to a device, or its end shows
// something of the device.
func (w *work) keep(ctx context.Context) error {
	if !w.try || w.record.Digest == "" && w.record.Ended == "" {
		return nil
	}
	w.record.Digest = w.packed.Digest
	w.record.Created = w.Clock.Now().UTC()
	if err := w.Store.SaveTryout(context.WithoutCancel(ctx), w.keeper.Device().ID, w.record); err != nil {
		return err
	}
	w.result.Tryout = w.record.ID
	return w.Store.Touch(context.WithoutCancel(ctx), w.keeper.Device().Handle)
}

// pack makes the app file of what was built.
func (w *work) pack(ctx context.Context) (string, error) {
	root, err := os.OpenRoot(filepath.Join(w.project.Dir, w.project.Root))
	if err != nil {
		return "", fmt.Errorf("open the project's files: %w", err)
	}
	defer root.Close()
	var digest string
	sum, size, err := w.Files.Make(func(out io.Writer) error {
		var err error
		digest, err = appfile.Pack(out, w.project.Manifest(), root.FS(), w.project.Files)
		return err
	})
	if err != nil {
		return "", fmt.Errorf("pack %s: %w", w.project.ID, err)
	}
	w.packed = store.AppFile{Digest: digest, App: w.project.ID, Version: w.project.Version, File: sum, Size: size, Created: w.Clock.Now()}
	w.result.Digest = digest
	return fmt.Sprintf("%d bytes", size), w.Store.SaveAppFile(ctx, w.packed)
}

func (w *work) install(ctx context.Context) (string, error) {
	w.record.Digest = w.packed.Digest
	if err := w.link.Control.Call(ctx, link.MethodAppSwitch, link.AppRef{Digest: w.packed.Digest}, nil); err != nil {
		return "", w.lost("install", err)
	}
	var apps []link.App
	if err := w.link.Control.Call(ctx, link.MethodApps, nil, &apps); err != nil {
		return "", w.lost("look at the app list", err)
	}
	for _, a := range apps {
		if a.ID == w.project.ID && a.Digest == w.packed.Digest {
			return "in the app list as " + a.Name, nil
		}
	}
	return "", fmt.Errorf("%s is not in the device's app list", w.project.ID)
}

// lost makes of an error while the device was being talked to one that says
// whether the device went away.
func (w *work) lost(doing string, err error) error {
	select {
	case <-w.link.Done():
		return &job.Problem{Kind: job.Gone, Text: fmt.Sprintf("The link to %s ended during: %s.", w.record.Device, doing),
			Remedy: "Plug it in again and start this again."}
	default:
		return fmt.Errorf("%s: %w", doing, err)
	}
}

// ResultOf reads the result of a run back from a job's record.
func ResultOf(v any) (Result, bool) {
	if r, ok := v.(Result); ok {
		return r, true
	}
	if v == nil {
		return Result{}, false
	}
	raw, err := json.Marshal(v)
	var r Result
	return r, err == nil && json.Unmarshal(raw, &r) == nil && r.App != ""
}

package kitfetch

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/kit"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/store"
)

// This file fetches kits of peers.

// KindFetch is the kind of jobs that do.
const KindFetch = "kit.fetch"

// Kinds returns the kinds of jobs of this use case.
func (f *Fetching) Kinds() []job.Kind { return []job.Kind{{Name: KindFetch, Run: f.run}} }

// Ask is what to fetch: the newest version that fits.
type Ask struct {
	Kit   string `json:"kit"`
	From  string `json:"from,omitempty"`
	Below string `json:"below,omitempty"`
	Peer  string `json:"peer"`
}

func (a Ask) need() kit.Need {
	return kit.Need{Name: a.Kit, From: fact.Release(a.From), Below: fact.Release(a.Below), At: a.Peer}
}

// Result is what a fetch ends with.
type Result struct {
	Kit     string `json:"kit"`
	Version string `json:"version"`
	Path    string `json:"path"`
	Came    int64  `json:"came_bytes"` // over the network
}

// ResultOf reads the result of a fetch back from its job's record.
func ResultOf(j job.Job) (Result, bool) { return job.ResultOf[Result](j, KindFetch) }

// Start begins to fetch a kit.
func (f *Fetching) Start(ctx context.Context, a Ask, actor string) (job.Job, error) {
	if _, err := f.cfg.Peers.Find(a.Peer); err != nil {
		return job.Job{}, err
	}
	if err := a.need().Check(); err != nil {
		return job.Job{}, problem.Errorf(problem.Invalid, "%w", err)
	}
	return f.cfg.Jobs.Start(ctx, job.New{Kind: KindFetch, Title: fmt.Sprintf("Fetch %s from %s", a.Kit, a.Peer), Subjects: []string{"peer/" + a.Peer}, Actor: actor, Args: a, Phases: []string{"look", "fetch", "place"}})
}

func (f *Fetching) run(ctx context.Context, run *job.Run) (any, error) {
	var a Ask
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	return f.fetch(ctx, a.need(), run.Job().Begun > 1, run.Phase, run.Progress)
}

// Need fetches the kit that a build needs, if it is missing. say is called with what is done.
func (f *Fetching) Need(ctx context.Context, n kit.Need, say func(string)) error {
	say(fmt.Sprintf("fetching %s from %s", n.Name, n.At))
	_, err := f.fetch(ctx, n, false, func(string, int64) {}, func(int64) {})
	return err
}

// Look asks a peer for a kit.
func (f *Fetching) Look(ctx context.Context, n kit.Need) (core.LookedAtKit, error) {
	for began := time.Now(); ; {
		var out core.LookedAtKit
		err := f.cfg.Peers.Ask(ctx, n.At, core.MethodKit, core.LookAtKit{Kit: n.Name, From: string(n.From), Below: string(n.Below)}, &out)
		p, is := errors.AsType[*problem.Problem](err)
		switch {
		case is && p.Remedy == "":
			said := &problem.Problem{Kind: p.Kind, Text: fmt.Sprintf("%s does not give %s: %s.", n.At, n.Name, strings.TrimSuffix(p.Text, "."))}
			if p.Kind == problem.NotFound {
				said.Remedy = "Its owner can share it with this bench; there: earlybench peer set " + f.cfg.Bench() + " --kit " + n.Name
			}
			return out, said
		case err != nil:
			return out, err
		case out.Reading && time.Since(began) > readWithin:
			return out, problem.Errorf(problem.Unavailable, "%s has been reading the files of %s for %s, and has not finished", n.At, n.Name, readWithin)
		case !out.Reading:
			if err := bundle.CheckDigest(out.Listing); err != nil || out.Size <= 0 || out.Size > kit.MaxListing {
				return out, problem.Errorf(problem.Failed, "%s describes a kit without a listing of 1 to %d bytes", n.At, kit.MaxListing)
			}
			return out, nil
		}
		if err := clock.Sleep(ctx, clock.System{}, time.Second); err != nil {
			return out, context.Cause(ctx)
		}
	}
}

// Check reports whether a peer shares the kits that builds need from it.
func (f *Fetching) Check(ctx context.Context, at string) (points []peer.Point) {
	seen := map[kit.Need]bool{}
	for _, k := range f.cfg.Kits.All() {
		for _, app := range slices.Sorted(maps.Keys(k.Apps)) {
			n := k.Apps[app].Need
			if n.At != at || seen[n] {
				continue
			}
			seen[n] = true
			p := peer.Point{Name: "kit"}
			if looked, err := f.Look(ctx, n); err != nil {
				said := problem.Of(err)
				p.Wrong, p.Remedy = strings.TrimSuffix(said.Text, "."), said.Remedy
			} else {
				p.Note = strings.TrimSpace(fmt.Sprintf("it gives %s %s", n.Name, plain.Line(looked.Version))) + fmt.Sprintf(": %d files, %d bytes", looked.Files, looked.Bytes)
			}
			points = append(points, p)
		}
	}
	return points
}

// readWithin is how long a peer may read the files of a kit.
const readWithin = 10 * time.Minute

// atOnce is how many files come at the same time.
const atOnce = 4

// fetch fetches a kit. It waits a little for the connection, and for longer if it goes on after a restart.
func (f *Fetching) fetch(ctx context.Context, n kit.Need, again bool, phase func(string, int64), progress func(int64)) (none Result, err error) {
	select {
	case f.turn <- struct{}{}:
		defer func() { <-f.turn }()
	case <-ctx.Done():
		return none, context.Cause(ctx)
	}
	phase("look", 0)
	var looked core.LookedAtKit
	err = peer.Patiently(ctx, again, func() (err error) {
		looked, err = f.Look(ctx, n)
		return err
	})
	if err != nil {
		return none, err
	}
	version := fact.Release(looked.Version)
	if _, err := fact.ParseRelease(looked.Version); looked.Version != "" && err != nil || !n.Serves(version) {
		return none, problem.Errorf(problem.Failed, "%s offers version %.40q of %s, which does not fit", n.At, looked.Version, n.Name)
	}
	pieces := store.Files{Dir: filepath.Join(f.cfg.Work, "pieces")}
	result := Result{Kit: n.Name, Version: looked.Version, Path: f.place(n.Name, looked)}
	var came atomic.Int64
	raw, err := os.ReadFile(filepath.Join(result.Path, kit.ListingName))
	if err != nil || bundle.Digest(raw) != looked.Listing {
		if err := f.get(ctx, n.At, peer.File{Of: core.OfKit + n.Name, Digest: looked.Listing, Size: looked.Size}, pieces, &came); err != nil {
			return none, err
		}
		if raw, err = os.ReadFile(pieces.Path(looked.Listing)); err != nil {
			return none, err
		}
	}
	l, err := kit.ParseListing(raw)
	if err != nil {
		return none, problem.Errorf(problem.Failed, "the listing by %s of %s was refused: %w", n.At, n.Name, err)
	}
	if here, err := list(ctx, result.Path, nil); err != nil || !reflect.DeepEqual(here.of, *l) {
		phase("fetch", l.Size())
		if err := f.getAll(ctx, n, l, pieces, &came, progress); err != nil {
			return none, err
		}
		phase("place", 0)
		if err := f.putInPlace(result.Path, raw, l, pieces); err != nil {
			return none, fmt.Errorf("put %s in place: %w", n.Name, err)
		}
	}
	result.Came = came.Load()
	if _, err := f.cfg.Kits.Add(ctx, n.Name, result.Path, f.described(n.Name, looked)); err != nil {
		return none, err
	}
	if err := os.RemoveAll(f.cfg.Work); err != nil { // all of it is in the copy
		f.cfg.Log.Warn("remove what has come of a kit", "error", err)
	}
	return result, nil
}

// described is the description that a peer gives; nil where the kit is described here already.
func (f *Fetching) described(name string, looked core.LookedAtKit) []byte {
	if len(f.cfg.Kits.Text(name)) > 0 {
		return nil
	}
	return looked.Description
}

// place is where a copy is put. Copies of the same version with other files have different places.
func (f *Fetching) place(name string, looked core.LookedAtKit) string {
	at := name
	if looked.Version != "" {
		at += "-" + looked.Version
	}
	return filepath.Join(f.cfg.Dir, at+"-"+looked.Listing[:8])
}

// get gets one file, continuing a partial one.
func (f *Fetching) get(ctx context.Context, at string, one peer.File, into store.Files, came *atomic.Int64) error {
	had, _ := into.Coming(one.Digest)
	last := had
	return f.cfg.Peers.Fetch(ctx, at, one, into, func(have int64) {
		came.Add(have - last)
		last = have
	})
}

// getAll gets the files that no copy fetched before has.
func (f *Fetching) getAll(ctx context.Context, n kit.Need, l *kit.Listing, pieces store.Files, came *atomic.Int64, progress func(int64)) error {
	want := map[string]int64{}
	for _, x := range l.Files {
		want[x.SHA256] = x.Size
	}
	if err := f.reuse(n.Name, want, pieces); err != nil {
		return err
	}
	var missing []string
	left := int64(0)
	for digest, size := range want {
		if _, err := os.Stat(pieces.Path(digest)); err != nil {
			missing, left = append(missing, digest), left+size
		}
	}
	here := l.Size() - left
	progress(here)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	queue := make(chan string, len(missing))
	for _, digest := range missing {
		queue <- digest
	}
	close(queue)
	before := came.Load()
	var work sync.WaitGroup
	for range atOnce {
		work.Go(func() {
			for digest := range queue {
				if ctx.Err() != nil {
					return
				}
				if err := f.get(ctx, n.At, peer.File{Of: core.OfKit + n.Name, Digest: digest, Size: want[digest]}, pieces, came); err != nil {
					stop(err)
					return
				}
				progress(here + came.Load() - before)
			}
		})
	}
	work.Wait()
	return context.Cause(ctx)
}

// reuse takes files from copies of the kit that were fetched before.
func (f *Fetching) reuse(name string, want map[string]int64, pieces store.Files) error {
	copies, err := filepath.Glob(filepath.Join(f.cfg.Dir, name+"-*"))
	if err != nil {
		return err
	}
	for _, dir := range copies {
		raw, err := os.ReadFile(filepath.Join(dir, kit.ListingName))
		if err != nil {
			continue // it was not fetched
		}
		l, err := kit.ParseListing(raw)
		if err != nil {
			continue
		}
		for _, x := range l.Files {
			if _, wanted := want[x.SHA256]; !wanted {
				continue
			}
			if _, err := os.Stat(pieces.Path(x.SHA256)); err == nil {
				continue
			}
			r, err := open(dir, x.Path, 0)
			if err != nil {
				continue
			}
			_, _, err = pieces.Put(r) // one that was changed has another digest, and is fetched
			r.Close()
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// putInPlace makes a copy of its files. It is put in its place only once it is complete.
func (f *Fetching) putInPlace(at string, listing []byte, l *kit.Listing, pieces store.Files) error {
	tree := filepath.Join(f.cfg.Work, "tree")
	if err := os.RemoveAll(tree); err != nil {
		return err
	}
	for _, d := range append([]string{"."}, l.Directories...) {
		if err := os.MkdirAll(filepath.Join(tree, filepath.FromSlash(d)), 0o755); err != nil {
			return err
		}
	}
	for _, x := range l.Files {
		to := filepath.Join(tree, filepath.FromSlash(x.Path))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := copyFile(to, pieces.Path(x.SHA256), x.Executable); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(tree, kit.ListingName), listing, 0o644); err != nil {
		return err
	}
	if err := os.MkdirAll(f.cfg.Dir, 0o700); err != nil {
		return err
	}
	// A copy that is there was changed since: it is set aside, not lost.
	aside := f.cfg.Dir + "-changed"
	if err := os.MkdirAll(aside, 0o700); err != nil {
		return err
	}
	if err := os.Rename(at, filepath.Join(aside, filepath.Base(at)+time.Now().UTC().Format("-20060102-150405"))); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Rename(tree, at)
}

func copyFile(to, from string, executable bool) error {
	r, err := os.Open(from)
	if err != nil {
		return err
	}
	defer r.Close()
	mode := fs.FileMode(0o644)
	if executable {
		mode = 0o755
	}
	w, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = w.ReadFrom(r)
	return errors.Join(err, w.Close())
}

// Package tidy collects what nothing uses any more, by its age and size.
package tidy

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// Rules say how long things are kept.
type Rules struct {
	Tryouts time.Duration `json:"tryouts"` // and the newest of each app on each device in any case
	Jobs    time.Duration `json:"jobs"`    // that have ended
	Apps    time.Duration `json:"apps"`    // app files since they were packed or taken in; the newest of each app in any case
	Packs   time.Duration `json:"packs"`   // support packs that no device needs
	Audit   time.Duration `json:"audit"`   // who did what, and the uses of the safe
	Most    int64         `json:"most"`    // bytes of app files and support packs that nothing needs; the oldest go first
}

const day = 24 * time.Hour

// Usual are the rules until somebody sets others.
var Usual = Rules{Tryouts: 180 * day, Jobs: 90 * day, Apps: 30 * day, Packs: 60 * day, Audit: 400 * day, Most: 8 << 30}

// leftFor is how long a file without a record is kept, since its record may be about to be written.
const leftFor = time.Hour

// partialsFor is how long a partly received file is kept without progress.
const partialsFor = 30 * day

// Row is what can be removed of one kind.
type Row struct {
	Kind  string // tryouts, jobs, …
	Name  string // of a single thing; "" for several
	Count int
	Bytes int64  // of files; records are small
	Why   string // such as "older than 30 days, and a newer one is there"
	Since time.Time

	drop func(context.Context) error
}

// Plan is what can be removed, and what would stay.
type Plan struct {
	Rules   Rules
	Rows    []Row
	Bytes   int64 // of the files among them
	Files   int64 // bytes of all files that are there
	Records int64 // bytes of the records on disk
}

// Tidy collects. All fields are needed.
type Tidy struct {
	Store *store.Store
	Files store.Files
	// Needed reports whether a device of the bench needs a support pack.
	Needed func(digest string) bool
	// DropPack drops a support pack.
	DropPack func(ctx context.Context, digest string) error
	Clock    clock.Clock
	Log      *slog.Logger

	mu sync.Mutex // one at a time
}

const setting = "tidy.rules"

// Rules returns the current rules.
func (t *Tidy) Rules(ctx context.Context) (Rules, error) {
	text, err := t.Store.Setting(ctx, setting)
	r := Usual
	if err != nil || text == "" {
		return r, err
	}
	if err := json.Unmarshal([]byte(text), &r); err != nil {
		t.Log.Warn("read the rules for tidying: the usual ones hold", "error", err)
		return Usual, nil
	}
	return r, nil
}

// shortest is the shortest time for which anything is kept.
const shortest = day

// SetRules sets the rules.
func (t *Tidy) SetRules(ctx context.Context, r Rules) error {
	for name, d := range map[string]time.Duration{"tryouts": r.Tryouts, "jobs": r.Jobs, "app files": r.Apps, "support packs": r.Packs, "the audit": r.Audit} {
		if d < shortest || d > 100*365*day {
			return problem.Errorf(problem.Invalid, "%s cannot be kept for %s: give 1 day to 100 years", name, d)
		}
	}
	if r.Most < 1<<20 {
		return problem.Errorf(problem.Invalid, "files cannot be kept in %d bytes: give 1 MB or more", r.Most)
	}
	raw, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return t.Store.SetSetting(ctx, setting, string(raw))
}

// Look returns what can be removed now.
func (t *Tidy) Look(ctx context.Context) (Plan, error) {
	rules, err := t.Rules(ctx)
	if err != nil {
		return Plan{}, err
	}
	p := Plan{Rules: rules}
	now := t.Clock.Now()
	for _, look := range []func(context.Context, *Plan, time.Time) error{t.left, t.partials, t.apps, t.packs, t.records} {
		if err := look(ctx, &p, now); err != nil {
			return p, fmt.Errorf("look what can go: %w", err)
		}
	}
	for _, r := range p.Rows {
		p.Bytes += r.Bytes
	}
	err = t.measure(ctx, &p)
	return p, err
}

// measure measures the room that everything takes. What can be removed still counts among the files.
func (t *Tidy) measure(ctx context.Context, p *Plan) (err error) {
	all, err := t.Files.Left(nil)
	if err != nil {
		return err
	}
	parts, err := t.Files.Partials()
	if err != nil {
		return err
	}
	p.Files = 0
	for _, l := range append(all, parts...) {
		p.Files += l.Bytes
	}
	p.Records, err = t.Store.Size(ctx)
	return err
}

// Do removes what can be removed, and returns it. Failures are named; the rest is removed.
func (t *Tidy) Do(ctx context.Context) (Plan, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	p, err := t.Look(ctx)
	if err != nil || len(p.Rows) == 0 {
		return p, err
	}
	t.Files.GiveReserve() // on a full disk not even a record could be dropped
	defer t.keepReserve()
	gone, errs := drop(ctx, p.Rows)
	after := Plan{}
	if err := t.left(ctx, &after, t.Clock.Now()); err == nil { // files of the records that have just gone
		_, failed := drop(ctx, after.Rows)
		errs = append(errs, failed...)
	}
	p.Rows = gone
	if len(gone) > 0 {
		if err := t.Store.Shrink(ctx); err != nil { // the room is used again in any case
			t.Log.Warn("give room back to the disk", "error", err)
		}
	}
	before := p.Files
	err = t.measure(ctx, &p)
	p.Bytes = before - p.Files
	return p, errors.Join(append(errs, err)...)
}

func drop(ctx context.Context, rows []Row) (gone []Row, errs []error) {
	for _, r := range rows {
		if err := r.drop(ctx); err != nil {
			errs = append(errs, fmt.Errorf("drop %s: %w", strings.TrimSpace(r.Kind+" "+r.Name), err))
			continue
		}
		gone = append(gone, r)
	}
	return gone, errs
}

// every is how often it is done without being asked.
const every = 6 * time.Hour

// Run does that regularly until ctx ends.
func (t *Tidy) Run(ctx context.Context) {
	t.keepReserve()
	for clock.Sleep(ctx, clock.System{}, every) == nil {
		p, err := t.Do(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			t.Log.Warn("tidy", "error", err)
		case len(p.Rows) > 0:
			t.Log.Info("tidied", "rows", len(p.Rows), "bytes", p.Bytes)
		}
	}
}

func (t *Tidy) keepReserve() {
	if err := t.Files.KeepReserve(); err != nil {
		t.Log.Warn("keep some room on the disk for tidying", "error", err)
	}
}

func (t *Tidy) records(ctx context.Context, p *Plan, now time.Time) error {
	for _, k := range []struct {
		kind, title, why string
		keep             time.Duration
	}{
		{"tryout", "tryouts", "older than %s, and not the last of their app on their device", p.Rules.Tryouts},
		{"job", "jobs", "older than %s, and ended", p.Rules.Jobs},
		{"audit", "lines of the audit", "older than %s", p.Rules.Audit},
		{"use", "uses of the safe", "older than %s", p.Rules.Audit},
	} {
		before := now.Add(-k.keep)
		old, err := t.Store.Older(ctx, k.kind, before)
		if err != nil {
			return err
		}
		if old.Count > 0 {
			p.Rows = append(p.Rows, Row{Kind: k.title, Count: old.Count, Since: old.Oldest, Why: fmt.Sprintf(k.why, days(k.keep)), drop: func(ctx context.Context) error {
				return t.Store.DropOlder(ctx, k.kind, before)
			}})
		}
	}
	return nil
}

// apps finds app files that are old, and then those beyond the bound of size.
func (t *Tidy) apps(ctx context.Context, p *Plan, now time.Time) error {
	all, err := t.Store.AppFiles(ctx) // the newest first
	if err != nil {
		return err
	}
	working, err := t.atWork(ctx)
	if err != nil {
		return err
	}
	newest := map[string]bool{}
	var sum int64
	drop := func(a store.AppFile, why string) {
		p.Rows = append(p.Rows, Row{Kind: "app files", Name: a.App + " " + a.Version, Count: 1, Bytes: a.Size, Since: a.Created, Why: why,
			drop: func(ctx context.Context) error { return t.Store.DropAppFile(ctx, a.Digest) }}) // its file is without a record then
	}
	for _, a := range all {
		first := !newest[a.App]
		newest[a.App] = true
		switch {
		case first, working(a.Digest): // the one that a run would put on devices again
		case now.Sub(a.Created) > p.Rules.Apps:
			drop(a, fmt.Sprintf("older than %s, and a newer one of the app is there", days(p.Rules.Apps)))
			continue
		case sum+a.Size > p.Rules.Most:
			drop(a, fmt.Sprintf("app files take more than %d MB, and a newer one of the app is there", p.Rules.Most>>20))
			continue
		}
		sum += a.Size
	}
	return nil
}

// atWork reports whether a job that has not ended names an app file by its digest: it may still be copied.
func (t *Tidy) atWork(ctx context.Context) (func(digest string) bool, error) {
	open, err := t.Store.OpenJobs(ctx)
	return func(digest string) bool {
		return slices.ContainsFunc(open, func(j job.Job) bool {
			return bytes.Contains(j.Args, []byte(digest)) || bytes.Contains(j.Kept, []byte(digest))
		})
	}, err
}

func (t *Tidy) packs(ctx context.Context, p *Plan, now time.Time) error {
	all, err := t.Store.SupportPacks(ctx)
	if err != nil {
		return err
	}
	for _, s := range all {
		digest := s.File.SHA256
		if t.Needed(digest) || now.Sub(s.Added) <= p.Rules.Packs {
			continue
		}
		p.Rows = append(p.Rows, Row{Kind: "support packs", Name: s.Name + " " + s.Version, Count: 1, Bytes: s.File.Size, Since: s.Added,
			Why: fmt.Sprintf("taken in more than %s ago, and no device needs it", days(p.Rules.Packs)), drop: func(ctx context.Context) error { return t.DropPack(ctx, digest) }})
	}
	return nil
}

// named are the digests of the files that records name.
func (t *Tidy) named(ctx context.Context) (map[string]bool, error) {
	all, err := t.Store.KeptFiles(ctx)
	named := map[string]bool{}
	for _, f := range all {
		named[f.Digest] = true
	}
	return named, err
}

// left finds files that no record names: of dropped records, of work that was killed before its record was
// written, and damaged ones that were set aside. While a record cannot be read nobody knows what it names.
func (t *Tidy) left(ctx context.Context, p *Plan, _ time.Time) error {
	if len(t.Store.Damaged()) > 0 {
		return nil
	}
	named, err := t.named(ctx)
	if err != nil {
		return err
	}
	left, err := t.Files.Left(named)
	if err != nil {
		return err
	}
	left = slices.DeleteFunc(left, func(l store.LeftFile) bool { return time.Since(l.At) < leftFor }) // by the disk's clock
	if len(left) == 0 {
		return nil
	}
	row := Row{Kind: "files without a record", Count: len(left), Why: "no app, picture, driver set or support pack is in them", Since: left[0].At}
	for _, l := range left {
		row.Bytes += l.Bytes
		if l.At.Before(row.Since) {
			row.Since = l.At
		}
	}
	row.drop = func(ctx context.Context) error {
		var errs []error
		for _, l := range left {
			errs = append(errs, t.Files.DropLeft(l))
		}
		return errors.Join(errs...)
	}
	p.Rows = append(p.Rows, row)
	return nil
}

func (t *Tidy) partials(_ context.Context, p *Plan, _ time.Time) error {
	parts, err := t.Files.Partials()
	if err != nil {
		return err
	}
	slices.SortFunc(parts, func(a, b store.LeftFile) int { return cmp.Compare(a.Name, b.Name) })
	for _, l := range parts {
		if time.Since(l.At) <= partialsFor {
			continue
		}
		p.Rows = append(p.Rows, Row{Kind: "files that came in part", Name: l.Name[:12], Count: 1, Bytes: l.Bytes, Since: l.At, Why: "no progress for " + days(partialsFor),
			drop: func(context.Context) error { return t.Files.Drop(l.Name) }})
	}
	return nil
}

func days(d time.Duration) string {
	if n := int(d / day); n != 1 {
		return fmt.Sprintf("%d days", n)
	}
	return "1 day"
}

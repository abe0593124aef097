// Package tryout brings an app from its project onto devices and checks whether it works
// there: build, pack, copy, install, start; and for a tryout also what the log says, what
// the screen shows, and how long each phase took. A job that was interrupted by the end of
// the service continues from the packed app, and does not send again what the device has.
package tryout

import (
	"cmp"
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// Tryouts is the use case. All fields are needed.
type Tryouts struct {
	Store   *store.Store
	Files   store.Files
	Book    *facts.Book
	Rack    *rack.Rack
	Outlook *outlook.Outlook
	Kits    *kits.Kits
	Jobs    *job.Runner
	Safe    *safe.Safe // has the development key, by which what is packed is signed
	// Identity finds one of the bench's signing identities: its certificate, and the id of its key in
	// the safe.
	Identity func(ctx context.Context, name string) (certificate *x509.Certificate, item string, err error)
	// Far lets manifests be signed with identities of peers.
	Far Far
	// FetchKit fetches a kit from the peer at which it is needed.
	FetchKit func(ctx context.Context, n kit.Need, say func(string)) error
	// Covered returns the problem that stands in the way of an app that is signed so, on a device.
	Covered func(k *keeper.Keeper, w statement.Start) error
	Clock   clock.Clock
}

// Far lets manifests be signed with identities of peers, NAME@PEER.
type Far interface {
	// Signer signs once that is allowed there.
	Signer(ctx context.Context, identity string, use safe.Use) (appfile.Signer, error)
	// Known is the last known key of one; false if it is not known.
	Known(ctx context.Context, identity string) (key developer.Public, ok bool)
}

// Kinds of jobs.
const (
	KindRun  = "app.run"
	KindTry  = "app.try"
	KindMany = "app.many" // one app on several devices
)

// phases of a run; a tryout has more.
var (
	runPhases = []string{"build", "pack", "copy", "install", "start"}
	tryPhases = append(runPhases[:len(runPhases):len(runPhases)], "log", "picture")
)

// perHost is how many devices of one host are worked on at once.
const perHost = 4

// Kinds returns the kinds of jobs of this use case.
func (t *Tryouts) Kinds() []job.Kind {
	one := job.Kind{Hold: t.hold, Limit: t.limit, Run: t.run}
	run, try := one, one
	run.Name, try.Name = KindRun, KindTry
	return []job.Kind{run, try, {Name: KindMany, Run: t.runMany}}
}

// Result is what a run ends with; a tryout keeps more.
type Result struct {
	App     string `json:"app"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Tryout  string `json:"tryout,omitempty"` // id of what was kept
	Passed  bool   `json:"passed,omitempty"`
	Sent    int64  `json:"sent_bytes"`
	After   uint64 `json:"log_after"` // the log of this start comes behind this line
	// Devices is how it ended on each of several devices.
	Devices []DeviceResult `json:"devices,omitempty"`
}

// Ask is what is to be run: an app of a project, which is built, or an app file by
// its digest.
type Ask struct {
	App     string
	Build   string // which of the project's builds; "" for the project itself
	File    string
	Devices []string // handles
	Try     bool
	// Unattended says that nobody is present: a run that needs a person fails at once.
	Unattended bool
	Actor      string
	// Looks is what a tryout of an app file checks; nil means what the app's project says, if there is one.
	Looks *appfile.Try
	Mark  string // one more subject of the job, of one device; "" for none
}

// args are the arguments of a job for one device.
type args struct {
	App    string `json:"app,omitempty"`
	Build  string `json:"build,omitempty"`
	File   string `json:"file,omitempty"`
	Device string `json:"device"` // id
	Try    bool   `json:"try,omitempty"`

	Unattended bool         `json:"unattended,omitempty"`
	Looks      *appfile.Try `json:"looks,omitempty"`
}

// checkpoint is where an interrupted job continues.
type checkpoint struct {
	Packed store.AppFile `json:"packed"`
}

// Start starts the job that runs or tries an app on devices. If a single device is not
// ready, Start fails at once; for several devices the table at the end says so.
func (t *Tryouts) Start(ctx context.Context, ask Ask) (job.Job, error) {
	if len(ask.Devices) != 1 {
		return t.startMany(ctx, ask)
	}
	k, err := t.Rack.Find(ask.Devices[0])
	if err != nil {
		return job.Job{}, err
	}
	w := &work{Tryouts: t}
	if err := w.find(ctx, ask.App, ask.Build, ask.File); err != nil {
		return job.Job{}, err
	}
	if err := w.canRun(ctx, k, ask.Build); err != nil {
		return job.Job{}, err
	}
	return t.Jobs.Start(ctx, t.jobFor(k, w.project.ID, ask, ""))
}

// canRun returns the problem that stands in the way of running an app on a device. An app
// that is not made for the device comes first.
func (w *work) canRun(ctx context.Context, k *keeper.Keeper, build string) error {
	switch now := w.Outlook.Glance(k, w.project.ID); {
	case now.Readiness.Unfit:
		return now.Blocked()
	case now.Readiness.Gate("admitted").State == ready.Shut:
		return now.BlockedAt("admitted")
	case build != "" || w.packedAlready: // signed otherwise than the project
		start, err := w.signedAs(ctx)
		if err == nil {
			err = w.Covered(k, start)
		}
		if err != nil {
			return err
		}
	default:
		for _, gate := range []string{"granted", "token"} { // found before anything is built or sent
			if now.Readiness.Gate(gate).State == ready.Shut {
				return now.BlockedAt(gate)
			}
		}
	}
	return w.Outlook.Reachable(k)
}

// signedAs is what a device will see of what is run: by whom it is signed, and how it was built. What an
// app file holds was checked when it was taken in.
func (w *work) signedAs(ctx context.Context) (statement.Start, error) {
	if !w.packedAlready {
		return w.SignedAs(ctx, w.project)
	}
	f, err := w.Files.Open(w.packed.File)
	if err != nil {
		return statement.Start{}, fmt.Errorf("open the app file: %w", err)
	}
	defer f.Close()
	opened, err := appfile.Reopen(f, w.packed.Size)
	if err != nil {
		return statement.Start{}, fmt.Errorf("read the app file: %w", err)
	}
	m := opened.App
	return statement.Start{App: m.ID, Developer: m.By(), Signed: opened.Signed(), Debug: m.Debug, Features: m.Features}, nil
}

// SignedAs is what a device will see of an app that is built as a project says.
func (t *Tryouts) SignedAs(ctx context.Context, p *appfile.Project) (statement.Start, error) {
	start := statement.Start{App: p.ID, Developer: t.Safe.Thumbprint(), Signed: appfile.Certified(p.Identity), Debug: p.Debug, Features: p.Features}
	switch _, peer := appfile.SplitIdentity(p.Identity); {
	case peer != "":
		key, ok := t.Far.Known(ctx, p.Identity)
		if start.Developer = ""; ok {
			start.Developer = key.Thumbprint()
		}
	case start.Signed:
		certificate, _, err := t.Identity(ctx, p.Identity)
		if err != nil {
			return start, err
		}
		start.Developer = appfile.Identity{Certificate: certificate}.Public().Thumbprint()
	}
	return start, nil
}

// jobFor is the job that runs an app on one device.
func (t *Tryouts) jobFor(k *keeper.Keeper, app string, ask Ask, parent string) job.New {
	d := k.Device()
	kind, verb, phases := KindRun, "Run", runPhases
	if ask.Try {
		kind, verb, phases = KindTry, "Try", tryPhases
	}
	if ask.File != "" {
		phases = phases[2:]
	}
	subjects := []string{"device/" + d.ID}
	if ask.Mark != "" {
		subjects = append(subjects, ask.Mark)
	}
	return job.New{Kind: kind, Title: fmt.Sprintf("%s %s on %s", verb, app, d.Handle), Device: d.Handle, Subjects: subjects, Parent: parent,
		Actor: ask.Actor, Args: args{App: ask.App, Build: ask.Build, File: ask.File, Device: d.ID, Try: ask.Try, Unattended: ask.Unattended, Looks: ask.Looks}, Phases: phases}
}

func argsOf(j job.Job) (a args, err error) {
	return a, json.Unmarshal(j.Args, &a)
}

// hold reserves the device for the job.
func (t *Tryouts) hold(ctx context.Context, j job.Job) (func(), error) {
	a, err := argsOf(j)
	if err != nil {
		return nil, err
	}
	k := t.Rack.ByID(a.Device)
	if k == nil {
		return nil, fmt.Errorf("device %s: %w", j.Device, store.ErrNotFound)
	}
	return k.Lease(ctx, j.Title, keeper.Exclusive)
}

// limit bounds how many devices of one host are worked on at the same time.
func (t *Tryouts) limit(j job.Job) (string, int) {
	if a, err := argsOf(j); err == nil {
		if k := t.Rack.ByID(a.Device); k != nil && k.Host() != "" {
			return "host/" + k.Host(), perHost
		}
	}
	return "", 0
}

// work is one run of an app on a device.
type work struct {
	*Tryouts
	project *appfile.Project
	keeper  *keeper.Keeper
	run     *job.Run
	try     bool
	// unattended: nobody is there, so that nothing waits for a person.
	unattended bool
	session    device.Session
	packed     store.AppFile
	// packedAlready: it came as an app file, or was packed before the service ended,
	// so that nothing is built or packed.
	packedAlready bool
	record        store.Tryout
	result        Result
	before        uint64 // the log's last line before the start, or that was read
	way           string // by which the session is; "" before there is one
	again         bool   // the phase was begun before, over another way
}

// backWithin is how long a resumed job waits for its device.
const backWithin = 2 * time.Minute

func (t *Tryouts) run(ctx context.Context, run *job.Run) (any, error) {
	j := run.Job()
	a, err := argsOf(j)
	if err != nil {
		return nil, err
	}
	w := &work{Tryouts: t, run: run, try: a.Try, unattended: a.Unattended, keeper: t.Rack.ByID(a.Device)}
	if err := w.find(ctx, a.App, a.Build, a.File); err != nil {
		return nil, err
	}
	if a.Looks != nil {
		w.project.Try = *a.Looks
	}
	var kept checkpoint
	if run.Kept(&kept) {
		w.packed, w.packedAlready, w.result.Digest = kept.Packed, true, kept.Packed.Digest
	}
	w.record = store.Tryout{ID: j.ID, Device: w.keeper.Device().Handle, App: w.project.ID, Version: w.project.Version}
	return w.do(ctx)
}

type step struct {
	name string
	do   func(context.Context) (string, error)
}

func (w *work) steps() []step {
	steps := []step{{"build", w.build}, {"pack", w.pack}, {"copy", w.copy}, {"install", w.install}, {"start", w.start}}
	if w.packedAlready {
		steps = steps[2:]
	}
	if w.try {
		steps = append(steps, step{"log", w.watchLog}, step{"picture", w.takePicture})
	}
	return steps
}

func (w *work) do(ctx context.Context) (any, error) {
	if !w.unattended {
		ctx = device.WithAsking(ctx, w.run.Asks)
	}
	for _, s := range w.steps() {
		w.run.Phase(s.name, 0)
		began := time.Now()
		text, err := w.goOn(ctx, s)
		point := store.Point{Name: s.name, OK: err == nil, Text: text, Took: time.Since(began).Milliseconds()}
		stopped := errors.Is(context.Cause(ctx), job.ErrStopped)
		switch {
		case err != nil && stopped:
			point.Text = "stopped"
		case err != nil:
			point.Text = err.Error()
		}
		w.record.Points = append(w.record.Points, point)
		if err == nil {
			continue
		}
		if errors.Is(err, device.ErrNotAdmitted) {
			handle := w.keeper.Device().Handle
			err = &problem.Problem{Kind: problem.Blocked, Gate: "admitted", Text: handle + " no longer admits this bench.", Remedy: "Ask again: earlybench prep " + handle + "."}
		}
		if ctx.Err() != nil && !stopped {
			return nil, context.Cause(ctx) // it continues with the next service
		}
		w.end(s.name, err, stopped)
		err = errors.Join(err, w.keep(ctx)) // which gives the result its tryout
		return w.resultSoFar(), err
	}
	w.record.Passed, w.result.Passed, w.record.Outcome = w.try, w.try, store.OutcomePassed
	err := w.keep(ctx)
	w.result.App, w.result.Version = w.project.ID, w.project.Version
	return w.result, err
}

// mostWays is how often a phase continues by another way, so that two ways that fail in turns do not go on for ever.
const mostWays = 20

// goOn does a step. If the link is lost and the device is also reached by another way,
// the step continues there: each step finds what was done before.
func (w *work) goOn(ctx context.Context, s step) (text string, err error) {
	w.again = false
	for range mostWays {
		if text, err = s.do(ctx); err == nil || w.session == nil || ctx.Err() != nil || !w.linkLost() {
			return text, err
		}
		next := w.keeper.Elsewhere(ctx, w.way)
		if next == nil {
			return text, err
		}
		was := w.way
		w.use(next)
		w.again = true
		w.run.Note(keeper.WentOn(was, w.way, "goes on"))
	}
	return text, err
}

// lostWithin is how long the end of a session may take to show: its channels may end before it.
const lostWithin = 300 * time.Millisecond

// linkLost reports whether the session has ended, so that an error says nothing of the app.
func (w *work) linkLost() bool {
	select {
	case <-w.session.Done():
		return true
	case <-time.After(lostWithin):
		return false
	}
}

// use sets the session for the following steps.
func (w *work) use(s device.Session) {
	w.session, w.way = s, w.keeper.WayOf(s)
}

// end notes the phase in which a run that did not pass ended, and how.
func (w *work) end(phase string, err error, stopped bool) {
	if stopped {
		w.record.Outcome, w.record.Failed = store.OutcomeStopped, "stopped in the phase "+phase
		return
	}
	w.record.Outcome, w.record.Failed = store.OutcomeFailed, phase+": "+err.Error()
	w.record.Ended = cmp.Or(w.record.Ended, endedAt(phase, err))
	if w.record.Ended == store.EndedLost {
		w.record.Outcome = store.OutcomeInterrupted
	}
}

// resultSoFar is the result of a run that failed; nil if there is none.
func (w *work) resultSoFar() any {
	if w.result.Tryout == "" {
		return nil
	}
	w.result.App, w.result.Version = w.project.ID, w.project.Version
	return w.result
}

// endedAt tells what a phase's failure shows of the device or the app; "" where
// it shows nothing of either.
func endedAt(phase string, err error) string {
	if problem.KindOf(err) == problem.Gone {
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
// something of the device; what it showed is observed.
func (w *work) keep(ctx context.Context) error {
	stopped := w.record.Outcome == store.OutcomeStopped
	if !w.try || w.record.Digest == "" && w.record.Ended == "" && !stopped {
		return nil
	}
	ctx = context.WithoutCancel(ctx)
	w.record.Digest = w.packed.Digest
	w.record.Created = w.Clock.Now().UTC()
	d := w.keeper.Device()
	if err := w.Store.SaveTryout(ctx, d.ID, w.record); err != nil {
		return err
	}
	if w.result.Tryout = w.record.ID; stopped {
		return nil // nothing was learned of the app
	}
	seen := func(k fact.Key, v fact.Value) fact.Fact {
		return fact.Fact{Key: k, Value: v, Source: fact.Device, At: w.record.Created}
	}
	return w.Book.Observe(ctx, facts.OnDevice(d.ID, w.record.App), seen(fact.AppTried, fact.Of(w.record.Passed)), seen(fact.AppFailed, fact.Of(w.record.Ended)))
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

package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/problem"
)

// Runner runs jobs. It is made by NewRunner and ends with Close.
type Runner struct {
	keeper Keeper
	clock  clock.Clock
	id     func() string

	ctx    context.Context
	cancel context.CancelCauseFunc
	jobs   sync.WaitGroup

	mu     sync.Mutex // guards all below
	closed bool
	kinds  map[string]*Kind
	runs   map[string]*Run
	shares map[string]chan struct{} // what limits are counted by
}

// Causes of the end of a job's context.
var (
	ErrStopped = errors.New("stopped")               // by a person
	errClosing = errors.New("the service is ending") // it goes on with the next
)

// NewRunner makes a runner; id makes identifiers.
func NewRunner(k Keeper, c clock.Clock, id func() string) *Runner {
	ctx, cancel := context.WithCancelCause(context.Background())
	return &Runner{keeper: k, clock: c, id: id, ctx: ctx, cancel: cancel, kinds: map[string]*Kind{}, runs: map[string]*Run{}, shares: map[string]chan struct{}{}}
}

// Register adds kinds of jobs. All must be there before Resume.
func (r *Runner) Register(kinds ...Kind) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range kinds {
		r.kinds[k.Name] = &k
	}
}

// Start starts a job: it reserves what the job works on, saves the record, and then runs the
// Run function of the job's kind in a goroutine of its own. It returns the record at the
// start.
func (r *Runner) Start(ctx context.Context, n New) (Job, error) {
	args, err := json.Marshal(n.Args)
	if err != nil {
		return Job{}, fmt.Errorf("record the job's arguments: %w", err)
	}
	j := Job{ID: r.id(), Kind: n.Kind, Title: n.Title, Device: n.Device, Subjects: n.Subjects, Parent: n.Parent, Actor: n.Actor, Args: args, Begun: 1, Reservation: Reservation(ctx),
		State: Waiting, Created: r.clock.Now().UTC()}
	for _, p := range n.Phases {
		j.Phases = append(j.Phases, Phase{Name: p, State: Waiting})
	}
	run, release, err := r.hold(ctx, j)
	if err != nil {
		return j, err
	}
	if err := r.keeper.Save(ctx, j); err != nil {
		release()
		return j, fmt.Errorf("record the job: %w", err)
	}
	if !r.begin(run, release) {
		release()
		return j, problem.New(problem.Unavailable, "the service is ending")
	}
	return j, nil
}

// Resume continues the jobs that were interrupted by the end of the service, under their
// ids.
func (r *Runner) Resume(ctx context.Context, cut []Job) {
	for _, j := range cut {
		j.Begun++
		run, release, err := r.hold(ctx, j)
		if err == nil && run.kind.Asks {
			release()
			err = &problem.Problem{Kind: problem.Person}
			j.Interrupt(r.clock.Now().UTC(), "The question was not asked again: start it again when somebody is there to answer.")
		} else if err != nil {
			j.State, j.Ended, j.Error = Failed, r.clock.Now().UTC(), problem.Of(err)
		}
		if err != nil {
			r.endAtOnce(j)
			continue
		}
		r.begin(run, release)
	}
}

// endAtOnce puts the end of a job on record that was not begun again. Until that has worked, whoever asks
// hears of the end from here.
func (r *Runner) endAtOnce(j Job) {
	run := &Run{runner: r, job: j, ended: make(chan struct{}), stop: func(error) {}}
	r.mu.Lock()
	r.runs[j.ID] = run
	r.mu.Unlock()
	r.jobs.Go(func() {
		run.saveEnd()
		r.forget(run)
	})
}

// forget lets go of a run whose end is on record. Whoever waited for it finds it gone.
func (r *Runner) forget(run *Run) {
	r.mu.Lock()
	delete(r.runs, run.job.ID)
	r.mu.Unlock()
	close(run.ended)
}

// hold reserves what a job works on, and makes its run.
func (r *Runner) hold(ctx context.Context, j Job) (*Run, func(), error) {
	r.mu.Lock()
	kind := r.kinds[j.Kind]
	r.mu.Unlock()
	if kind == nil {
		return nil, nil, fmt.Errorf("this version has no jobs of the kind %q", j.Kind)
	}
	release := func() {}
	if kind.Hold != nil {
		var err error
		if release, err = kind.Hold(Reserved(ctx, j.Reservation), j); err != nil {
			return nil, nil, err
		}
	}
	return &Run{runner: r, kind: kind, job: j.copy(), ended: make(chan struct{})}, release, nil
}

// begin runs a job; false if the runner has closed.
func (r *Runner) begin(run *Run, release func()) bool {
	work, stop := context.WithCancelCause(Reserved(r.ctx, run.job.Reservation))
	run.stop = stop
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return false
	}
	r.runs[run.job.ID] = run
	r.jobs.Go(func() {
		defer stop(nil)
		result, err := r.work(work, run)
		release()
		run.end(work, result, err)
		r.forget(run)
	})
	return true
}

// work waits for the job's turn and runs it. A panic fails this job, not the service.
func (r *Runner) work(ctx context.Context, run *Run) (result any, err error) {
	failed := defect.Contain("a job of the kind "+run.kind.Name, func() error {
		result, err = r.inTurn(ctx, run)
		return nil
	})
	if failed != nil {
		return nil, failed
	}
	return result, err
}

func (r *Runner) inTurn(ctx context.Context, run *Run) (any, error) {
	share := r.share(run)
	if share != nil {
		select {
		case share <- struct{}{}:
			defer func() { <-share }()
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
	run.save(func(j *Job, _ time.Time) { j.State = Running }) //nolint:errcheck // the end is saved
	return run.kind.Run(ctx, run)
}

func (r *Runner) share(run *Run) chan struct{} {
	if run.kind.Limit == nil {
		return nil
	}
	name, most := run.kind.Limit(run.Job())
	if name == "" {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.shares[name] == nil {
		r.shares[name] = make(chan struct{}, most)
	}
	return r.shares[name]
}

// Stop stops a running job; false if no job with that id is running. One that has ended and
// whose end cannot be saved yet is not running.
func (r *Runner) Stop(id string) bool {
	r.mu.Lock()
	run := r.runs[id]
	r.mu.Unlock()
	if run == nil || run.Job().State.Ended() {
		return false
	}
	run.stop(ErrStopped)
	return true
}

// Job returns the record of a job that is running, or whose end is not on disk yet.
func (r *Runner) Job(id string) (Job, bool) {
	r.mu.Lock()
	run := r.runs[id]
	r.mu.Unlock()
	if run == nil {
		return Job{}, false
	}
	return run.Job(), true
}

// Working finds a running job of a kind that works on a subject.
func (r *Runner) Working(kind, subject string) (Job, bool) {
	r.mu.Lock()
	runs := slices.Collect(maps.Values(r.runs))
	r.mu.Unlock()
	for _, run := range runs {
		if j := run.Job(); j.Kind == kind && !j.State.Ended() && slices.Contains(j.Subjects, subject) {
			return j, true
		}
	}
	return Job{}, false
}

// Wait waits until a job has ended and its end is on record. It returns at once for a job
// that is not running.
func (r *Runner) Wait(ctx context.Context, id string) error {
	r.mu.Lock()
	run := r.runs[id]
	r.mu.Unlock()
	if run == nil {
		return nil
	}
	select {
	case <-run.ended:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Children returns the jobs that are part of another.
func (r *Runner) Children(ctx context.Context, parent string) ([]Job, error) {
	return r.keeper.Children(ctx, parent)
}

// Close interrupts all jobs, which the next service continues, and waits for them.
func (r *Runner) Close() {
	r.mu.Lock()
	r.closed = true
	r.mu.Unlock()
	r.cancel(errClosing)
	r.jobs.Wait()
}

// end puts a job's end on record.
func (r *Run) end(ctx context.Context, result any, err error) {
	cause := context.Cause(ctx)
	now := r.runner.clock.Now().UTC()
	if _, unsaved := json.Marshal(result); unsaved != nil {
		result, err = nil, fmt.Errorf("record the job's result: %w", errors.Join(unsaved, err))
	}
	r.mu.Lock()
	j := &r.job
	switch {
	case err == nil:
		j.State, j.Result = Done, result
	case errors.Is(cause, ErrStopped):
		j.State, j.Result, j.Error = Stopped, result, &problem.Problem{Kind: problem.Failed, Text: "Stopped."}
	case errors.Is(cause, errClosing) && r.kind.Asks:
		j.Interrupt(now, "start it again when somebody is there to answer.")
	case errors.Is(cause, errClosing): // it stays as it is, and goes on
		r.mu.Unlock()
		r.saving.Lock()
		defer r.saving.Unlock()
		r.put() //nolint:errcheck // it goes on from an earlier record then
		return
	default:
		j.State, j.Result, j.Error = Failed, result, problem.Of(err)
	}
	j.Ended = now
	for i := range j.Phases {
		if p := &j.Phases[i]; p.State == Running {
			p.State, p.Ended = j.State, now
		}
	}
	r.mu.Unlock()
	r.saveEnd()
}

// saveEnd saves until that works, so that no job stays running for ever. When the
// service ends before, the next one goes on with the job.
func (r *Run) saveEnd() {
	r.saving.Lock()
	defer r.saving.Unlock()
	for pause := 100 * time.Millisecond; r.put() != nil; pause = min(2*pause, 5*time.Second) {
		if clock.Sleep(r.runner.ctx, clock.System{}, pause) != nil {
			return
		}
	}
}

// Package job is work that takes time: phases with progress, an end that says
// what was and was not done. It holds the record and the runner; where records
// are kept is the matter of a [Keeper].
package job

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
)

// State is the state of a job or phase.
type State string

// The states.
const (
	Waiting     State = "waiting"
	Running     State = "running"
	Done        State = "done"
	Failed      State = "failed"
	Stopped     State = "stopped"     // by a person
	Interrupted State = "interrupted" // the service ended under it
)

// Ended tells whether a job in this state goes on no more.
func (s State) Ended() bool { return s != Waiting && s != Running }

// Job is a job's record.
type Job struct {
	ID      string    `json:"id"`
	Kind    string    `json:"kind"`
	Title   string    `json:"title"`
	Device  string    `json:"device,omitempty"` // handle
	State   State     `json:"state"`
	Phases  []Phase   `json:"phases"`
	Error   *Problem  `json:"error,omitempty"`
	Result  any       `json:"result,omitempty"`
	Created time.Time `json:"created"`
	Ended   time.Time `json:"ended,omitzero"`
}

// Phase is one part of a job. Bytes are counted where there are any.
type Phase struct {
	Name  string    `json:"name"`
	State State     `json:"state"`
	Done  int64     `json:"done"`
	Total int64     `json:"total"`
	Note  string    `json:"note,omitempty"`
	Began time.Time `json:"began,omitzero"`
	Ended time.Time `json:"ended,omitzero"`
}

// Kinds of problems, which callers tell apart.
const (
	Blocked = "blocked" // a gate is not open
	Person  = "person"  // a person is needed
	Gone    = "gone"    // the device was lost on the way
	Refused = "refused" // not allowed
	Other   = "failed"
)

// Problem is why a job failed, and what to do now. It is an error.
type Problem struct {
	Kind   string `json:"kind"`
	Text   string `json:"text"`
	Gate   string `json:"gate,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Text
	}
	return p.Text + " " + p.Remedy
}

// A Keeper keeps jobs. Save is called at every change, from the job's own
// goroutine and not too often; the record is not changed later.
type Keeper interface {
	Save(ctx context.Context, j Job) error
}

// Runner runs jobs. It is made by New and ends with Close.
type Runner struct {
	keeper Keeper
	clock  clock.Clock
	id     func() string

	ctx    context.Context
	cancel context.CancelFunc
	jobs   sync.WaitGroup

	mu   sync.Mutex
	runs map[string]*Run
}

// New makes a runner; id makes identifiers.
func New(k Keeper, c clock.Clock, id func() string) *Runner {
	ctx, cancel := context.WithCancel(context.Background())
	return &Runner{keeper: k, clock: c, id: id, ctx: ctx, cancel: cancel, runs: map[string]*Run{}}
}

// Run is a job that is running, as its work sees it.
type Run struct {
	runner *Runner
	stop   context.CancelCauseFunc

	mu    sync.Mutex
	job   Job
	saved time.Time
}

// progressEvery is how often progress alone is saved.
const progressEvery = 200 * time.Millisecond

// ErrStopped is the cause of a context that a person's stop ended.
var ErrStopped = errors.New("stopped")

// Start begins a job: the record is saved, then do runs in a goroutine of its
// own. The job returned is the record as it begins.
func (r *Runner) Start(ctx context.Context, kind, title, device string, phases []string, do func(ctx context.Context, run *Run) (any, error)) (Job, error) {
	j := Job{ID: r.id(), Kind: kind, Title: title, Device: device, State: Running, Created: r.clock.Now().UTC()}
	for _, p := range phases {
		j.Phases = append(j.Phases, Phase{Name: p, State: Waiting})
	}
	if err := r.keeper.Save(ctx, j); err != nil {
		return j, fmt.Errorf("record the job: %w", err)
	}
	work, stop := context.WithCancelCause(r.ctx)
	run := &Run{runner: r, stop: stop, job: j}
	run.job.Phases = append([]Phase(nil), j.Phases...)
	r.mu.Lock()
	r.runs[j.ID] = run
	r.mu.Unlock()
	r.jobs.Go(func() {
		defer stop(nil)
		result, err := do(work, run)
		run.end(work, result, err)
		r.mu.Lock()
		delete(r.runs, j.ID)
		r.mu.Unlock()
	})
	return j, nil
}

// Stop stops a running job; false if there is none of that id.
func (r *Runner) Stop(id string) bool {
	r.mu.Lock()
	run := r.runs[id]
	r.mu.Unlock()
	if run != nil {
		run.stop(ErrStopped)
	}
	return run != nil
}

// Close interrupts all jobs and waits for them.
func (r *Runner) Close() {
	r.cancel()
	r.jobs.Wait()
}

// Phase ends the phase before and begins the named one; total is its size in
// bytes, or 0.
func (r *Run) Phase(name string, total int64) {
	r.change(true, func(j *Job, now time.Time) {
		for i := range j.Phases {
			p := &j.Phases[i]
			switch {
			case p.Name == name:
				p.State, p.Began, p.Total, p.Done = Running, now, total, 0
			case p.State == Running:
				p.State, p.Ended = Done, now
			}
		}
	})
}

// Progress says how far the running phase is.
func (r *Run) Progress(done int64) {
	r.change(false, func(j *Job, _ time.Time) {
		for i := range j.Phases {
			if j.Phases[i].State == Running {
				j.Phases[i].Done = done
			}
		}
	})
}

// Note puts a line beside the running phase.
func (r *Run) Note(text string) {
	r.change(false, func(j *Job, _ time.Time) {
		for i := range j.Phases {
			if j.Phases[i].State == Running {
				j.Phases[i].Note = text
			}
		}
	})
}

func (r *Run) copy() Job {
	j := r.job
	j.Phases = append([]Phase(nil), j.Phases...)
	return j
}

func (r *Run) change(atOnce bool, f func(*Job, time.Time)) {
	r.mu.Lock()
	now := r.runner.clock.Now().UTC()
	f(&r.job, now)
	if real := time.Now(); atOnce || real.Sub(r.saved) >= progressEvery {
		r.saved = real
		j := r.copy()
		r.mu.Unlock()
		r.runner.keeper.Save(context.Background(), j) //nolint:errcheck // the end is saved with its error
		return
	}
	r.mu.Unlock()
}

func (r *Run) end(ctx context.Context, result any, err error) {
	r.change(true, func(j *Job, now time.Time) {
		j.Ended, j.Result, j.State = now, result, Done
		switch cause := context.Cause(ctx); {
		case err == nil:
		case errors.Is(cause, ErrStopped):
			j.State, j.Error = Stopped, &Problem{Kind: Other, Text: "Stopped."}
		case r.runner.ctx.Err() != nil:
			j.State = Running
			j.Interrupt(now)
		default:
			j.State = Failed
			if !errors.As(err, &j.Error) {
				j.Error = &Problem{Kind: Other, Text: err.Error()}
			}
		}
		for i := range j.Phases {
			if p := &j.Phases[i]; p.State == Running {
				p.State, p.Ended = j.State, now
			}
		}
	})
}

// Interrupt marks a job whose service ended under it, and says how far it was.
func (j *Job) Interrupt(now time.Time) {
	if j.State.Ended() {
		return
	}
	text := "The service ended while this was running."
	for i := range j.Phases {
		p := &j.Phases[i]
		if p.State != Running {
			continue
		}
		p.State, p.Ended = Interrupted, now
		text = fmt.Sprintf("The service ended during the phase %s.", p.Name)
		if p.Total > 0 {
			text = fmt.Sprintf("The service ended during the phase %s, at %d of %d bytes.", p.Name, p.Done, p.Total)
		}
	}
	j.State, j.Ended, j.Error = Interrupted, now, &Problem{Kind: Other, Text: text, Remedy: "Start it again: what has arrived is not sent twice."}
}

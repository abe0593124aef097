package job

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"
)

// Run is a running job, as seen by its work.
type Run struct {
	runner *Runner
	kind   *Kind
	stop   context.CancelCauseFunc
	ended  chan struct{} // closed once its end is on record, or the runner has closed

	saving sync.Mutex // held while the record is saved, before mu
	mu     sync.Mutex
	job    Job
	saved  time.Time
}

// progressEvery is how often progress alone is saved.
const progressEvery = 200 * time.Millisecond

// Job is the record as it is now.
func (r *Run) Job() Job {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.job.copy()
}

// Args decodes the job's arguments into v.
func (r *Run) Args(v any) error {
	if err := json.Unmarshal(r.Job().Args, v); err != nil {
		return fmt.Errorf("read the job's arguments: %w", err)
	}
	return nil
}

// Keep stores v as the checkpoint from which the job continues if the service ends. When it
// returns nil, v is on disk.
func (r *Run) Keep(v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return r.save(func(j *Job, _ time.Time) { j.Kept = raw })
}

// Kept decodes the last checkpoint into v; false if there is none.
func (r *Run) Kept(v any) bool {
	raw := r.Job().Kept
	return len(raw) > 0 && json.Unmarshal(raw, v) == nil
}

// Phase ends the previous phase and starts the named one; total is its size in bytes, or
// 0.
func (r *Run) Phase(name string, total int64) {
	r.save(func(j *Job, now time.Time) { //nolint:errcheck // the end is saved, however long that takes
		for i := range j.Phases {
			p := &j.Phases[i]
			switch {
			case p.Name == name:
				*p = Phase{Name: name, State: Running, Began: now, Total: total}
			case p.State == Running:
				p.State, p.Ended = Done, now
			}
		}
	})
}

// Progress sets the progress of the running phase, in bytes.
func (r *Run) Progress(done int64) { r.running(func(p *Phase) { p.Done = done }) }

// Note sets a remark on the running phase.
func (r *Run) Note(text string) { r.running(func(p *Phase) { p.Note = text }) }

// Asks sets what the running phase waits for a person to do; "" if it waits no longer.
func (r *Run) Asks(text string) {
	r.save(func(j *Job, _ time.Time) { //nolint:errcheck // as above
		for i := range j.Phases {
			if j.Phases[i].State == Running {
				j.Phases[i].Asks = text
			}
		}
	})
}

// running changes the running phase; it is saved now and then.
func (r *Run) running(change func(*Phase)) {
	r.mu.Lock()
	for i := range r.job.Phases {
		if r.job.Phases[i].State == Running {
			change(&r.job.Phases[i])
		}
	}
	due := time.Since(r.saved) >= progressEvery
	r.mu.Unlock()
	if due && r.saving.TryLock() {
		defer r.saving.Unlock()
		r.put() //nolint:errcheck // as above
	}
}

// save changes the record and saves it.
func (r *Run) save(change func(*Job, time.Time)) error {
	r.saving.Lock()
	defer r.saving.Unlock()
	r.mu.Lock()
	change(&r.job, r.runner.clock.Now().UTC())
	r.mu.Unlock()
	return r.put()
}

// saveWithin bounds one saving.
const saveWithin = 10 * time.Second

// put saves the record; saving is held.
func (r *Run) put() error {
	r.mu.Lock()
	j := r.job.copy()
	r.saved = time.Now()
	r.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), saveWithin)
	defer cancel()
	return r.runner.keeper.Save(ctx, j)
}

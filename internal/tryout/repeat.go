package tryout

import (
	"context"
	"encoding/json"
	"fmt"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
)

// Repeatable reports whether a job is a run or tryout that has ended, so that it can be
// done again.
func Repeatable(j job.Job) bool {
	switch j.Kind {
	case KindRun, KindTry, KindMany:
		return !j.Ended.IsZero()
	}
	return false
}

// Repeat starts a run or tryout again. One on several devices is repeated on those where
// it failed, or on all of them if it failed on none.
func (t *Tryouts) Repeat(ctx context.Context, j job.Job, actor string) (job.Job, error) {
	if !Repeatable(j) {
		return job.Job{}, problem.Errorf(problem.Invalid, "job %s is not a finished run or tryout, so it cannot be repeated", j.ID)
	}
	ask, ids, err := asked(j)
	if err != nil {
		return job.Job{}, fmt.Errorf("read what job %s did: %w", j.ID, err)
	}
	ask.Actor = actor
	if r, ok := ResultOf(j.Result); ok {
		for _, d := range r.Devices {
			if d.State != job.Done {
				ask.Devices = append(ask.Devices, d.Device)
			}
		}
	}
	if len(ask.Devices) == 0 {
		for _, id := range ids {
			k := t.Rack.ByID(id)
			if k == nil {
				return job.Job{}, problem.Errorf(problem.NotFound, "a device of job %s is no longer on the rack", j.ID)
			}
			ask.Devices = append(ask.Devices, k.Device().Handle)
		}
	}
	return t.Start(ctx, ask)
}

// asked returns what a job was asked to do, and the ids of its devices.
func asked(j job.Job) (Ask, []string, error) {
	if j.Kind == KindMany {
		var a argsMany
		err := json.Unmarshal(j.Args, &a)
		return Ask{App: a.App, File: a.File, Try: a.Try}, a.Devices, err
	}
	a, err := argsOf(j)
	return Ask{App: a.App, File: a.File, Try: a.Try, Looks: a.Looks}, []string{a.Device}, err
}

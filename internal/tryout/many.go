package tryout

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// One app on several devices is one job with a child for each device: the app is built
// and packed once, the devices are handled independently of each other, and the result is
// a table.

// DeviceResult is the result on one device.
type DeviceResult struct {
	Device string           `json:"device"`
	Job    string           `json:"job,omitempty"` // "" where it was not begun
	State  job.State        `json:"state"`
	Tryout string           `json:"tryout,omitempty"`
	Unfit  bool             `json:"unfit,omitempty"` // the app is not made for its family
	Error  *problem.Problem `json:"error,omitempty"`
}

// argsMany are the arguments of a job for several devices.
type argsMany struct {
	App     string   `json:"app,omitempty"`
	Build   string   `json:"build,omitempty"`
	File    string   `json:"file,omitempty"`
	Devices []string `json:"devices"` // ids
	Try     bool     `json:"try,omitempty"`

	Unattended bool `json:"unattended,omitempty"`
}

func (t *Tryouts) startMany(ctx context.Context, ask Ask) (job.Job, error) {
	if len(ask.Devices) == 0 {
		return job.Job{}, problem.New(problem.Invalid, "name a device: nothing is sent to a device that was not named")
	}
	w := &work{Tryouts: t}
	if err := w.find(ctx, ask.App, ask.Build, ask.File); err != nil {
		return job.Job{}, err
	}
	a := argsMany{App: ask.App, Build: ask.Build, File: ask.File, Try: ask.Try, Unattended: ask.Unattended}
	var subjects []string
	for _, handle := range ask.Devices {
		k, err := t.Rack.Find(handle)
		if err != nil {
			return job.Job{}, err
		}
		id := k.Device().ID
		if slices.Contains(a.Devices, id) {
			return job.Job{}, problem.Errorf(problem.Invalid, "device %s is named twice", handle)
		}
		a.Devices = append(a.Devices, id)
		subjects = append(subjects, "device/"+id)
	}
	verb, phases := "Run", []string{"build", "pack", "devices"}
	if ask.Try {
		verb = "Try"
	}
	if ask.File != "" {
		phases = phases[2:]
	}
	return t.Jobs.Start(ctx, job.New{Kind: KindMany, Title: fmt.Sprintf("%s %s on %d devices", verb, w.project.ID, len(a.Devices)), Subjects: subjects,
		Actor: ask.Actor, Args: a, Phases: phases})
}

func (t *Tryouts) runMany(ctx context.Context, run *job.Run) (any, error) {
	var a argsMany
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	w := &work{Tryouts: t, run: run}
	if err := w.find(ctx, a.App, a.Build, a.File); err != nil {
		return nil, err
	}
	var kept checkpoint
	switch {
	case a.File != "":
	case run.Kept(&kept):
		a.File = kept.Packed.Digest
	default:
		run.Phase("build", 0)
		if _, err := w.build(ctx); err != nil {
			return nil, err
		}
		run.Phase("pack", 0)
		if _, err := w.pack(ctx); err != nil {
			return nil, err
		}
		a.File = w.packed.Digest
	}
	run.Phase("devices", 0)
	parts, err := w.begin(ctx, run, a)
	if err != nil {
		return nil, err
	}
	result := Result{App: w.project.ID, Version: w.project.Version, Digest: a.File}
	failed := 0
	for n := range parts {
		row, err := t.wait(ctx, &parts[n])
		if err != nil {
			if errors.Is(err, job.ErrStopped) {
				for _, part := range parts[n:] {
					t.Jobs.Stop(part.Job)
				}
			}
			return nil, err
		}
		if row.State != job.Done {
			failed++
		}
		result.Devices = append(result.Devices, row)
		run.Note(fmt.Sprintf("%d of %d", n+1, len(parts)))
	}
	result.Passed = a.Try && failed == 0
	if failed > 0 {
		return result, &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("It failed on %d of %d devices.", failed, len(parts)), Remedy: "The table shows the reason for each."}
	}
	return result, nil
}

// begin starts a child job for every device that has none yet.
func (w *work) begin(ctx context.Context, run *job.Run, a argsMany) ([]DeviceResult, error) {
	t, app, parent := w.Tryouts, w.project.ID, run.Job()
	begun, err := t.Jobs.Children(ctx, parent.ID)
	if err != nil {
		return nil, err
	}
	var parts []DeviceResult
	for _, id := range a.Devices {
		if i := slices.IndexFunc(begun, func(j job.Job) bool { return slices.Contains(j.Subjects, "device/"+id) }); i >= 0 {
			parts = append(parts, DeviceResult{Device: begun[i].Device, Job: begun[i].ID})
			continue
		}
		part := DeviceResult{Device: id, State: job.Failed}
		k := t.Rack.ByID(id)
		if k == nil {
			part.Error = problem.Of(fmt.Errorf("device %s: %w", id, store.ErrNotFound))
			parts = append(parts, part)
			continue
		}
		part.Device = k.Device().Handle
		err := w.canRun(ctx, k, a.Build)
		if err == nil {
			var j job.Job
			j, err = t.Jobs.Start(ctx, t.jobFor(k, app, Ask{File: a.File, Try: a.Try, Unattended: a.Unattended, Actor: parent.Actor}, parent.ID))
			part.Job = j.ID
		}
		if err != nil {
			part.Job, part.Error, part.Unfit = "", problem.Of(err), t.Outlook.Glance(k, app).Readiness.Unfit
		}
		parts = append(parts, part)
	}
	return parts, nil
}

// wait waits for the end of one child job.
func (t *Tryouts) wait(ctx context.Context, part *DeviceResult) (DeviceResult, error) {
	if part.Job == "" {
		return *part, nil
	}
	if err := t.Jobs.Wait(ctx, part.Job); err != nil {
		return *part, err
	}
	j, err := t.Store.Job(ctx, part.Job)
	if err != nil {
		return *part, err
	}
	row := DeviceResult{Device: j.Device, Job: j.ID, State: j.State, Error: j.Error}
	var r Result
	if raw, err := json.Marshal(j.Result); err == nil && json.Unmarshal(raw, &r) == nil {
		row.Tryout = r.Tryout
	}
	return row, nil
}

package service

import (
	"context"
	"errors"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/tryout"
)

// delivering puts the apps of peers onto devices of this bench, as runs and tryouts.
type delivering struct {
	*tryout.Tryouts
	in *Insides
}

var _ signing.Apps = delivering{}

// CanTake is the one of tryouts, for a peer.
func (d delivering) CanTake(ctx context.Context, k *keeper.Keeper, m *appfile.Manifest, certified bool) error {
	return inUse(k.Device().Handle, d.Tryouts.CanTake(ctx, k, m, certified))
}

// inUse is an error without the title of other work on the device, which may name other peers.
func inUse(handle string, err error) error {
	if p, is := errors.AsType[*problem.Problem](err); is && p.Kind == problem.Blocked && p.Gate == "" {
		return problem.Errorf(problem.Taken, "%s is in use just now", handle)
	}
	return err
}

// Put begins.
func (d delivering) Put(ctx context.Context, mark, file string, in core.Deliver, actor string) (string, error) {
	j, err := d.Start(ctx, tryout.Ask{File: file, Devices: []string{in.Device}, Try: in.Try, Unattended: true, Actor: actor, Mark: mark, Looks: &appfile.Try{Log: in.Log, Within: in.Within}})
	return j.ID, inUse(in.Device, err)
}

// justEnded is how many of the newest jobs are looked through for one that was begun before.
const justEnded = 200

// Begun looks among the newest jobs.
func (d delivering) Begun(ctx context.Context, mark string) (string, error) {
	all, err := d.in.Store.Jobs(ctx, "", justEnded)
	for _, j := range all {
		if slices.Contains(j.Subjects, mark) {
			return j.ID, nil
		}
	}
	return "", err
}

// Stop stops a job.
func (d delivering) Stop(id string) { d.in.Jobs.Stop(id) }

// toldLines is how many lines of a log a peer is told.
const toldLines = 40

// HowIsIt tells of a job by its phases, and of a tryout by its points.
func (d delivering) HowIsIt(ctx context.Context, id string) (out core.Delivered, err error) {
	j, going := d.in.Jobs.Job(id)
	if !going {
		if j, err = d.in.Store.Job(ctx, id); err != nil {
			return out, err
		}
	}
	out.State = core.DeliveryPuts
	for _, p := range j.Phases {
		switch p.State {
		case job.Running:
			out.Done, out.Total, out.Reason = p.Done, p.Total, strings.TrimSpace(p.Name+" "+p.Note)
		case job.Waiting:
		default:
			out.Points = append(out.Points, core.DeliveryPoint{Name: p.Name, OK: p.State == job.Done, Text: p.Note, Took: p.Ended.Sub(p.Began).Milliseconds()})
		}
	}
	if !j.State.Ended() {
		return out, nil
	}
	if out.State, out.Reason = core.DeliveryDone, ""; j.State != job.Done {
		out.State, out.Reason = core.DeliveryFailed, "it was stopped"
		if j.Error != nil {
			out.Reason = strings.TrimSuffix(j.Error.Text, ".")
		}
	}
	if r, ok := tryout.ResultOf(j.Result); ok && r.Tryout != "" {
		t, err := d.in.Store.Tryout(ctx, r.Tryout)
		if err != nil {
			return out, err
		}
		out.Tryout, out.Passed, out.Points = t.ID, t.Passed, nil
		for _, p := range t.Points {
			out.Points = append(out.Points, core.DeliveryPoint(p))
		}
		out.Log = t.Log[max(0, len(t.Log)-toldLines):]
	}
	return out, nil
}

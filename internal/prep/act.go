package prep

import (
	"context"
	"encoding/json"
	"fmt"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/plain"
)

// KindAct is the kind of job that does an action which whoever speaks for a device offers of its own.
const KindAct = "device.act"

// actArgs are the arguments of such a job.
type actArgs struct {
	Device string          `json:"device"` // id
	Action string          `json:"action"`
	Args   json.RawMessage `json:"args"`
}

// Actions returns the actions that are offered for a device, beside those that every device has.
func (p *Prep) Actions(handle string) ([]device.Action, error) {
	k, err := p.Rack.Find(handle)
	if err != nil {
		return nil, err
	}
	s, err := p.Outlook.SessionNow(k)
	if err != nil {
		return nil, err
	}
	actions, err := s.Actions()
	if err != nil {
		return nil, err
	}
	return actions.List(), nil
}

// Act starts the job that does an action, with arguments as its schema says.
func (p *Prep) Act(ctx context.Context, handle, action string, args json.RawMessage, actor string) (job.Job, error) {
	if _, err := p.Actions(handle); err != nil {
		return job.Job{}, err
	}
	k, err := p.Rack.Find(handle)
	if err != nil {
		return job.Job{}, err
	}
	id := k.Device().ID
	return p.Jobs.Start(ctx, job.New{Kind: KindAct, Title: fmt.Sprintf("Do %s on %s", plain.Cut(plain.Line(action), 60), handle), Device: handle, Subjects: []string{"device/" + id},
		Actor: actor, Args: actArgs{Device: id, Action: action, Args: args}, Phases: []string{"act"}})
}

// mostNote is how much of a result is noted, in bytes.
const mostNote = 1000

func (p *Prep) act(ctx context.Context, run *job.Run) (any, error) {
	var a actArgs
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	k := p.Rack.ByID(a.Device)
	run.Phase("act", 0)
	s, err := p.Outlook.Session(ctx, k)
	if err != nil {
		return nil, err
	}
	actions, err := s.Actions()
	if err != nil {
		return nil, err
	}
	result, err := actions.Do(device.WithAsking(ctx, run.Asks), a.Action, a.Args)
	if err == nil && len(result) > 0 && string(result) != "null" {
		run.Note(plain.Cut(plain.Line(string(result)), mostNote))
	}
	return nil, err
}

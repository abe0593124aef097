// Package prep does the steps of a prep that the bench can do: it makes a device ask its
// owner for admission, and show its handle. The sheet defines the steps; readiness tells
// which are done.
package prep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Prep is the use case. All fields are needed.
type Prep struct {
	Store   *store.Store
	Rack    *rack.Rack
	Outlook *outlook.Outlook
	Jobs    *job.Runner
	Bench   func() string // the bench's name, as devices show it
}

// KindAsk is the kind of job that makes a device ask its owner.
const KindAsk = "admission.ask"

// Kinds returns the kinds of jobs of this use case.
func (p *Prep) Kinds() []job.Kind {
	return []job.Kind{{Name: KindAsk, Hold: p.hold, Run: p.ask, Asks: true}, {Name: KindAct, Hold: p.hold, Run: p.act, Asks: true}}
}

// outcomes are the errors for questions that were not answered with yes.
var outcomes = map[device.AdmitState]problem.Problem{
	device.AdmitRefused: {Kind: problem.Person, Gate: "admitted", Text: "Somebody answered No on %s.",
		Remedy: "Ask again, and let this computer in on its screen."},
	device.AdmitExpired: {Kind: problem.Person, Gate: "admitted", Text: "Nobody answered on %s in time.",
		Remedy: "Pick it up, then ask again."},
	device.AdmitBusy: {Kind: problem.Person, Gate: "admitted", Text: "%s is asking about another computer just now.",
		Remedy: "Answer that question on its screen first, then ask again."},
}

type args struct {
	Device string `json:"device"` // id
}

// Ask starts the job that makes a device ask its owner to admit this bench. If one is
// running already, that one is returned.
func (p *Prep) Ask(ctx context.Context, handle, actor string, revision int64) (job.Job, error) {
	k, err := p.Rack.Find(handle)
	if err != nil {
		return job.Job{}, err
	}
	if j, ok := p.Jobs.Working(KindAsk, "device/"+k.Device().ID); ok {
		return j, nil
	}
	now := p.Outlook.Look(k, "")
	if g := now.Readiness.First; g != "" && g != "admitted" {
		return job.Job{}, now.Blocked()
	}
	if err := p.Outlook.Check(k, revision); err != nil {
		return job.Job{}, err
	}
	return p.Jobs.Start(ctx, job.New{Kind: KindAsk, Title: "Ask " + handle + " to let this bench in", Device: handle, Subjects: []string{"device/" + now.Device.ID},
		Actor: actor, Args: args{Device: now.Device.ID}, Phases: []string{"ask"}})
}

func (p *Prep) hold(ctx context.Context, j job.Job) (func(), error) {
	var a args
	if err := json.Unmarshal(j.Args, &a); err != nil {
		return nil, err
	}
	k := p.Rack.ByID(a.Device)
	if k == nil {
		return nil, fmt.Errorf("device %s: %w", j.Device, store.ErrNotFound)
	}
	return k.Lease(ctx, j.Title, keeper.Exclusive)
}

func (p *Prep) ask(ctx context.Context, run *job.Run) (any, error) {
	var a args
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	k := p.Rack.ByID(a.Device)
	run.Phase("ask", 0)
	handle := k.Device().Handle
	state, err := k.Ask(ctx, device.Visitor{Name: p.Bench(), Shared: p.Rack.Shared(k.Host())})
	switch {
	case errors.Is(err, keeper.ErrNoSession):
		return nil, p.Outlook.Look(k, "").Blocked()
	case err != nil:
		return nil, err
	case state == device.Admitted:
		return nil, nil
	}
	outcome, ok := outcomes[state]
	if !ok {
		return nil, fmt.Errorf("%s gave an unknown answer: %q", handle, state)
	}
	outcome.Text = fmt.Sprintf(outcome.Text, handle)
	return nil, &outcome
}

// Show makes the device show its handle on its screen. It can run beside other shared
// work on the device.
func (p *Prep) Show(ctx context.Context, handle string) error {
	k, err := p.Rack.Find(handle)
	if err != nil {
		return err
	}
	s, err := p.Outlook.Session(ctx, k)
	if err != nil {
		return err
	}
	release, err := k.Lease(ctx, "Show "+handle+" on its screen", keeper.Shared)
	if err != nil {
		return err
	}
	defer release()
	return s.Find(ctx, handle)
}

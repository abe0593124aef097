// Package prep leads a device through its steps: it asks for admission and
// keeps what people say they have done. What the steps are is the sheet's
// matter, whether they are done the readiness's.
package prep

import (
	"context"
	"fmt"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Prep is the use case. All fields are needed.
type Prep struct {
	Rack *keeper.Rack
	Jobs *job.Runner
}

// outcomes are the sentences for a question that did not end with a yes.
var outcomes = map[link.AdmitState]job.Problem{
	link.AdmitRefused: {Kind: job.Person, Gate: "admitted", Text: "Somebody answered No on %s.",
		Remedy: "Ask again, and choose This visit or Until withdrawn."},
	link.AdmitExpired: {Kind: job.Person, Gate: "admitted", Text: "Nobody answered on %s in time.",
		Remedy: "Take it in your hand, then ask again."},
	link.AdmitBusy: {Kind: job.Person, Gate: "admitted", Text: "%s is asking about another computer just now.",
		Remedy: "Answer that question on its screen first, then ask again."},
}

// Ask starts the job that has a device ask its owner to let this bench in.
func (p *Prep) Ask(ctx context.Context, handle string) (job.Job, error) {
	k, err := p.Rack.Find(handle)
	if err != nil {
		return job.Job{}, err
	}
	now := k.Look(ctx, "")
	if g := now.Readiness.First; g != "" && g != "admitted" {
		return job.Job{}, now.Blocked()
	}
	return p.Jobs.Start(ctx, "admission.ask", "Ask "+handle+" to let this bench in", handle, []string{"ask"},
		func(ctx context.Context, run *job.Run) (any, error) {
			run.Phase("ask", 0)
			state, err := k.Ask(ctx)
			if err != nil {
				return nil, err
			}
			if state == link.Admitted {
				return nil, nil
			}
			problem, ok := outcomes[state]
			if !ok {
				return nil, fmt.Errorf("%s answered %q, which is not known here", handle, state)
			}
			problem.Text = fmt.Sprintf(problem.Text, handle)
			return nil, &problem
		})
}

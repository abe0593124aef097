package belong

import (
	"context"
	"errors"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// KindSignIn is the kind of job that waits until a person has let the bench in at an authority.
const KindSignIn = "account.sign-in"

// SignIn begins to sign in at an authority; "" takes the only one there is. The job waits for
// the person, who opens the page and types the code.
func (b *Belong) SignIn(ctx context.Context, name, actor string) (job.Job, authority.SignIn, error) {
	if name == "" {
		all := b.cfg.Authorities.All()
		if len(all) != 1 {
			return job.Job{}, authority.SignIn{}, problem.Errorf(problem.Invalid, "there are %d authorities: name the one to sign in at, or add one first: earlybench authority add URL", len(all))
		}
		name = all[0].Record.Name
	}
	s, err := b.cfg.Authorities.Begin(ctx, name)
	if err != nil {
		return job.Job{}, s, fmt.Errorf("sign in at %s: %w", name, err)
	}
	j, err := b.cfg.Jobs.Start(ctx, job.New{Kind: KindSignIn, Title: "Sign in at " + name, Subjects: []string{"authority/" + name}, Actor: actor, Args: s, Phases: []string{"wait for you"}})
	return j, s, err
}

// waitForCode asks the authority until a person has let the bench in.
func (b *Belong) waitForCode(ctx context.Context, run *job.Run) (any, error) {
	var s authority.SignIn
	if err := run.Args(&s); err != nil {
		return nil, err
	}
	run.Phase("wait for you", 0)
	run.Asks(fmt.Sprintf("Open %s and type %s", s.Code.Page, s.Code.UserCode))
	every := time.Duration(s.Code.Interval) * time.Second
	for {
		a, err := b.cfg.Authorities.Poll(ctx, s)
		switch {
		case ctx.Err() != nil:
			return nil, b.leaveSignIn(ctx, s)
		case err == nil:
			run.Asks("")
			return b.signedIn(ctx, a)
		case errors.Is(err, authority.ErrPending) || errors.Is(err, safe.ErrLocked) || passes(err):
		default:
			return nil, b.endSignIn(ctx, s, err)
		}
		if b.cfg.Clock.Now().After(s.Ends) {
			return nil, b.endSignIn(ctx, s, &problem.Problem{Kind: problem.Person, Text: "Nobody typed the code in time.", Remedy: "Sign in again: earlybench account sign-in."})
		}
		select {
		case <-ctx.Done():
			return nil, b.leaveSignIn(ctx, s)
		case <-time.After(every):
		}
	}
}

// leaveSignIn ends a sign-in that was stopped. One that the end of the service has cut goes on
// with the next service.
func (b *Belong) leaveSignIn(ctx context.Context, s authority.SignIn) error {
	if errors.Is(context.Cause(ctx), job.ErrStopped) {
		return b.endSignIn(context.WithoutCancel(ctx), s, context.Cause(ctx))
	}
	return context.Cause(ctx)
}

// endSignIn removes the key of a sign-in that came to nothing.
func (b *Belong) endSignIn(ctx context.Context, s authority.SignIn, err error) error {
	if dropped := b.cfg.Safe.Drop(ctx, s.Key); dropped != nil && problem.KindOf(dropped) != problem.NotFound {
		b.cfg.Log.Warn("remove the key of a sign-in", "authority", s.Authority, "error", dropped)
	}
	return err
}

// signedIn keeps an account. The first one is used; one that was here before keeps its crew, and
// its former key ends.
func (b *Belong) signedIn(ctx context.Context, a store.Account) (any, error) {
	b.signing.Lock()
	defer b.signing.Unlock()
	all := b.Accounts()
	a.Used = len(all) == 0
	former := ""
	for _, known := range all {
		if known.Authority != a.Authority || known.ID != a.ID {
			continue
		}
		a.Used, former = known.Used, known.Key
		if crewOf(a, known.Crew) != nil {
			a.Crew = known.Crew
		}
	}
	if err := b.save(ctx, a); err != nil {
		return nil, err
	}
	if former != "" && former != a.Key {
		if err := b.cfg.Safe.Drop(ctx, former); err != nil && problem.KindOf(err) != problem.NotFound {
			return nil, fmt.Errorf("remove the former key of the account: %w", err)
		}
	}
	return SignedIn{a.Authority, a.ID, a.Crew}, nil
}

// SignedIn is the result of a sign-in.
type SignedIn struct {
	Authority string `json:"authority"`
	Account   string `json:"account"`
	Crew      string `json:"crew"`
}

package signing

import (
	"context"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/facts"
)

// This file observes whether peers are able to sign this bench's apps, for the gate signer.

const (
	lookEvery  = 30 * time.Second // projects and safes may have changed
	lookPause  = time.Second      // of many changes one is looked at
	lookWithin = 10 * time.Second // a peer gets to answer
)

// The states of what signs an app, as the fact signer.state has them.
const (
	signsHere = "none"
	ready     = "ready"
	away      = "away"
	refused   = "refused"
	locked    = "locked"
)

// Run observes until ctx ends.
func (s *Signing) Run(ctx context.Context) {
	t, sweep := time.NewTicker(lookEvery), time.NewTicker(sweepEvery)
	defer t.Stop()
	defer sweep.Stop()
	s.sweep()
	for {
		if err := s.observe(ctx); err != nil && ctx.Err() == nil {
			s.cfg.Log.Warn("look at what signs the apps", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-sweep.C:
			s.sweep()
		case <-s.wake:
			if clock.Sleep(ctx, clock.System{}, lookPause) != nil {
				return
			}
		}
	}
}

// Touch makes Run check soon. It does not block.
func (s *Signing) Touch() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// observe checks what signs each app, and records changes. Nothing is recorded for apps that this bench signs,
// unless a peer signed them before.
func (s *Signing) observe(ctx context.Context) error {
	all, err := s.cfg.Identities(ctx)
	if err != nil {
		return err
	}
	for app, identity := range all {
		_, at := appfile.SplitIdentity(identity)
		state := signsHere
		if at != "" {
			state = s.state(ctx, identity)
		}
		if ctx.Err() != nil {
			return nil
		}
		now, subject := s.cfg.Clock.Now(), facts.Subject{Kind: facts.App, ID: app}
		view := s.cfg.Book.Of(subject).View()
		before, known := view.Get(fact.SignerState, now)
		of, _ := view.Get(fact.SignerOf, now)
		if known && before.Value.Text() == state && of.Value.Text() == at || !known && at == "" {
			continue
		}
		if err := s.cfg.Book.Renew(ctx, subject, fact.Fact{Key: fact.SignerState, Value: fact.Of(state), Source: fact.Host, At: now},
			fact.Fact{Key: fact.SignerOf, Value: fact.Of(at), Source: fact.Host, At: now}); err != nil {
			return err
		}
	}
	return nil
}

// state is whether a peer signs as an identity now.
func (s *Signing) state(ctx context.Context, identity string) string {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	looked, err := s.Look(ctx, identity)
	switch {
	case ctx.Err() != nil, problem.KindOf(err) == problem.Unavailable:
		return away
	case err != nil:
		return refused
	case looked.Locked:
		return locked
	}
	return ready
}

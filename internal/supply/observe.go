package supply

import (
	"context"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Touch makes Run look at a device soon.
func (s *Supply) Touch(k *keeper.Keeper) {
	s.mu.Lock()
	s.dirty[k] = true
	s.mu.Unlock()
	s.rouse()
}

// Again makes Run look at every device soon.
func (s *Supply) Again() {
	s.mu.Lock()
	s.all = true
	s.mu.Unlock()
	s.rouse()
}

func (s *Supply) rouse() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

const (
	gather    = 100 * time.Millisecond // in which changes are taken together
	lookEvery = 4 * time.Minute        // since a depot's state is good for ten minutes
)

// Run records which devices have their support packs, and how the depots answer, whenever that
// changes, until ctx ends.
func (s *Supply) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookEvery):
			s.Again()
		case <-s.wake:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(gather):
		}
		every := s.Rack.All()
		s.mu.Lock()
		dirty, all := s.dirty, s.all
		if all {
			for _, k := range every {
				dirty[k] = true
			}
		}
		s.dirty, s.all = map[*keeper.Keeper]bool{}, false
		s.mu.Unlock()
		if all { // other driver sets may fit, too
			s.Changed(ctx)
		}
		for k := range dirty {
			if err := s.observe(ctx, k); err != nil && ctx.Err() == nil {
				s.Log.Error("look for the support pack of a device", "device", k.Device().Handle, "error", err)
			}
		}
	}
}

// observe records what is known of a device's support pack. Without a depot and a pack the
// bench knows nothing of it.
func (s *Supply) observe(ctx context.Context, k *keeper.Keeper) error {
	u, ok := s.userOf(k)
	if !ok {
		return nil
	}
	state, depotState := s.stateOf(u)
	view := k.Facts().View()
	if state == "" {
		if slices.ContainsFunc(view.All(), func(f fact.Fact) bool { return f.Key == fact.SupportState && f.Source == fact.Host }) {
			return k.Facts().Forget(ctx, fact.Host, fact.SupportState, fact.DepotState)
		}
		return nil
	}
	seen := []fact.Fact{k.Seen(fact.SupportState, fact.Of(state), fact.Host)}
	if depotState != "" {
		seen = append(seen, k.Seen(fact.DepotState, fact.Of(depotState), fact.Host))
	}
	return s.Book.Renew(ctx, facts.Subject{Kind: facts.Device, ID: k.Device().ID}, seen...)
}

// stateOf is the state of a device's support pack, and that of the depot it comes from; ""
// for what is not known.
func (s *Supply) stateOf(u user) (state, depotState string) {
	pack, other := s.held(u)
	offer, from := s.offered(u)
	for _, d := range s.Depots.All() {
		if from == "" || d.Record.Name == from {
			depotState = string(d.State)
		}
	}
	switch {
	case pack != nil:
		return "here", depotState
	case offer != nil:
		p := Pack{Offer: *offer}
		if s.progress(&p); p.Have > 0 || p.Job != "" {
			return "partly", depotState
		}
	}
	switch {
	case other:
		return "outdated", depotState
	case offer != nil || depotState != "":
		return "missing", depotState
	}
	return "", ""
}

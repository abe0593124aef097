package supply

import (
	"context"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
)

// giveWithin is how long it may take until a host has a device that it was given.
const giveWithin = 10 * time.Second

// Give passes a device to another host, or back to this bench: to is the name of a host, or
// bench's own name. It returns once that was seen.
func (s *Supply) Give(ctx context.Context, handle, to, bench string) error {
	k, err := s.Rack.Find(handle)
	if err != nil {
		return err
	}
	p, ok := s.placeOf(k)
	switch {
	case !ok:
		return &problem.Problem{Kind: problem.Blocked, Gate: "seen", Text: fmt.Sprintf("%s is not on any host's bus now, so it cannot be given away.", handle), Remedy: "Plug it in first."}
	case !s.Hosts.MayGive(p.host):
		return &problem.Problem{Kind: problem.Unsupported, Text: fmt.Sprintf("%s is connected to the bench's own computer, and the bench cannot control the program that uses it.", handle),
			Remedy: "Release it in that program; earlybench host tree shows which one it is."}
	}
	back := to == bench || to == p.host
	if back {
		to = ""
	} else if !s.Hosts.Watched(to) {
		return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("No host here is called %.60q.", to), Remedy: fmt.Sprintf("Give this bench, %s, or a host from earlybench host.", bench)}
	}
	if back && p.device.Holder == "" {
		if f, ok := k.Facts().View().Get(fact.USBHolder, s.Clock.Now()); !ok || f.Value.Text() == "" {
			return nil // nobody else has it
		}
	}
	release, err := k.Lease(ctx, "Give "+handle+" away", keeper.Exclusive)
	if err != nil {
		return err
	}
	defer release()
	if err := s.Hosts.Give(ctx, p.host, p.device.BusID, to); err != nil {
		return err
	}
	return s.given(ctx, k, back)
}

// given waits until a device has passed to another host, or back.
func (s *Supply) given(ctx context.Context, k *keeper.Keeper, back bool) error {
	ctx, cancel := context.WithTimeout(ctx, giveWithin)
	defer cancel()
	for {
		changed := s.Store.Changed()
		f, known := k.Facts().View().Get(fact.USBHolder, s.Clock.Now())
		if known && (f.Value.Text() == "") == back {
			return nil
		}
		select {
		case <-ctx.Done():
			if context.Cause(ctx) != context.DeadlineExceeded {
				return context.Cause(ctx)
			}
			return problem.Errorf(problem.Failed, "the hosts agreed, but the device did not appear there within %s", giveWithin)
		case <-changed:
		}
	}
}

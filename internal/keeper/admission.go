package keeper

import (
	"context"
	"errors"
	"fmt"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
)

// This file holds asking for admission, and withdrawing it.

// visit returns the best way that has a session, admitted or not. It waits for one that
// is being set up, and returns nil if none appears.
func (k *Keeper) visit(ctx context.Context) (*reach, device.Session) {
	ctx, cancel := context.WithTimeout(ctx, visitWithin)
	defer cancel()
	for {
		changed := k.Changed()
		if r := k.best(func(r *reach) bool { return r.greeted }); r != nil {
			k.mu.Lock()
			s := r.session
			k.mu.Unlock()
			if s != nil && device.Lasts(s) {
				return r, s
			}
		}
		coming := k.best(func(r *reach) bool {
			_, stopped := errors.AsType[*device.KeyChanged](r.down)
			return !stopped
		})
		if coming == nil {
			return nil, nil
		}
		select {
		case <-ctx.Done():
			return nil, nil
		case <-changed:
		}
	}
}

// Ask makes the device ask its owner whether to admit this bench, and records every
// state of the question.
func (k *Keeper) Ask(ctx context.Context, who device.Visitor) (device.AdmitState, error) {
	r, s := k.visit(ctx)
	if s == nil {
		return "", ErrNoSession
	}
	admission, err := s.Admission()
	if err != nil {
		return "", err
	}
	up, end := whileUp(ctx, s)
	defer end()
	a, err := admission.Ask(ctx, who, func(a device.Admittance) {
		if up.Err() == nil {
			r.observeAdmission(a, append(k.admissionFacts(a), k.Seen(fact.AdmitState, fact.Of(string(a.State)), fact.Device))...)
		}
	})
	if ctx.Err() != nil {
		r.Observe(k.Seen(fact.AdmitState, fact.Of(string(device.AdmitNone)), fact.Device))
		return "", context.Cause(ctx)
	}
	if errors.Is(err, device.ErrEnded) {
		return "", k.gone()
	}
	if err != nil {
		select {
		case <-s.Done():
			return "", k.gone()
		default:
			return "", fmt.Errorf("have %s ask: %w", k.Device().Handle, err)
		}
	}
	if a.State == device.Admitted {
		wake(r.admitted)
	}
	return a.State, nil
}

func (k *Keeper) gone() error {
	return &problem.Problem{Kind: problem.Gone, Text: fmt.Sprintf("%s went away while it was asking.", k.Device().Handle), Remedy: "Connect it again, then ask again."}
}

// Withdraw withdraws this bench's admission on the device, and checks that it is gone.
func (k *Keeper) Withdraw(ctx context.Context) error {
	r := k.best(func(r *reach) bool { return r.open })
	if r == nil {
		return ErrNoSession
	}
	k.mu.Lock()
	s := r.session
	k.mu.Unlock()
	if s == nil {
		return ErrNoSession
	}
	admission, err := s.Admission()
	if err != nil {
		return err
	}
	werr := admission.Withdraw(ctx)
	s.Close() // the next session learns where the bench stands
	if errors.Is(werr, device.ErrNotAdmitted) {
		werr = nil
	}
	// The link may end before the answer has come: whether it was done shows on the next one.
	if err := k.notAdmitted(ctx); err != nil {
		return errors.Join(werr, err)
	}
	return nil
}

// notAdmitted waits until the device has said that it does not admit this bench.
func (k *Keeper) notAdmitted(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, visitWithin)
	defer cancel()
	for {
		changed := k.Facts().Changed()
		if f, ok := k.Facts().View().Get(fact.AdmitState, k.cfg.Clock.Now()); ok && f.Value.Text() != string(device.Admitted) {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("check that the admission is withdrawn: %w", context.Cause(ctx))
		case <-changed:
		}
	}
}

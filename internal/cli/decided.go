package cli

import (
	"context"
	"errors"

	"earlybench.invalid/earlybench/client"
)

// decided does what a person decided on a device's plan: the action carries the
// revision of that plan. Where the device has changed meanwhile and still waits for
// the same step, it is done all the same; else the person looks again first.
func decided[T any](ctx context.Context, b *client.Client, plan client.Prep, do func(context.Context) (T, error)) (T, error) {
	out, err := do(client.Decided(ctx, plan.Device.Revision))
	var p *client.Problem
	if !errors.As(err, &p) || p.Kind != "changed" || plan.Device.Next == nil {
		return out, err
	}
	now, perr := b.Prep(ctx, plan.Device.Handle, "")
	if perr != nil || now.Device.Next == nil || now.Device.Next.ID != plan.Device.Next.ID {
		return out, err
	}
	return do(client.Decided(ctx, now.Device.Revision))
}

// none is the result of an action that has none.
type none struct{}

// tell says that a step of a plan is done.
func tell(ctx context.Context, b *client.Client, plan client.Prep, step string) error {
	_, err := decided(ctx, b, plan, func(ctx context.Context) (none, error) { return none{}, b.Tell(ctx, plan.Device.Handle, step) })
	return err
}

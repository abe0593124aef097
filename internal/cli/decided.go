package cli

import (
	"context"
	"errors"

	"earlybench.invalid/earlybench/client"
)

// decided runs an action that a person decided on from a device's plan; the action
// carries the revision of that plan. If the device has changed meanwhile but still waits
// for the same step, the action is repeated on the new revision; otherwise it fails, so
// that the person looks again.
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

// tell confirms a step of a plan.
func tell(ctx context.Context, b *client.Client, plan client.Prep, step string) error {
	_, err := decided(ctx, b, plan, func(ctx context.Context) (none, error) { return none{}, b.Tell(ctx, plan.Device.Handle, step) })
	return err
}

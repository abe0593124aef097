package tryout

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
)

// StopApp stops an app on a device.
func (t *Tryouts) StopApp(ctx context.Context, handle, app string) error {
	return t.onDevice(ctx, handle, "Stop "+app, app, func(apps device.Apps, ctx context.Context, on device.App) error {
		if !on.Running {
			return problem.Errorf(problem.Invalid, "%s does not run on %s", app, handle)
		}
		return apps.Stop(ctx, app)
	})
}

// RemoveApp removes an app from a device.
func (t *Tryouts) RemoveApp(ctx context.Context, handle, app string) error {
	return t.onDevice(ctx, handle, "Remove "+app, app, func(apps device.Apps, ctx context.Context, _ device.App) error {
		return apps.Remove(ctx, app)
	})
}

// onDevice does something with an app that is on a device.
func (t *Tryouts) onDevice(ctx context.Context, handle, title, app string, do func(device.Apps, context.Context, device.App) error) error {
	k, err := t.Rack.Find(handle)
	if err != nil {
		return err
	}
	session, err := t.Outlook.Session(ctx, k)
	if err != nil {
		return err
	}
	release, err := k.Lease(ctx, title+" on "+handle, keeper.Exclusive)
	if err != nil {
		return err
	}
	defer release()
	apps, err := session.Apps()
	if err != nil {
		return err
	}
	list, err := apps.List(ctx)
	if err != nil {
		return fmt.Errorf("list the apps on %s: %w", handle, err)
	}
	on := slices.IndexFunc(list, func(a device.App) bool { return a.ID == app })
	if on < 0 {
		there := make([]string, len(list))
		for i, a := range list {
			there[i] = a.ID
		}
		return problem.Errorf(problem.NotFound, "app %.80q is not on %s; on it are: %s", app, handle, strings.Join(there, ", "))
	}
	return do(apps, ctx, list[on])
}

package prep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
)

// RestartLink restarts the link to a device. A question that it asks its owner ends: over a
// stale link it does not reach the screen. Other work keeps the device from being restarted.
func (p *Prep) RestartLink(ctx context.Context, handle string) error {
	k, err := p.Rack.Find(handle)
	if err != nil {
		return err
	}
	return p.restart(ctx, k)
}

func (p *Prep) restart(ctx context.Context, k *keeper.Keeper) error {
	if j, asks := p.Jobs.Working(KindAsk, "device/"+k.Device().ID); asks {
		p.Jobs.Stop(j.ID)
		if err := p.Jobs.Wait(ctx, j.ID); err != nil {
			return err
		}
	}
	return k.RestartLink(ctx)
}

// RestartLinks restarts the links of all devices with which a link was tried, that are not
// linked and not worked with. Links that stand are left alone. It returns the handles of
// those that were restarted, with what went wrong or nil.
func (p *Prep) RestartLinks(ctx context.Context) (handles []string, errs []error) {
	var idle []*keeper.Keeper
	for _, k := range p.Rack.All() {
		tried := slices.ContainsFunc(k.Ways(), func(w keeper.Reached) bool { return w.Up || w.Down != nil })
		_, asks := p.Jobs.Working(KindAsk, "device/"+k.Device().ID)
		if tried && k.Session() == nil && (asks || k.Working() == "") {
			idle = append(idle, k)
		}
	}
	errs = make([]error, len(idle))
	var restarting sync.WaitGroup
	for i, k := range idle {
		handles = append(handles, k.Device().Handle)
		restarting.Go(func() { errs[i] = p.restart(ctx, k) })
	}
	restarting.Wait()
	return handles, errs
}

// SetWireless switches on or off, over the current link, whether a device is reached without a
// cable. No introduction is needed: both keys are pinned.
func (p *Prep) SetWireless(ctx context.Context, handle string, on bool) error {
	k, err := p.Rack.Find(handle)
	if err != nil {
		return err
	}
	if !on && !slices.ContainsFunc(k.Ways(), func(w keeper.Reached) bool { return w.Linked && w.Cabled() }) {
		return &problem.Problem{Kind: problem.Blocked, Text: handle + " is only reached without a cable, so it could not be switched on again from here.", Remedy: "Connect a cable first, or switch it off on the device."}
	}
	s, err := p.Outlook.Session(ctx, k)
	if err != nil {
		return err
	}
	w, err := s.Wireless()
	if err != nil {
		return err
	}
	err = w.Set(ctx, on)
	if r, ok := errors.AsType[*device.Refusal](err); ok {
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("%s does not allow computers to switch that: %s.", handle, r.Text), Remedy: "Switch it on the device."}
	}
	if err != nil {
		return fmt.Errorf("switch wireless access of %s: %w", handle, err)
	}
	return nil
}

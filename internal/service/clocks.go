package service

import (
	"context"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/facts"
)

const (
	clocksEvery = 2 * time.Second
	// clockNoise is what two clocks may differ by although both are right, with the way between them.
	clockNoise = 10 * time.Second
)

// compareClocks records by how much the clocks of this computer and of devices are off, until ctx ends.
func (in *Insides) compareClocks(ctx context.Context) {
	for {
		off, known := in.clockOff()
		for _, k := range in.Rack.All() {
			k.CompareClocks()
			before, had := k.Facts().View().Get(fact.HostClock, in.Clock.Now())
			value := int64(off.Seconds())
			if !known || had && (time.Duration(before.Value.Int()-value)*time.Second).Abs() < clockNoise {
				continue
			}
			seen := fact.Fact{Key: fact.HostClock, Value: fact.Of(value), Source: fact.Host, At: in.Clock.Now()}
			if err := in.Book.Observe(ctx, facts.Subject{Kind: facts.Device, ID: k.Device().ID}, seen); err != nil && ctx.Err() == nil {
				in.Log.Error("record by how much this computer's clock is off", "device", k.Device().Handle, "error", err)
			}
		}
		if clock.Sleep(ctx, clock.System{}, clocksEvery) != nil {
			return
		}
	}
}

// clockOff is by how much this computer's clock is ahead of the depot or authority with which it agrees
// best; false if none was asked.
func (in *Insides) clockOff() (best time.Duration, known bool) {
	var others []clock.Other
	for _, d := range in.Depots.All() {
		others = append(others, d.Clock)
	}
	for _, a := range in.Authorities.All() {
		others = append(others, a.Clock)
	}
	for _, o := range others {
		if off := -o.Ahead(in.Clock.Now()); o.Known() && (!known || off.Abs() < best.Abs()) {
			best, known = off, true
		}
	}
	if best.Abs() < clockNoise {
		best = 0
	}
	return best, known
}

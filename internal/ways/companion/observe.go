package companion

import (
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
)

// observeEvery is how often possible matches are looked for, for devices that are heard and were not
// introduced; nearFor is the longest time until that is observed again.
const (
	observeEvery = time.Second
	nearFor      = time.Minute
)

// observe observes, for devices that people say are reached through another one, whether one of
// their family that was not introduced is heard through that.
func (c *Companions) observe() {
	type seen struct {
		near bool
		at   time.Time
	}
	before := map[string]seen{}
	for clock.Sleep(c.ctx, clock.System{}, observeEvery) == nil {
		near := map[[2]string]bool{}
		for _, e := range c.List() {
			if e.Device == "" {
				near[[2]string{e.Through, e.Family}] = true
			}
		}
		for _, k := range c.cfg.Rack.All() {
			d := k.Device()
			of, ok := k.Facts().View().Get(fact.CompanionOf, c.cfg.Clock.Now())
			if !ok {
				continue
			}
			now := seen{d.Key == "" && near[[2]string{of.Value.Text(), d.Family}], time.Now()}
			if was, ever := before[d.ID]; ever && was.near == now.near && time.Since(was.at) < nearFor {
				continue
			}
			if k.Facts().Observe(c.ctx, k.Seen(fact.CompanionNear, fact.Of(now.near), fact.Host)) == nil {
				before[d.ID] = now
			}
		}
	}
}

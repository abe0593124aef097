package introduce

import (
	"cmp"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/network"
)

// MayBe returns the handles of the devices on record that something may be which is heard and was not
// introduced: those of its family whose key is not known. What is heard through another device may
// be those only of which people say that they are reached through that, where there are such; and
// those are nothing that is heard otherwise.
func (i *Introductions) MayBe(e network.Entry) []string {
	if e.State != network.NotMet || e.Login != "" {
		return nil
	}
	var stated, others []string
	for _, k := range i.cfg.Rack.All() {
		d := k.Device()
		if d.Key != "" || cmp.Or(e.Family, d.Family) != d.Family {
			continue
		}
		of, ok := k.Facts().View().Get(fact.CompanionOf, i.cfg.Clock.Now())
		switch {
		case !ok:
			others = append(others, d.Handle)
		case of.Value.Text() == e.Through:
			stated = append(stated, d.Handle)
		}
	}
	if len(stated) > 0 {
		return stated
	}
	return others
}

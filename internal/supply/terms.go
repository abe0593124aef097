package supply

import (
	"context"
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
)

// Terms are the support packs that devices of the rack use, and those that an update of a device has
// outdated. When an update will come is not known, so those in use have no end.
func (s *Supply) Terms(context.Context) ([]ending.Term, error) {
	s.mu.Lock()
	held := slices.Clone(s.packs)
	s.mu.Unlock()
	var out []ending.Term
	for _, p := range held {
		t := ending.Term{ID: "support-" + p.File.SHA256[:16], Kind: ending.Support, Name: p.Name + " " + p.Version, Holder: "this bench", Mine: true}
		for _, u := range s.users() {
			if p.For.Suits(u.family, u.code, u.release) {
				t.Devices = append(t.Devices, u.handle)
			} else if pack, other := s.held(u); pack == nil && other && p.For.SuitsModel(u.family, u.code) {
				out = append(out, s.outdated(t, p, u))
			}
		}
		if len(t.Devices) > 0 {
			t.Stops = "An update of the device to another release outdates it."
			out = append(out, t)
		}
	}
	return out, nil
}

// outdated is a pack that an update of a device has outdated.
func (s *Supply) outdated(t ending.Term, p store.SupportPack, u user) ending.Term {
	t.ID += "-" + u.handle + "-" + u.release
	t.Holder, t.Devices = u.handle, []string{u.handle}
	t.Stops = fmt.Sprintf("%s has release %s now, and the support pack that is here is not for it.", u.handle, u.release)
	t.Step, t.Command = "Fetch the support pack for its release.", "earlybench prep "+u.handle
	t.Ends = s.Clock.Now().Truncate(time.Second)
	if k, err := s.Rack.Find(u.handle); err == nil {
		if f, ok := k.Facts().View().Get(fact.OSRelease, s.Clock.Now()); ok && !f.At.IsZero() {
			t.Ends = f.At.UTC().Truncate(time.Second)
		}
	}
	return t
}

package supply

import (
	"context"
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/ending"
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
				out = append(out, outdated(t, u))
			}
		}
		if len(t.Devices) > 0 {
			t.Stops = "Updating the device to another release makes it outdated."
			out = append(out, t)
		}
	}
	return out, nil
}

// outdated is a pack that an update of a device has outdated.
func outdated(t ending.Term, u user) ending.Term {
	t.ID += "-" + u.handle + "-" + u.release
	t.Holder, t.Devices = u.handle, []string{u.handle}
	t.Stops = fmt.Sprintf("%s now has release %s, and its support pack here is for another release.", u.handle, u.release)
	t.Step, t.Command = "Fetch the support pack for its release.", "earlybench prep "+u.handle
	t.Ends = u.since.UTC().Truncate(time.Second)
	return t
}

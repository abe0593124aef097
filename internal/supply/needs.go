package supply

import (
	"cmp"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// user is a device that needs a support pack for its release.
type user struct {
	handle, family, code, release string
	since                         time.Time // when the release was seen
}

// users are the devices whose sheets want a support pack, and whose release is known.
func (s *Supply) users() (out []user) {
	for _, k := range s.Rack.All() {
		if u, ok := s.userOf(k); ok && k.Device().Retirement == nil {
			out = append(out, u)
		}
	}
	return out
}

func (s *Supply) userOf(k *keeper.Keeper) (user, bool) {
	series := k.Series()
	release, ok := k.Facts().View().Get(fact.OSRelease, s.Clock.Now())
	if !ok || !slices.Contains(series.At(fact.Release(release.Value.Text())).Paths[0].Walk, "support") {
		return user{}, false
	}
	return user{handle: k.Device().Handle, family: series.Family, code: series.Model.Code, release: release.Value.Text(), since: release.At}, true
}

// held is the newest pack here for a device's release, and whether there is one for another
// release of it.
func (s *Supply) held(u user) (pack *store.SupportPack, other bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.packs {
		p := &s.packs[i]
		switch {
		case p.For.Suits(u.family, u.code, u.release):
			if pack == nil || driver.CompareVersions(p.Version, pack.Version) > 0 {
				pack = p
			}
		case p.For.SuitsModel(u.family, u.code):
			other = true
		}
	}
	return pack, other
}

// offered is the newest support pack of the depots for a device's release, and its depot;
// nil if there is none.
func (s *Supply) offered(u user) (best *depot.Offer, from string) {
	for _, d := range s.Depots.All() {
		for i := range d.Index.Offers {
			o := &d.Index.Offers[i]
			if o.Kind == depot.Support && o.For.Suits(u.family, u.code, u.release) && (best == nil || driver.CompareVersions(o.Version, best.Version) > 0) {
				best, from = o, d.Record.Name
			}
		}
	}
	return best, from
}

// Needs are the support packs that devices on the rack lack and a depot offers, by name.
func (s *Supply) Needs() []Pack {
	byDigest := map[string]*Pack{}
	for _, u := range s.users() {
		if pack, _ := s.held(u); pack != nil {
			continue
		}
		o, from := s.offered(u)
		if o == nil {
			continue
		}
		p := byDigest[o.File.SHA256]
		if p == nil {
			p = &Pack{Offer: *o, Depot: from}
			byDigest[o.File.SHA256] = p
		}
		p.Devices = append(p.Devices, u.handle)
	}
	var out []Pack
	for _, p := range byDigest {
		s.progress(p)
		out = append(out, *p)
	}
	slices.SortFunc(out, byName)
	return out
}

func byName(a, b Pack) int {
	return cmp.Or(cmp.Compare(a.Offer.Name, b.Offer.Name), cmp.Compare(a.Offer.Version, b.Offer.Version), cmp.Compare(a.Offer.File.SHA256, b.Offer.File.SHA256))
}

// progress fills in how much of a pack is here.
func (s *Supply) progress(p *Pack) {
	p.Have, _ = s.Files.Coming(p.Offer.File.SHA256)
	s.mu.Lock()
	p.Job = s.fetching[p.Offer.File.SHA256]
	s.mu.Unlock()
}

// Packs are the support packs that are here or come, with the devices that each is for, by
// name.
func (s *Supply) Packs() []Pack {
	s.mu.Lock()
	held := slices.Clone(s.packs)
	s.mu.Unlock()
	out := []Pack{}
	users := s.users()
	for _, h := range held {
		p := Pack{Offer: h.Offer, Depot: h.Depot, Here: true, Have: h.File.Size}
		for _, u := range users {
			if h.For.Suits(u.family, u.code, u.release) {
				p.Devices = append(p.Devices, u.handle)
			}
		}
		out = append(out, p)
	}
	for _, p := range s.Needs() {
		if p.Have > 0 || p.Job != "" {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, byName)
	return out
}

// Needed reports whether a device needs the support pack of a digest.
func (s *Supply) Needed(digest string) bool {
	return slices.ContainsFunc(s.Packs(), func(p Pack) bool { return p.Offer.File.SHA256 == digest && len(p.Devices) > 0 })
}

// NeedOf is the support pack that a device lacks; nil if it lacks none, or no depot has it.
func (s *Supply) NeedOf(k *keeper.Keeper) *Pack {
	u, ok := s.userOf(k)
	if !ok {
		return nil
	}
	if pack, _ := s.held(u); pack != nil {
		return nil
	}
	o, from := s.offered(u)
	if o == nil {
		return nil
	}
	p := &Pack{Offer: *o, Depot: from, Devices: []string{u.handle}}
	s.progress(p)
	return p
}

// Means are what this use case has for the steps of a device: a depot, if one has its support
// pack, and a host that can be asked to release it.
func (s *Supply) Means(k *keeper.Keeper) (out []string) {
	if s.Hosts.MayGive(k.Host()) {
		out = append(out, "host")
	}
	if u, ok := s.userOf(k); ok {
		if o, _ := s.offered(u); o != nil {
			out = append(out, "depot")
		}
	}
	return out
}

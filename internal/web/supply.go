package web

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/depot"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/supply"
)

// OfDigest names a support pack or a licence. It is exported so that huma reads it where it is
// embedded.
type OfDigest struct {
	Digest string `path:"digest" maxLength:"64"`
}

func (s *Server) supplyRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/depots", "depots", "The depots"), s.depots)
	huma.Register(a, operation(access.Own, "POST", "/depots/look", "look-at-depot", "Ask a depot to identify itself, without adding it"), s.lookAtDepot)
	huma.Register(a, operation(access.Own, "POST", "/depots", "add-depot", "Add a depot whose TLS root and publisher are accepted"), s.addDepot)
	huma.Register(a, operation(access.Own, "DELETE", "/depots/{id}", "drop-depot", "Forget a depot; what was fetched from it stays"), s.dropDepot)
	huma.Register(a, operation(access.Look, "GET", "/needs", "needs", "The support packs that devices on the rack need"), s.needs)
	fetch := operation(access.Consent, "POST", "/needs", "fetch-needs", "Fetch what is accepted")
	fetch.DefaultStatus = http.StatusAccepted
	huma.Register(a, fetch, s.fetchNeeds)
	huma.Register(a, operation(access.Look, "GET", "/licences/{digest}", "licence", "The text of the licence of something that is needed"), s.licence)
	huma.Register(a, operation(access.Look, "GET", "/support", "support", "The support packs that are here or being fetched"), s.support)
	huma.Register(a, operation(access.Own, "POST", "/support", "add-support", "Add a support pack from a file on the bench's computer"), s.addSupport)
	huma.Register(a, operation(access.Maintain, "DELETE", "/support/{digest}", "drop-support", "Remove a support pack"), s.dropSupport)
}

func depotOf(v depot.View) client.Depot {
	d := client.Depot{Name: v.Record.Name, URL: v.Record.URL, Publisher: v.Record.Publisher, Signer: v.Record.Signer, State: string(v.State), Rate: v.Rate,
		Offers: len(v.Index.Offers), Read: v.Record.Read.UTC(), Root: outside.FingerprintOf(v.Record.Root)}
	if v.Trouble != nil {
		d.Trouble = sentence(v.Trouble.Error())
	}
	return d
}

func (s *Server) depots(_ context.Context, in *struct{ Select }) (*out[client.List[client.Depot]], error) {
	return depotList.of(in.Select, each(s.Depots.All(), depotOf))
}

func (s *Server) lookAtDepot(ctx context.Context, in *struct {
	Body struct {
		URL string `json:"url" maxLength:"400"`
	}
}) (*out[client.FoundDepot], error) {
	f, err := s.Depots.Look(ctx, in.Body.URL)
	if err != nil {
		return nil, problem(err)
	}
	d := client.FoundDepot{URL: f.URL, Name: f.Name, Root: f.Root.Fingerprint(), RootKnown: f.Root.Known, Publisher: f.Publisher, Signer: f.Signer, Offers: f.Offers, Accept: f.Accept}
	if f.Root.Certificate != nil {
		d.RootName = f.Root.Certificate.Subject.String()
	}
	return &out[client.FoundDepot]{d}, nil
}

func (s *Server) addDepot(ctx context.Context, in *out[client.NewDepot]) (*out[client.Depot], error) {
	if in.Body.Name != "" && !hostName.MatchString(in.Body.Name) {
		return nil, problem(eb.Errorf(eb.Invalid, "depot name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", in.Body.Name))
	}
	v, err := s.Depots.Add(ctx, in.Body.URL, in.Body.Name, in.Body.Accept)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Depot]{depotOf(v)}, nil
}

func (s *Server) dropDepot(ctx context.Context, in *OfID) (*struct{}, error) {
	return nil, problem(s.Depots.Drop(ctx, in.ID))
}

func packOf(p supply.Pack) client.SupportPack {
	o := p.Offer
	c := client.SupportPack{Digest: o.File.SHA256, Name: o.Name, Version: o.Version, Maker: o.Maker, About: o.About, Family: o.For.Family, Release: o.For.Release,
		Size: o.File.Size, Have: p.Have, Here: p.Here, Depot: p.Depot, Job: p.Job, Devices: append([]string{}, p.Devices...), Accept: o.Consent()}
	if o.Licence != nil {
		c.Licence, c.LicenceDigest = o.Licence.Name, o.Licence.SHA256
	}
	return c
}

func (s *Server) needs(context.Context, *none) (*out[client.Needs], error) {
	all := s.Supply.Needs()
	n := client.Needs{Packs: each(all, packOf), Accept: supply.ConsentToAll(all), Free: s.Supply.Free()}
	rates := map[string]int64{}
	for _, d := range s.Depots.All() {
		rates[d.Record.Name] = d.Rate
	}
	known := true
	for _, p := range all {
		left := p.Offer.File.Size - p.Have
		n.Left += left
		if rate := rates[p.Depot]; rate > 0 {
			n.Seconds += left/rate + 1
		} else {
			known = false
		}
	}
	if !known {
		n.Seconds = 0
	}
	return &out[client.Needs]{n}, nil
}

func (s *Server) fetchNeeds(ctx context.Context, in *struct {
	Body struct {
		Accept string `json:"accept" maxLength:"80" doc:"digest of one item, or of all together"`
	}
}) (*out[client.List[client.Job]], error) {
	jobs, err := s.Supply.Fetch(ctx, in.Body.Accept, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return list(each(jobs, jobOf)), nil
}

func (s *Server) licence(ctx context.Context, in *struct{ OfDigest }) (*out[client.Licence], error) {
	name, text, err := s.Supply.Licence(ctx, in.Digest)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Licence]{client.Licence{Name: name, Text: text}}, nil
}

func (s *Server) support(_ context.Context, in *struct{ Select }) (*out[client.List[client.SupportPack]], error) {
	return supportList.of(in.Select, each(s.Supply.Packs(), packOf))
}

func (s *Server) addSupport(ctx context.Context, in *struct {
	Body struct {
		File string `json:"file" maxLength:"4096" doc:"path on the bench's computer"`
	}
}) (*out[client.SupportPack], error) {
	if !filepath.IsAbs(in.Body.File) {
		return nil, problem(eb.Errorf(eb.Invalid, "path %.200q must be absolute", in.Body.File))
	}
	info, err := os.Stat(in.Body.File)
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is not a file", in.Body.File) // opening a pipe would wait for ever
	}
	if err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "open the support pack: %w", err))
	}
	f, err := os.Open(in.Body.File)
	if err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "open the support pack: %w", err))
	}
	defer f.Close()
	p, err := s.Supply.AddPack(ctx, f)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.SupportPack]{packOf(p)}, nil
}

func (s *Server) dropSupport(ctx context.Context, in *struct{ OfDigest }) (*struct{}, error) {
	return nil, problem(s.Supply.DropPack(ctx, in.Digest))
}

package web

import (
	"context"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/kitfetch"
	"earlybench.invalid/earlybench/internal/kits"
)

// OfKit names a kit. It is exported so that huma reads it where it is embedded.
type OfKit struct {
	Kit string `path:"kit" maxLength:"40"`
}

func (s *Server) kitRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/kits", "kits", "The kits that are known or that an app needs"), s.kits)
	huma.Register(a, operation(access.Own, "POST", "/kits", "add-kit", "Name the directory of a kit, with a description if there is none yet"), s.addKit)
	huma.Register(a, operation(access.Own, "DELETE", "/kits/{kit}", "drop-kit", "Forget a directory of a kit; nothing on disk is deleted"), s.dropKit)
	huma.Register(a, work(access.Own, "/kits/{kit}/fetch", "fetch-kit", "Fetch a kit from a peer, and use it"), s.fetchKit)
	huma.Register(a, operation(access.Look, "GET", "/kits/{kit}/environment", "kit-environment", "What a process needs in order to use a kit"), s.kitEnvironment)
}

func kitOf(k kits.Kit) client.Kit {
	out := client.Kit{Name: k.Name, Copies: []client.KitCopy{}, Apps: []client.KitNeed{}}
	if k.Description != nil {
		out.About, out.Described = k.Description.About, true
	}
	used := map[string][]string{}
	for _, app := range slices.Sorted(maps.Keys(k.Apps)) {
		u := k.Apps[app]
		n := client.KitNeed{App: app, From: string(u.Need.From), Below: string(u.Need.Below), State: string(u.Choice.State)}
		if p := u.Problem(); p != nil {
			n.Text, n.Remedy = p.Text, p.Remedy
		} else {
			used[u.Choice.Copy.Path] = append(used[u.Choice.Copy.Path], app)
		}
		if u.Choice.Offer != nil {
			n.Offer = u.Choice.Offer.Path
		}
		out.Apps = append(out.Apps, n)
	}
	for i := range k.Copies {
		c := copyOf(&k.Copies[i])
		c.Apps = append(c.Apps, used[c.Path]...)
		out.Copies = append(out.Copies, c)
	}
	return out
}

func copyOf(c *kit.Copy) client.KitCopy {
	out := client.KitCopy{Path: c.Path, Version: string(c.Version), Named: c.Named, OnPath: c.OnPath, Complete: c.Wrong() == "", Entries: []client.KitEntry{}, Apps: []string{}}
	for _, f := range c.Findings {
		kind := "directory"
		switch {
		case f.Entry.Program != "":
			kind = "program"
		case f.Entry.File != "":
			kind = "file"
		}
		out.Entries = append(out.Entries, client.KitEntry{Path: f.Entry.Path(), Kind: kind, Wrong: f.Wrong})
	}
	return out
}

func (s *Server) kits(_ context.Context, in *struct{ Select }) (*out[client.List[client.Kit]], error) {
	return kitList.of(in.Select, each(s.Kits.All(), kitOf))
}

func (s *Server) addKit(ctx context.Context, in *out[client.NewKit]) (*out[client.KitCopy], error) {
	c, err := s.Kits.Add(ctx, in.Body.Name, in.Body.Path, []byte(in.Body.Description))
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.KitCopy]{copyOf(&c)}, nil
}

func (s *Server) dropKit(ctx context.Context, in *struct {
	OfKit
	Path string `query:"path" required:"true" maxLength:"4096" doc:"the directory, as it was named"`
}) (*struct{}, error) {
	return nil, problem(s.Kits.Drop(ctx, in.Kit, in.Path))
}

func (s *Server) fetchKit(ctx context.Context, in *struct {
	OfKit
	Body client.FetchKit
}) (*accepted, error) {
	j, err := s.KitFetch.Start(ctx, kitfetch.Ask{Kit: in.Kit, From: in.Body.From, Below: in.Body.Below, Peer: in.Body.Peer}, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

func (s *Server) kitEnvironment(ctx context.Context, in *struct {
	OfKit
	Version string `query:"version" maxLength:"40" doc:"exactly this version; empty: the one that a build without a range uses"`
}) (*out[client.KitEnvironment], error) {
	c, err := s.Kits.Choose(ctx, kit.Need{Name: in.Kit})
	if in.Version != "" {
		c, err = s.Kits.Version(ctx, in.Kit, fact.Release(in.Version))
	}
	if err != nil {
		return nil, problem(err)
	}
	e := client.KitEnvironment{Path: c.Copy.Path, Version: string(c.Copy.Version), Search: append([]string{}, c.Environment.Search...), Variables: []client.Variable{}}
	for _, v := range c.Environment.Variables {
		e.Variables = append(e.Variables, client.Variable{Name: v.Name, Value: v.Value})
	}
	return &out[client.KitEnvironment]{e}, nil
}

package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/adapters"
)

func (s *Server) adapterRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/adapters", "adapters", "The adapters"), func(_ context.Context, in *struct{ Select }) (*out[client.List[client.Adapter]], error) {
		return adapterList.of(in.Select, each(s.Adapters.List(), adapterOf))
	})
	huma.Register(a, operation(access.Own, "POST", "/adapters/look", "look-adapter", "Read an adapter in a directory of the bench's computer, without running it"), func(_ context.Context, in *struct {
		Body struct {
			Dir string `json:"dir" maxLength:"4000"`
		}
	}) (*out[client.Adapter], error) {
		return adapterOut(s.Adapters.Look(in.Body.Dir))
	})
	huma.Register(a, operation(access.Own, "POST", "/adapters", "add-adapter", "Take a copy of an adapter, and run it"), func(ctx context.Context, in *struct {
		Body struct {
			Dir    string `json:"dir" maxLength:"4000"`
			Accept string `json:"accept" maxLength:"100" doc:"digest of the adapter that was looked at"`
		}
	}) (*out[client.Adapter], error) {
		return adapterOut(s.Adapters.Add(ctx, in.Body.Dir, in.Body.Accept))
	})
	drop := operation(access.Maintain, "DELETE", "/adapters/{name}", "drop-adapter", "End an adapter, and delete it")
	drop.DefaultStatus = http.StatusNoContent
	huma.Register(a, drop, func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"60"`
	}) (*struct{}, error) {
		return nil, problem(s.Adapters.Drop(ctx, in.Name))
	})
}

func adapterOut(a adapters.Adapter, err error) (*out[client.Adapter], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Adapter]{adapterOf(a)}, nil
}

func adapterOf(a adapters.Adapter) client.Adapter {
	return client.Adapter{Name: a.Name, About: a.About, Command: append([]string{}, a.Command...), Files: append([]string{}, a.Files...), Connect: append([]int{}, a.Connect...), Sheet: a.Sheet, Digest: a.Digest,
		Version: a.Version, State: string(a.State), Fenced: a.Fenced, Trouble: a.Trouble, Devices: append([]string{}, a.Devices...), Log: append([]string{}, a.Log...)}
}

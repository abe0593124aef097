package web

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/device"
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
	huma.Register(a, operation(access.Own, "POST", "/adapters", "add-adapter", "Copy an adapter into the bench, and run it"), func(ctx context.Context, in *struct {
		Body struct {
			Dir    string `json:"dir" maxLength:"4000"`
			Accept string `json:"accept" maxLength:"100" doc:"digest of the adapter that you looked at"`
		}
	}) (*out[client.Adapter], error) {
		return adapterOut(s.Adapters.Add(ctx, in.Body.Dir, in.Body.Accept))
	})
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/actions", "actions", "The actions that a device's adapter offers"), func(_ context.Context, in *OfDevice) (*out[client.Actions], error) {
		all, err := s.Prep.Actions(in.Handle)
		if err != nil {
			return nil, problem(err)
		}
		return &out[client.Actions]{client.Actions{Actions: each(all, actionOf)}}, nil
	})
	huma.Register(a, work(access.Use, "/devices/{handle}/actions", "act", "Run an action of a device's adapter"), func(ctx context.Context, in *struct {
		OfDevice
		Body struct {
			Action string         `json:"action" maxLength:"60"`
			Args   map[string]any `json:"args,omitempty" doc:"as the action's schema says"`
		}
	}) (*accepted, error) {
		args, err := json.Marshal(in.Body.Args)
		if err != nil {
			return nil, problem(err)
		}
		if in.Body.Args == nil {
			args = nil
		}
		j, err := s.Prep.Act(ctx, in.Handle, in.Body.Action, args, access.From(ctx).String())
		if err != nil {
			return nil, problem(err)
		}
		return &accepted{jobOf(j)}, nil
	})
	drop := operation(access.Maintain, "DELETE", "/adapters/{name}", "drop-adapter", "Stop an adapter, and delete it")
	drop.DefaultStatus = http.StatusNoContent
	huma.Register(a, drop, func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"60"`
	}) (*struct{}, error) {
		return nil, problem(s.Adapters.Drop(ctx, in.Name))
	})
}

func actionOf(a device.Action) client.Action {
	return client.Action{Name: a.Name, About: a.About, Args: string(a.Args)}
}

func adapterOut(a adapters.Adapter, err error) (*out[client.Adapter], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Adapter]{adapterOf(a)}, nil
}

func adapterOf(a adapters.Adapter) client.Adapter {
	return client.Adapter{Name: a.Name, About: a.About, Command: append([]string{}, a.Command...), Files: append([]string{}, a.Files...), Announced: append([]string{}, a.Announced...), USB: append([]string{}, a.USB...), Connect: append([]int{}, a.Connect...), Sheet: a.Sheet, Digest: a.Digest,
		Version: a.Version, State: string(a.State), Fenced: a.Fenced, Trouble: a.Trouble, Devices: append([]string{}, a.Devices...), Log: append([]string{}, a.Log...)}
}

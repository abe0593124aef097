package web

import (
	"context"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/rack"
)

func linkOf(l rack.Link) client.Link {
	out := client.Link{Device: l.Handle, Way: string(l.Kind), Host: l.Place.Host, Port: l.Place.Port, State: "down"}
	switch {
	case l.Linked:
		out.State = "linked"
	case l.Up:
		out.State = "visitor"
	case !l.Asleep.IsZero() && l.Down == nil:
		out.State, out.Asleep = "asleep", when(l.Asleep)
	case l.Down != nil:
		out.Trouble = sentence(l.Down.Error())
	}
	return out
}

func (s *Server) links(_ context.Context, in *struct{ Select }) (*out[client.List[client.Link]], error) {
	return linkList.of(in.Select, each(s.Rack.Links(), linkOf))
}

func (s *Server) restartLink(ctx context.Context, in *OfDevice) (*struct{}, error) {
	return nil, problem(s.Prep.RestartLink(ctx, in.Handle))
}

func (s *Server) restartLinks(ctx context.Context, _ *none) (*out[client.List[client.RestartedLink]], error) {
	handles, errs := s.Prep.RestartLinks(ctx)
	items := []client.RestartedLink{}
	for i, h := range handles {
		one := client.RestartedLink{Device: h}
		if errs[i] != nil {
			one.Trouble = sentence(errs[i].Error())
		}
		items = append(items, one)
	}
	return list(items), nil
}

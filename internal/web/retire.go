package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/retire"
)

func (s *Server) retireRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/retirement", "retirement", "The steps to retire a device, and their state"), s.retirement)
	huma.Register(a, operation(access.Use, "POST", "/devices/{handle}/retirement", "retire", "Start to retire a device"), s.retire)
	huma.Register(a, operation(access.Use, "DELETE", "/devices/{handle}/retirement", "call-off-retirement", "Stop retiring a device"), s.callOff)
	huma.Register(a, silent(access.Use, "/devices/{handle}/retirement/told", "tell-retirement", "Confirm a step that the bench cannot observe"), s.tellRetirement)
}

func retirementOf(st outlook.Standing) client.Retirement {
	out := client.Retirement{Items: []client.RetireItem{}}
	if r := st.Device.Retirement; r != nil {
		out.Since, out.Ended = r.Since, r.Ended
	}
	for _, i := range retire.Items(st) {
		item := client.RetireItem{Step: stepOf(ready.Step{Step: i.Step}, st), At: i.Done.At, By: i.Done.By}
		item.Step.Done, item.Step.Tell, item.Step.Seen = !i.Done.At.IsZero(), retire.Confirmable(st, i.Step), i.Step.Done != nil
		out.Items = append(out.Items, item)
	}
	return out
}

func (s *Server) retirement(ctx context.Context, in *OfDevice) (*out[client.Retirement], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	return &out[client.Retirement]{retirementOf(st)}, nil
}

func (s *Server) retire(ctx context.Context, in *OfDevice) (*out[client.Retirement], error) {
	st, err := s.Retire.Begin(ctx, in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Retirement]{retirementOf(st)}, nil
}

func (s *Server) callOff(ctx context.Context, in *OfDevice) (*struct{}, error) {
	return nil, problem(s.Retire.CallOff(ctx, in.Handle))
}

func (s *Server) tellRetirement(ctx context.Context, in *struct {
	OfDevice
	Body struct {
		Step string `json:"step"`
	}
}) (*struct{}, error) {
	return nil, problem(s.Retire.Told(ctx, in.Handle, in.Body.Step, access.From(ctx).Name))
}

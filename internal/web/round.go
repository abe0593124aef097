package web

import (
	"context"
	"strings"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/round"
	"earlybench.invalid/earlybench/core/sheet"
)

func (s *Server) round(ctx context.Context, _ *none) (*out[client.Round], error) {
	byHandle := map[string]client.Device{}
	var devices []round.Device
	for _, d := range s.rack(ctx, "") {
		byHandle[d.Handle] = d
		devices = append(devices, needOf(d))
	}
	r := round.Make(devices)
	answer := client.Round{Groups: []client.RoundGroup{}, Ready: []string{}}
	for _, g := range r.Groups {
		group := client.RoundGroup{Who: string(g.Who), Gate: g.Gate, Title: g.Title, Minutes: g.Minutes}
		for _, d := range g.Devices {
			group.Devices = append(group.Devices, byHandle[d.Handle])
		}
		if next := group.Devices[0].Next; next != nil {
			group.Note = next.Note
		}
		answer.Groups = append(answer.Groups, group)
	}
	for _, d := range r.Ready {
		answer.Ready = append(answer.Ready, d.Handle)
	}
	return &out[client.Round]{answer}, nil
}

// needOf is what a device needs next. What has no step is seen to at the
// computer; a title names its own device, which a group's must not.
func needOf(d client.Device) round.Device {
	need := round.Device{Handle: d.Handle, Family: d.Family, Gate: d.First, Host: d.Host, Port: d.Port}
	common := func(s string) string { return strings.ReplaceAll(s, d.Handle, "it") }
	switch {
	case d.Summary == "ready" || d.Summary == "lapsing":
	case d.Next != nil:
		need.Step, need.Title, need.Who, need.Mins = d.Next.ID, common(d.Next.Title), sheet.Who(d.Next.Who), d.Next.Minutes
	default:
		need.Title, need.Who = common(d.Says), sheet.Computer
	}
	return need
}

package web

import (
	"context"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/round"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/retire"
)

func (s *Server) round(_ context.Context, in *struct {
	App string `query:"app" doc:"count the gates of this app too"`
}) (*out[client.Round], error) {
	if err := s.Outlook.CheckApp(in.App); err != nil {
		return nil, problem(err)
	}
	byHandle := map[string]client.Device{}
	var devices []round.Device
	for _, st := range s.rackNow(in.App) {
		d := deviceOf(st)
		if st.Readiness.Summary == ready.Retired {
			continue
		}
		byHandle[d.Handle] = d
		devices = append(devices, needOf(d, st.Unnamed()))
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

// needOf returns what a device needs next. Something without a step is done at the
// computer. unnamed is the standing in words that do not name the device.
func needOf(d client.Device, unnamed outlook.Standing) round.Device {
	need := round.Device{Handle: d.Handle, Family: d.Family, Gate: d.First, Host: d.Host, Port: d.Port}
	switch {
	case d.Summary == "ready" || d.Summary == "expiring":
	case d.Retiring:
		need.Title, need.Who = "Retire it", sheet.Automatic
		for _, i := range retire.Items(unnamed) {
			if i.Done.At.IsZero() {
				need.Step, need.Title, need.Who, need.Mins = "retire "+i.Step.ID, unnamed.Fill(i.Step.Title), i.Step.Who, i.Step.Minutes
				break
			}
		}
	case d.Next != nil:
		need.Step, need.Who, need.Mins = d.Next.ID, sheet.Who(d.Next.Who), d.Next.Minutes
		need.Title = unnamed.Fill(unnamed.Readiness.Next.Title)
	default:
		need.Title, need.Who = unnamed.Why.Text, sheet.Computer
	}
	return need
}

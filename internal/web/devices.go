package web

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/where"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/supply"
)

func (s *Server) deviceRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/devices", "devices", "The rack"), s.devices)
	huma.Register(a, operation(access.Look, "GET", "/unrecognised", "unrecognised", "What is connected and fits no prep sheet"), s.unrecognised)
	huma.Register(a, operation(access.Use, "POST", "/devices", "add-device", "Add a device that has no cable"), s.addDevice)
	huma.Register(a, operation(access.Look, "GET", "/links", "links", "How devices are reached now"), s.links)
	huma.Register(a, operation(access.Use, "POST", "/links/restart", "restart-links", "Restart the links that were tried and do not stand"), s.restartLinks)
	huma.Register(a, silent(access.Use, "/devices/{handle}/link/restart", "restart-link", "Restart the link to a device"), s.restartLink)
	huma.Register(a, silent(access.Use, "/devices/{handle}/find", "find", "Have the device show its handle"), s.find)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}", "device", "A device"), s.device)
	huma.Register(a, operation(access.Use, "DELETE", "/devices/{handle}", "drop-device", "Forget a device that is not connected, and everything known about it"), s.dropDevice)
	huma.Register(a, operation(access.Use, "PATCH", "/devices/{handle}", "change-device", "Change a device's record"), s.changeDevice)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/prep", "prep", "A device's plan"), s.plan)
	huma.Register(a, work(access.Use, "/devices/{handle}/admission", "ask", "Have the device ask its owner to let this bench in"), s.ask)
	huma.Register(a, work(access.Install, "/devices/{handle}/driver", "install-driver", "Install a driver set, with consent"), s.installDriver)
	huma.Register(a, silent(access.Consent, "/devices/{handle}/host", "give-device", "Have a device pass to another host, or back to the bench"), s.giveDevice)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/drivers", "driver-candidates", "The driver sets that may be used for a device, the best first"), s.driverCandidates)
	huma.Register(a, operation(access.Consent, "DELETE", "/devices/{handle}/driver", "drop-driver", "Take the driver that is bound to a device's link off its host"), s.dropDriver)
}

func (s *Server) devices(ctx context.Context, in *struct {
	App    string   `query:"app"`
	Handle []string `query:"handle" doc:"only these, separated by commas; those not on the rack are left out"`
	Select
}) (*out[client.List[client.Device]], error) {
	if err := s.Outlook.CheckApp(in.App); err != nil {
		return nil, problem(err)
	}
	language := func() (*where.Language, error) { return s.racks.language(s.Sheets.Current()) }
	all := s.rackNow(in.App, in.Handle...)
	if actor := access.From(ctx); actor.Devices != nil {
		all = slices.DeleteFunc(all, func(st outlook.Standing) bool { return !actor.Sees(st.Device.ID) })
	}
	if in.After != "" {
		i := slices.IndexFunc(all, func(st outlook.Standing) bool { return st.Device.Handle == in.After })
		if i < 0 {
			return nil, problem(noSuch(in.After))
		}
		all = all[i+1:]
	}
	return selected(in.Select, 0, language, s.racks.value, (*racked).device, func(d client.Device) string { return d.Handle }, without(each(all, func(st outlook.Standing) *racked { return &racked{Standing: st} })))
}

// rackNow returns the standing of the devices on the rack.
func (s *Server) rackNow(app string, only ...string) []outlook.Standing {
	wanted := map[string]bool{}
	for _, h := range only {
		wanted[h] = true
	}
	var items []outlook.Standing
	for _, k := range s.Rack.All() {
		if len(only) > 0 && !wanted[k.Device().Handle] {
			continue
		}
		st := s.Outlook.Glance(k, app)
		if r := st.Device.Retirement; r != nil && !r.Ended.IsZero() && !st.Reached() {
			continue
		}
		items = append(items, st)
	}
	return items
}

func (s *Server) unrecognised(_ context.Context, in *struct{ Select }) (*out[client.List[client.Unrecognised]], error) {
	var items []client.Unrecognised
	for _, x := range s.Rack.Unrecognised() {
		items = append(items, client.Unrecognised{Name: x.Name, USB: x.USB, Host: x.Host, Port: x.Port, Interfaces: append([]string{}, x.Interfaces...)})
	}
	return unrecognisedList.of(in.Select, items)
}

// look finds a device and its standing.
func (s *Server) look(_ context.Context, in *OfDevice) (outlook.Standing, error) {
	k, err := s.Rack.Find(in.Handle)
	if err == nil {
		err = s.Outlook.CheckApp(in.App)
	}
	if err != nil {
		return outlook.Standing{}, problem(err)
	}
	return s.Outlook.Look(k, in.App), nil
}

// decided returns the revision on which an action was decided; 0 for none.
func (in OnRevision) decided() (int64, error) {
	if in.IfMatch == "" || in.IfMatch == "*" {
		return 0, nil
	}
	n, err := strconv.ParseInt(strings.Trim(in.IfMatch, `"`), 10, 64)
	if err != nil || n <= 0 {
		return 0, eb.Errorf(eb.Invalid, "If-Match %.40q is not a revision: write the number that the device has, in quotation marks", in.IfMatch)
	}
	return n, nil
}

func (s *Server) device(ctx context.Context, in *OfDevice) (*out[client.Device], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	return &out[client.Device]{deviceOf(st)}, nil
}

func (s *Server) dropDevice(ctx context.Context, in *OfDevice) (*struct{}, error) {
	return nil, problem(s.Rack.Drop(ctx, in.Handle))
}

func (s *Server) changeDevice(ctx context.Context, in *struct {
	OfDevice
	Body client.Change
}) (*out[client.Device], error) {
	actor := access.From(ctx)
	if in.Body.Key != nil && !actor.May(access.Install) {
		return nil, problem(refused(actor, access.Install))
	}
	if in.Body.HandsURL != nil && !actor.May(access.Maintain) {
		return nil, problem(refused(actor, access.Maintain))
	}
	if err := s.Rack.Set(ctx, in.Handle, rack.Change{Handle: in.Body.Handle, HandsURL: in.Body.HandsURL, Key: in.Body.Key}); err != nil {
		return nil, problem(err)
	}
	if in.Body.Handle != nil {
		in.Handle = *in.Body.Handle
	}
	return s.device(ctx, &in.OfDevice)
}

func (s *Server) plan(ctx context.Context, in *OfDevice) (*out[client.Prep], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	plan := planOf(st)
	if k := s.Rack.ByID(st.Device.ID); k != nil {
		plan.Lacks = outlook.Lacks(k)
		if need := s.Supply.NeedOf(k); need != nil {
			p := packOf(*need)
			plan.Need = &p
		}
	}
	return &out[client.Prep]{plan}, nil
}

func (s *Server) ask(ctx context.Context, in *struct {
	OfDevice
	OnRevision
}) (*accepted, error) {
	decided, err := in.decided()
	if err != nil {
		return nil, problem(err)
	}
	j, err := s.Prep.Ask(ctx, in.Handle, access.From(ctx).String(), decided)
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

func (s *Server) installDriver(ctx context.Context, in *struct {
	OfDevice
	OnRevision
	Body client.DriverConsent
}) (*accepted, error) {
	decided, err := in.decided()
	if err != nil {
		return nil, problem(err)
	}
	j, err := s.Supply.Install(ctx, supply.Consent{Device: in.Handle, Accept: in.Body.Accept, Despite: in.Body.Despite, Revision: decided, Actor: access.From(ctx).String()})
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

func (s *Server) driverCandidates(_ context.Context, in *struct {
	OfDevice
	Select
}) (*out[client.List[client.DriverCandidate]], error) {
	k, err := s.Rack.Find(in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	return candidateList.of(in.Select, each(s.Supply.Candidates(k), candidateOf))
}

func (s *Server) giveDevice(ctx context.Context, in *struct {
	OfDevice
	Body struct {
		To string `json:"to,omitempty" maxLength:"60" doc:"name of a host; empty, or the bench's own name, for the bench"`
	}
}) (*struct{}, error) {
	bench := s.Bench()
	return nil, problem(s.Supply.Give(ctx, in.Handle, cmp.Or(in.Body.To, bench), bench))
}

func (s *Server) dropDriver(ctx context.Context, in *OfDevice) (*struct{}, error) {
	_, err := s.Supply.TakeBack(ctx, in.Handle)
	return nil, problem(err)
}

func (s *Server) addDevice(ctx context.Context, in *out[client.NewDevice]) (*out[client.Device], error) {
	k, err := s.Rack.Add(ctx, in.Body.Handle, in.Body.Model)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Device]{deviceOf(s.Outlook.Look(k, ""))}, nil
}

func (s *Server) find(ctx context.Context, in *OfDevice) (*struct{}, error) {
	return nil, problem(s.Prep.Show(ctx, in.Handle))
}

package web

import (
	"context"
	"fmt"
	"regexp"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
)

func (s *Server) hostRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/hosts", "hosts", "The hosts"), s.hosts)
	huma.Register(a, operation(access.Own, "POST", "/hosts", "add-host", "Add a host"), s.addHost)
	huma.Register(a, operation(access.Own, "PATCH", "/hosts/{id}", "change-host", "Say whether several people use a host"), s.changeHost)
	huma.Register(a, operation(access.Own, "DELETE", "/hosts/{id}", "drop-host", "Forget a host"), s.dropHost)
	huma.Register(a, operation(access.Look, "GET", "/drivers", "drivers", "The driver sets"), s.sets)
	add := operation(access.Maintain, "POST", "/drivers", "add-driver", "Add a driver set's file")
	add.MaxBodyBytes = maxBody
	huma.Register(a, add, s.addSet)
}

func (s *Server) addSet(ctx context.Context, in *struct {
	RawBody []byte `contentType:"application/octet-stream"`
}) (*out[client.DriverSet], error) {
	d, err := s.Supply.Add(ctx, in.RawBody)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.DriverSet]{setOf(d)}, nil
}

func (s *Server) sets(ctx context.Context, in *struct{ Select }) (*out[client.List[client.DriverSet]], error) {
	all, err := s.Store.DriverSets(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return driverList.of(in.Select, each(all, setOf))
}

func (s *Server) hosts(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Host]], error) {
	all, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.Host
	for _, h := range all {
		c := client.Host{Name: h.Name, USBIP: h.USBIP, Control: h.Control, Shared: h.Shared}
		if err := s.Hosts.Trouble(h.Name); err != nil {
			c.Trouble = sentence(err.Error())
		}
		items = append(items, c)
	}
	return hostList.of(in.Select, items)
}

var hostName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (s *Server) addHost(ctx context.Context, in *out[client.Host]) (*out[client.Host], error) {
	if !hostName.MatchString(in.Body.Name) {
		return nil, problem(eb.Errorf(eb.Invalid, "host name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", in.Body.Name))
	}
	for name, value := range map[string]string{"usbip": in.Body.USBIP, "control": in.Body.Control} {
		if err := hostPort(name, value); err != nil {
			return nil, problem(err)
		}
	}
	before, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	for _, h := range before { // a new address makes it no computer of one person's own
		in.Body.Shared = in.Body.Shared || h.Name == in.Body.Name && h.Shared
	}
	h := store.Host{Name: in.Body.Name, USBIP: in.Body.USBIP, Control: in.Body.Control, Shared: in.Body.Shared}
	if err := s.Store.SaveHost(ctx, h); err != nil {
		return nil, problem(err)
	}
	s.Rack.SetShared(h.Name, h.Shared)
	s.Hosts.Watch(h)
	return in, nil
}

func (s *Server) changeHost(ctx context.Context, in *struct {
	OfID
	Body struct {
		Shared bool `json:"shared" doc:"several people use it: it never asks a device for more than this visit"`
	}
}) (*out[client.Host], error) {
	all, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	for _, h := range all {
		if h.Name != in.ID {
			continue
		}
		h.Shared = in.Body.Shared
		if err := s.Store.SaveHost(ctx, h); err != nil {
			return nil, problem(err)
		}
		s.Rack.SetShared(h.Name, h.Shared)
		return &out[client.Host]{client.Host{Name: h.Name, USBIP: h.USBIP, Control: h.Control, Shared: h.Shared}}, nil
	}
	return nil, problem(fmt.Errorf("host %s: %w", in.ID, store.ErrNotFound))
}

func (s *Server) dropHost(ctx context.Context, in *OfID) (*struct{}, error) {
	if err := s.Store.DropHost(ctx, in.ID); err != nil {
		return nil, problem(err)
	}
	s.Hosts.Forget(in.ID)
	return nil, nil
}

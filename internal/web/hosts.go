package web

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/computer"
	"earlybench.invalid/earlybench/internal/jump"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

func (s *Server) hostRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/hosts", "hosts", "The hosts"), s.hosts)
	huma.Register(a, operation(access.Look, "GET", "/hosts/{id}/tree", "host-tree", "The USB of a host, as it is connected"), s.hostTree)
	huma.Register(a, operation(access.Look, "GET", "/check", "check", "Check the bench's own computer: USB, rights, rules, networks, clock, disk, memory, search path"), s.check)
	huma.Register(a, operation(access.Own, "POST", "/hosts/look", "look-at-ssh", "Ask an SSH server that a host is reached through for its key"), s.lookAtSSH)
	huma.Register(a, operation(access.Own, "POST", "/hosts", "add-host", "Add a host"), s.addHost)
	huma.Register(a, operation(access.Own, "PATCH", "/hosts/{id}", "change-host", "Set whether several people use a host"), s.changeHost)
	huma.Register(a, operation(access.Own, "DELETE", "/hosts/{id}", "drop-host", "Forget a host"), s.dropHost)
	huma.Register(a, operation(access.Look, "GET", "/drivers", "drivers", "The driver sets"), s.sets)
	add := operation(access.Maintain, "POST", "/drivers", "add-driver", "Add a driver set's file")
	add.MaxBodyBytes, add.BodyReadTimeout = httpd.MaxBody, time.Minute
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
	own, is := s.Hosts.Own()
	all = slices.DeleteFunc(all, func(h store.Host) bool { return h.Own() && h.Name != own.Name }) // the computer had that name before
	if is && !slices.ContainsFunc(all, func(h store.Host) bool { return h.Name == own.Name }) {
		all = slices.Insert(all, 0, own)
	}
	var items []client.Host
	for _, h := range all {
		items = append(items, s.hostOf(h))
	}
	return hostList.of(in.Select, items)
}

func (s *Server) hostOf(h store.Host) client.Host {
	c := client.Host{Name: h.Name, USBIP: h.USBIP, Control: h.Control, SSH: h.SSH, SSHKey: h.SSHKey, Shared: h.Shared, Own: h.Own()}
	if err := s.Hosts.Trouble(h.Name); err != nil {
		c.Trouble = sentence(err.Error())
	}
	return c
}

func (s *Server) hostTree(_ context.Context, in *OfID) (*out[client.HostTree], error) {
	v, err := s.Computer.Of(in.ID)
	if err != nil {
		return nil, problem(err)
	}
	own, is := s.Hosts.Own()
	body := client.HostTree{Host: in.ID, Own: is && own.Name == in.ID, Known: v.Known, Rows: each(v.Rows, rowOf)}
	if v.Why != nil {
		body.Trouble = sentence(v.Why.Error())
	}
	return &out[client.HostTree]{body}, nil
}

func (s *Server) check(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Check]], error) {
	all, err := s.Checker.Run(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return checkList.of(in.Select, each(all, func(k computer.Check) client.Check {
		return client.Check{ID: k.ID, Title: k.Title, State: string(k.State), Found: k.Found, Breaks: k.Breaks, Remedy: k.Remedy}
	}))
}

func rowOf(r computer.Row) client.TreeRow {
	return client.TreeRow{Depth: r.Depth, Kind: string(r.Kind), ID: r.ID, Port: r.PortNumber, Ports: r.Ports, Name: r.Name, USB: r.USB,
		Kilobits: r.Kilobits, MilliAmps: r.MilliAmps, Driver: r.Driver, Holder: r.Holder, Device: r.Handle, Gate: r.Gate, Trouble: r.Trouble, Worst: r.Worst}
}

var hostName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (s *Server) addHost(ctx context.Context, in *out[client.Host]) (*out[client.Host], error) {
	if !hostName.MatchString(in.Body.Name) {
		return nil, problem(eb.Errorf(eb.Invalid, "host name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", in.Body.Name))
	}
	for name, value := range map[string]string{"usbip": in.Body.USBIP, "control": in.Body.Control} {
		if name == "usbip" && value == "" { // it exports nothing
			continue
		}
		if err := hostPort(name, value); err != nil {
			return nil, problem(err)
		}
	}
	if err := s.checkSSH(in.Body.SSH, in.Body.SSHKey); err != nil {
		return nil, problem(err)
	}
	if own, is := s.Hosts.Own(); is && own.Name == in.Body.Name {
		return nil, problem(eb.Errorf(eb.Taken, "%s is the bench's own computer, and its USB is already watched: choose another name", own.Name))
	}
	before, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	for _, h := range before { // a new address makes it no computer of one person's own
		in.Body.Shared = in.Body.Shared || h.Name == in.Body.Name && h.Shared
	}
	h := store.Host{Name: in.Body.Name, USBIP: in.Body.USBIP, Control: in.Body.Control, SSH: in.Body.SSH, SSHKey: in.Body.SSHKey, Shared: in.Body.Shared}
	if err := s.Store.SaveHost(ctx, h); err != nil {
		return nil, problem(err)
	}
	s.Rack.SetShared(h.Name, h.Shared)
	s.Hosts.Watch(h)
	return in, nil
}

// checkSSH tells what is wrong with the SSH server of a host to be added.
func (s *Server) checkSSH(address, key string) error {
	if address == "" && key == "" {
		return nil
	}
	if _, err := jump.Parse(address); err != nil {
		return err
	}
	if !strings.HasPrefix(key, "SHA256:") {
		return &eb.Problem{Kind: eb.Person, Text: "The key of the SSH server was not accepted.", Remedy: "Compare it first, and give its fingerprint as ssh_key: earlybench host add NAME --ssh " + address}
	}
	return nil
}

func (s *Server) lookAtSSH(ctx context.Context, in *struct {
	Body struct {
		SSH string `json:"ssh" maxLength:"300" doc:"as ssh://USER@HOST:PORT"`
	}
}) (*out[client.FoundSSH], error) {
	key, err := s.Hosts.LookSSH(ctx, in.Body.SSH)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.FoundSSH]{client.FoundSSH{SSH: in.Body.SSH, Key: key}}, nil
}

func (s *Server) changeHost(ctx context.Context, in *struct {
	OfID
	Body struct {
		Shared bool `json:"shared" doc:"several people use it: devices are only asked to admit it for one visit"`
	}
}) (*out[client.Host], error) {
	all, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	if own, is := s.Hosts.Own(); is && own.Name == in.ID {
		all = append(all, own)
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
		return &out[client.Host]{s.hostOf(h)}, nil
	}
	return nil, problem(fmt.Errorf("host %s: %w", in.ID, store.ErrNotFound))
}

func (s *Server) dropHost(ctx context.Context, in *OfID) (*struct{}, error) {
	if own, is := s.Hosts.Own(); is && own.Name == in.ID {
		return nil, problem(&eb.Problem{Kind: eb.Invalid, Text: own.Name + " is the bench's own computer.", Remedy: "To stop watching its USB, start the bench with earlybench serve --own-usb=false."})
	}
	if err := s.Store.DropHost(ctx, in.ID); err != nil {
		return nil, problem(err)
	}
	s.Hosts.Forget(in.ID)
	return nil, nil
}

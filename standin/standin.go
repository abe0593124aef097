// Package standin runs stand-in devices on a stand-in hub of a stand-in host, with a
// page on which people operate them and a socket by which programs do. A bench reaches
// them by USB/IP and the host protocol only.
package standin

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/standin/air"
	"earlybench.invalid/earlybench/standin/bodies"
	"earlybench.invalid/earlybench/standin/body"
	"earlybench.invalid/earlybench/standin/hands"
	"earlybench.invalid/earlybench/standin/host"
	"earlybench.invalid/earlybench/standin/hub"
	"earlybench.invalid/earlybench/standin/machine"
	"earlybench.invalid/earlybench/standin/pair"
)

// Scenario is the set of stand-ins at first start, and where they listen.
type Scenario struct {
	Dir    string `json:"dir"`
	Host   string `json:"host"`   // its name
	Answer string `json:"answer"` // how long questions wait; "": as the body's data says
	Sets   []Set  `json:"sets"`   // driver sets that the host has from the beginning
	// Right are the names of sets that also work for models that they are not made for.
	Right []string `json:"right,omitempty"`
	// Service are driver sets that the host's own update service has.
	Service [][]byte `json:"service"`
	// System and Release are the kind of host. One that says its system binds by itself only
	// driver sets that are signed.
	System  string  `json:"system"`
	Release string  `json:"release"`
	Bodies  []Entry `json:"bodies"`
	Crew    string  `json:"crew"` // the number of the crew, as it stands on the cards beside its devices
	// Authority is where devices enter themselves in a register; nil for nowhere.
	Authority *Authority `json:"authority,omitempty"`
	// More is a directory with further makers' data, as in standin/bodies.
	More string `json:"more"`
	// Boot, if not "", replaces the bodies' own restart times.
	Boot string `json:"boot"`
	// Drivers makes the host bind a driver to every interface by itself.
	Drivers bool `json:"drivers"`

	HubAddress   string `json:"hub_address"`
	HostAddress  string `json:"host_address"`
	HandsAddress string `json:"hands_address"`
	Socket       string `json:"socket"` // for steering
	// Announcements is where the devices announce themselves that are reached without a cable, and
	// AirAddress at which address they listen; without the first there are none.
	Announcements netip.AddrPort `json:"announcements,omitzero"`
	AirAddress    netip.Addr     `json:"air_address,omitzero"` // zero: loopback
	// MachineAddress is that of the virtual machine's host protocol; "" takes a free one.
	MachineAddress string `json:"machine_address"`
}

// Set is a driver set that the host has, and the serials of the devices to which it is bound
// although it is not signed.
type Set struct {
	File  []byte   `json:"file"`
	Bound []string `json:"bound,omitempty"`
}

// Entry is one body of a scenario.
type Entry struct {
	Name   string          `json:"name"`
	Body   string          `json:"body"`
	Model  string          `json:"model"`
	Serial string          `json:"serial"`
	Begin  *body.Beginning `json:"begin"`
	Cable  string          `json:"cable"` // charge, worn, dead; "" for a good one
	Held   bool            `json:"held"`  // by the virtual machine
	// Pair is where it listens for the handset through which it is reached; "" for not at all. Such
	// a body is on no network.
	Pair string `json:"pair,omitempty"`
	// Beside are the bodies that are reached through it: their names, or where those of another
	// scenario listen.
	Beside []string `json:"beside,omitempty"`
}

// Addresses are where the stand-ins are reached.
type Addresses struct {
	Hub     string `json:"hub"`
	Host    string `json:"host"`
	Hands   string `json:"hands"`
	Socket  string `json:"socket"`
	Machine string `json:"machine"` // the host protocol of the virtual machine
}

// MachineName is what the virtual machine beside the host is called; it imports from an
// address of its own.
const (
	MachineName = "pit"
	machineFrom = "127.0.0.9"
)

// takeOver has the virtual machine take a body, from whoever has it.
func (r *Rig) takeOver(name string) error {
	id := r.port(name).BusID
	if err := r.hub.Release(id, MachineName); err != nil {
		return err
	}
	return r.machine.Take(context.Background(), r.hub.Address(), id)
}

// Rig is a running set of stand-ins, from Start to Close.
type Rig struct {
	clock   *clock.Moved
	bodies  []*body.Body
	hub     *hub.Hub
	host    *host.Host
	machine *machine.Machine
	air     *air.Air // nil: none is reached without a cable
	pairs   []*pair.Listener
	hearing []*pair.Hearing
	hands   *hands.Server
	steer   net.Listener
	socket  string

	mu    sync.Mutex
	conns map[*rpc.Conn]bool
	work  sync.WaitGroup
}

// commonClasses are those for which any computer has a driver.
var commonClasses = []string{"06/01/01"}

// Start starts everything that the scenario names, plugged in.
func Start(ctx context.Context, sc Scenario, log *slog.Logger) (*Rig, error) {
	r := &Rig{clock: &clock.Moved{}, conns: map[*rpc.Conn]bool{}, socket: sc.Socket}
	if err := r.start(ctx, sc, log); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

func (r *Rig) start(ctx context.Context, sc Scenario, log *slog.Logger) error {
	specs, err := body.LoadSpecs(bodies.Files)
	if err != nil {
		return err
	}
	if sc.More != "" {
		more, err := body.LoadSpecs(os.DirFS(sc.More))
		if err != nil {
			return err
		}
		maps.Copy(specs, more)
	}
	common := commonClasses
	if sc.Drivers {
		common = append(slices.Clone(common), fmt.Sprintf("%02x/00/00", usb.LinkClass))
	}
	hostDir := filepath.Join(sc.Dir, "host")
	_, err = os.Stat(hostDir)
	fresh := errors.Is(err, os.ErrNotExist)
	if r.host, err = host.New(host.Config{Address: sc.HostAddress, Name: sc.Host, Dir: hostDir, Common: common, System: sc.System, Release: sc.Release, Service: sc.Service, Right: sc.Right}); err != nil {
		return err
	}
	for _, set := range sc.Sets {
		if !fresh {
			break
		}
		if err := r.host.Install(set.File, set.Bound...); err != nil {
			return err
		}
	}
	if r.hub, err = hub.Start(ctx, hub.Config{Address: sc.HubAddress, Driver: r.host.Driver, Importers: map[string]string{machineFrom: MachineName}}); err != nil {
		return err
	}
	if r.machine, err = machine.Start(ctx, machine.Config{Name: MachineName, Address: cmp.Or(sc.MachineAddress, "127.0.0.1:0"), Local: net.ParseIP(machineFrom)}); err != nil {
		return err
	}
	if err := r.host.Serve(ctx, r.hub); err != nil {
		return err
	}
	var answer time.Duration
	if sc.Answer != "" {
		if answer, err = time.ParseDuration(sc.Answer); err != nil {
			return fmt.Errorf("answer: %w", err)
		}
	}
	if sc.Announcements.IsValid() {
		at := sc.AirAddress
		if !at.IsValid() {
			at = netip.AddrFrom4([4]byte{127, 0, 0, 1})
		}
		if r.air, err = air.Start(air.Config{Address: at, Group: sc.Announcements, Log: log}); err != nil {
			return err
		}
	}
	var held []hands.Body
	listening := map[string]string{} // addresses by body
	for _, e := range sc.Bodies {
		spec := specs[e.Body]
		if spec == nil {
			return fmt.Errorf("body %s: nobody makes %q", e.Name, e.Body)
		}
		if sc.Boot != "" {
			spec.Boot = sc.Boot
		}
		var hearing body.Hearing
		if len(e.Beside) > 0 {
			h := pair.Hear()
			r.hearing = append(r.hearing, h)
			hearing = h
		}
		b, err := body.New(body.Config{Hearing: hearing, Name: e.Name, Spec: spec, Model: e.Model, Serial: e.Serial, Crew: sc.Crew, Authority: sc.Authority.checker(), Enter: sc.Authority.enter(e.Serial, e.Model), Answer: answer,
			Dir: filepath.Join(sc.Dir, "bodies"), Clock: r.clock, Log: log, Begin: e.Begin})
		if err != nil {
			return err
		}
		r.bodies = append(r.bodies, b)
		held = append(held, b)
		r.hub.Attach(b)
		switch {
		case e.Pair != "":
			p, err := pair.Listen(e.Pair, b)
			if err != nil {
				return err
			}
			r.pairs = append(r.pairs, p)
			listening[e.Name] = p.Address()
		case r.air != nil:
			r.air.Add(b)
		}
		cable := hub.Cable(e.Cable)
		if spec.Port == "power" {
			cable = hub.Charge
		}
		if cable != hub.Data {
			err = r.hub.SetCable(e.Name, cable)
		} else {
			err = r.hub.Plug(e.Name)
		}
		if err == nil && e.Pair != "" { // it is worn
			err = r.hub.Pull(e.Name, 0)
		}
		if err == nil && e.Held && fresh {
			err = r.takeOver(e.Name)
		}
		if err != nil {
			return err
		}
	}
	heard := r.hearing
	for _, e := range sc.Bodies {
		if len(e.Beside) == 0 {
			continue
		}
		for _, at := range e.Beside {
			heard[0].Add(cmp.Or(listening[at], at))
		}
		heard = heard[1:]
	}
	if r.hands, err = hands.Start(sc.HandsAddress, cable{r.hub}, held); err != nil {
		return err
	}
	return r.listen(sc.Socket)
}

// Addresses returns where the stand-ins are reached.
func (r *Rig) Addresses() Addresses {
	return Addresses{Hub: r.hub.Address(), Host: r.host.Address(), Hands: r.hands.URL(), Socket: r.socket, Machine: r.machine.Address()}
}

// Close stops everything, in reverse order of starting.
func (r *Rig) Close() error {
	var errs []error
	if r.steer != nil {
		errs = append(errs, r.steer.Close())
		r.mu.Lock()
		for c := range r.conns {
			go c.Close()
		}
		r.mu.Unlock()
		r.work.Wait()
	}
	if r.air != nil {
		errs = append(errs, r.air.Close())
	}
	for _, p := range r.pairs {
		errs = append(errs, p.Close())
	}
	for _, h := range r.hearing {
		h.Close()
	}
	if r.hands != nil {
		errs = append(errs, r.hands.Close())
	}
	if r.machine != nil {
		errs = append(errs, r.machine.Close())
	}
	if r.host != nil && r.hub != nil {
		errs = append(errs, r.host.Close())
	}
	if r.hub != nil {
		errs = append(errs, r.hub.Close())
	}
	for _, b := range r.bodies {
		errs = append(errs, b.Close())
	}
	return errors.Join(errs...)
}

// cable lets the hands page plug in and pull cables.
type cable struct{ *hub.Hub }

func (c cable) Plugged(name string) bool {
	for _, p := range c.Ports() {
		if p.Body == name {
			return p.Plugged
		}
	}
	return false
}

func (r *Rig) listen(socket string) error {
	os.Remove(socket) //nolint:errcheck // a leftover of one that was killed
	l, err := net.Listen("unix", socket)
	if err != nil {
		return fmt.Errorf("steering socket: %w", err)
	}
	r.steer = l
	r.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			r.work.Go(func() {
				conn := rpc.New(c, r.handle)
				r.mu.Lock()
				r.conns[conn] = true
				r.mu.Unlock()
				<-conn.Done()
				r.mu.Lock()
				delete(r.conns, conn)
				r.mu.Unlock()
			})
		}
	})
	return nil
}

// Methods by which stand-ins are steered.
const (
	MethodBodies  = "bodies"
	MethodPlug    = "plug"
	MethodPull    = "pull"
	MethodTouch   = "touch"
	MethodScreen  = "screen"
	MethodPicture = "picture" // a PNG
	MethodCard    = "card"
	MethodClock   = "clock.move"
	MethodSlide   = "slide"
	MethodType    = "type"
	MethodPress   = "press"
	MethodFaults  = "faults"
	MethodFault   = "fault"
)

// Steer holds the parameters of the methods that concern one body.
type Steer struct {
	Body  string `json:"body"`
	After int64  `json:"after,omitempty"`
	Text  string `json:"text,omitempty"`
	Times int    `json:"times,omitempty"`
	By    string `json:"by,omitempty"`  // of the clock
	Off   bool   `json:"off,omitempty"` // of a fault: take it away
}

// Status is the reported state of a body.
type Status struct {
	Name    string `json:"name"`
	Family  string `json:"family"`
	Port    int    `json:"port"`
	Plugged bool   `json:"plugged"`
	Hands   string `json:"hands_url"`
	Key     string `json:"device_key"`
	// Received is how many bytes of files it has received, repeated ones included.
	Received int64 `json:"received"`
}

func (r *Rig) handle(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
	p, err := rpc.Decode[Steer](params)
	if err != nil {
		return nil, err
	}
	switch method {
	case MethodBodies:
		return r.status(), nil
	case MethodPlug:
		return nil, r.hub.Plug(p.Body)
	case MethodPull:
		return nil, r.hub.Pull(p.Body, p.After)
	case MethodClock:
		d, err := time.ParseDuration(p.By)
		if err != nil {
			return nil, err
		}
		now := r.clock.Move(d).UTC()
		for _, b := range r.bodies {
			b.ClockMoved()
		}
		return now, nil
	}
	for _, b := range r.bodies {
		if b.Name() != p.Body {
			continue
		}
		switch method {
		case MethodTouch:
			for range max(p.Times, 1) {
				if err := b.Touch(p.Text); err != nil {
					return nil, err
				}
			}
			return nil, nil
		case MethodSlide:
			return nil, b.SlideTo(p.Text)
		case MethodType:
			return nil, b.Type(p.Text)
		case MethodPress:
			return nil, b.Press(p.Text)
		case MethodScreen:
			return b.Read(), nil
		case MethodPicture:
			return picture(ctx, b)
		case MethodCard:
			return b.Card(), nil
		case MethodFaults:
			return r.faults(b), nil
		case MethodFault:
			return nil, r.setFault(b, p.Text, !p.Off)
		}
		return rpc.NoMethod(ctx, c, method, params)
	}
	return nil, fmt.Errorf("there is no stand-in called %q", p.Body)
}

func (r *Rig) status() []Status {
	ports := r.hub.Ports()
	out := make([]Status, len(r.bodies))
	for i, b := range r.bodies {
		out[i] = Status{Name: b.Name(), Family: b.Family(), Hands: r.hands.URL() + "/held/" + b.Name(), Key: b.Fingerprint(), Received: b.Received()}
		for _, p := range ports {
			if p.Body == b.Name() {
				out[i].Port, out[i].Plugged = p.Number, p.Plugged
			}
		}
	}
	return out
}

// picture is a body's screen as a PNG.
func picture(ctx context.Context, b *body.Body) ([]byte, error) {
	img, _, err := b.Frame(ctx, 0)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = png.Encode(&out, img)
	return out.Bytes(), err
}

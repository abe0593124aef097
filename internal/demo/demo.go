// Package demo runs a bench with the demo's stand-ins, each in a process that ends when
// a pipe from this process closes, so that none is left behind. It adds the stand-ins to
// the bench through the bench's interface, as a person would.
package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/replace"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/board"
	"earlybench.invalid/earlybench/standin/depot"
	"github.com/cenkalti/backoff/v5"
)

// Config is how the demo is run.
type Config struct {
	State     string
	Port      int    // the first of ten that follow each other; 0: free ones
	Addresses string // a file to write; may be ""
	Answer    string // how long the stand-ins' questions wait; "": as the device
	Boot      string // how long the stand-ins' restarts take; "": as the device
	Few       bool   // only two handsets, and no other bench
	Alone     bool   // no other bench
	Unknown   bool   // and one that no prep sheet describes
	Smaller   int    // what the depot offers is smaller by this factor; 0: as it is
	Plain     bool   // the state directory is the usual one, so commands need not name it
	Out, Err  io.Writer
}

// Addresses is the content of the address file.
type Addresses struct {
	Service     string `json:"service"`
	Socket      string `json:"socket"`
	Hub         string `json:"hub"`
	Host        string `json:"host"`
	Hands       string `json:"hands"`
	Depot       string `json:"depot"`
	Authority   string `json:"authority"`
	Standin     string `json:"standin"`
	Development string `json:"development"`
	// Of the other bench.
	HarbourService string `json:"harbour_service,omitempty"`
	HarbourSocket  string `json:"harbour_socket,omitempty"`
	HarbourStandin string `json:"harbour_standin,omitempty"`
}

const (
	benchName   = "moor-desk"
	hostName    = "loft"
	readyWithin = 30 * time.Second
)

// Run runs the demo until ctx ends.
func Run(ctx context.Context, cfg Config) error {
	ports, err := choosePorts(cfg.Port)
	if err != nil {
		return err
	}
	release, err := state.Lock(filepath.Join(cfg.State, "demo"))
	if held, ok := errors.AsType[*state.Held](err); ok {
		held.Dir = cfg.State
	}
	if err != nil {
		return err
	}
	defer release()
	d := &demo{cfg: cfg, ports: ports}
	if d.announcements, err = ownAnnouncements(); err != nil {
		return err
	}
	defer d.stop()
	at, err := d.start(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return nil
		}
		return err
	}
	if cfg.Addresses != "" {
		if err := writeFile(cfg.Addresses, at); err != nil {
			return err
		}
	}
	d.welcome(ctx)
	return d.supervise(ctx)
}

type demo struct {
	cfg       Config
	ports     [10]int // service, hub, host, hands, depot, machine, authority, board, the other bench's service, where that is reached by peers
	service   *child
	standins  *child
	depot     *child
	authority *child
	harbour   *harbour     // nil: there is no other bench
	board     *board.Board // nil: there is none
	client    *client.Client
	// announcements is where the stand-ins announce themselves: at a port of the demo's own, so that
	// they are heard by nobody else, and nobody else by the bench.
	announcements netip.AddrPort
}

// ownAnnouncements returns the group of Multicast DNS at a free port.
func ownAnnouncements() (netip.AddrPort, error) {
	c, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("find a port for announcements: %w", err)
	}
	defer c.Close()
	return netip.AddrPortFrom(dnssd.Group.Addr(), uint16(c.LocalAddr().(*net.UDPAddr).Port)), nil
}

// choosePorts returns ten consecutive ports, or free ones, and checks that they are not
// in use.
func choosePorts(first int) (ports [10]int, err error) {
	for i := range ports {
		if first == 0 {
			continue
		}
		ports[i] = first + i
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", ports[i]))
		if errors.Is(err, syscall.EADDRINUSE) {
			return ports, &service.PortTaken{Port: ports[i], By: service.Holder(ports[i])}
		}
		if err != nil {
			return ports, fmt.Errorf("listen on port %d: %w", ports[i], err)
		}
		l.Close()
	}
	return ports, nil
}

func (d *demo) start(ctx context.Context) (Addresses, error) {
	var at service.Addresses
	if err := d.startService(&at); err != nil {
		return Addresses{}, err
	}
	d.client = client.New(at.Socket)
	bench, err := d.client.Bench(ctx)
	if err != nil {
		return Addresses{}, fmt.Errorf("ask the bench for its key: %w", err)
	}
	keys, err := depot.ReadKeys(filepath.Join(d.cfg.State, "standins", "depot"), publisher)
	if err != nil {
		return Addresses{}, err
	}
	made := sets{filepath.Join(d.cfg.State, "standins", "sets"), keys}
	belonging, err := d.startAuthority()
	if err != nil {
		return Addresses{}, err
	}
	sc, offered, err := scenario(d.cfg, d.ports, d.announcements, bench, made, held(belonging.Signed))
	if err != nil {
		return Addresses{}, err
	}
	sc.Authority = &standin.Authority{Authority: belonging.Checker, URL: belonging.Authority, Root: belonging.Root}
	var rig standin.Addresses
	if d.standins, err = spawn(d.cfg.Err, sc, &rig, "standin", "serve"); err != nil {
		return Addresses{}, fmt.Errorf("start the stand-ins: %w", err)
	}
	supplies, err := d.startDepot(ctx, made)
	if err != nil {
		return Addresses{}, err
	}
	if err := d.addAuthority(ctx, belonging.Authority); err != nil {
		return Addresses{}, err
	}
	if err := d.tell(ctx, rig, offered); err != nil {
		return Addresses{}, err
	}
	if !d.cfg.Few {
		if err := d.startBoard(ctx); err != nil {
			return Addresses{}, err
		}
	}
	out := Addresses{Authority: belonging.Authority, Service: at.Service, Socket: at.Socket, Hub: rig.Hub, Host: rig.Host, Hands: rig.Hands, Depot: supplies.Depot, Standin: rig.Socket, Development: at.Development}
	if d.cfg.Few || d.cfg.Alone {
		return out, nil
	}
	if d.harbour, err = startHarbour(ctx, d, made, sc.Authority); err != nil {
		return Addresses{}, fmt.Errorf("start the other bench: %w", err)
	}
	out.HarbourService, out.HarbourSocket, out.HarbourStandin = d.harbour.at.Service, d.harbour.at.Socket, d.harbour.rig.Socket
	return out, nil
}

func (d *demo) startService(at *service.Addresses) (err error) {
	c, err := spawn(d.cfg.Err, nil, at, "serve", "--supervised", "--development", "--own-usb=false", "--name", benchName, "--safe-key", d.safeKey(),
		"--state", d.cfg.State, "--port", fmt.Sprint(d.ports[0]), "--clock-by", d.clockBy().String(), "--announcements", d.announcements.String())
	if err != nil {
		return fmt.Errorf("start the bench: %w", err)
	}
	d.service = c
	_, port, err := net.SplitHostPort(at.Service[len("http://"):])
	if err != nil {
		return err
	}
	_, err = fmt.Sscan(port, &d.ports[0]) // the same again, should it be started again
	return err
}

// clockBy is by how much the clock of the stand-ins is moved, so that a bench that is started
// again has the same time; 0 while there are no stand-ins.
func (d *demo) clockBy() time.Duration {
	conn, err := net.DialTimeout("unix", state.Socket(d.cfg.State, "standin"), time.Second)
	if err != nil {
		return 0
	}
	c := rpc.New(conn, rpc.NoMethod)
	defer c.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	var now time.Time
	if err := c.Call(ctx, standin.MethodClock, standin.Steer{By: "0s"}, &now); err != nil {
		return 0
	}
	return time.Until(now).Round(time.Second)
}

// tell adds the stand-ins' host, driver set and project to the bench and waits until it
// sees the devices.
func (d *demo) tell(ctx context.Context, rig standin.Addresses, offered []byte) error {
	ctx, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	if err := d.client.AddHost(ctx, client.Host{Name: hostName, USBIP: rig.Hub, Control: rig.Host}); err != nil {
		return fmt.Errorf("tell the bench of its host: %w", err)
	}
	if !d.cfg.Few {
		if err := d.client.AddHost(ctx, client.Host{Name: standin.MachineName, Control: rig.Machine}); err != nil {
			return fmt.Errorf("tell the bench of the virtual machine: %w", err)
		}
	}
	if _, err := d.client.AddDriver(ctx, bytes.NewReader(offered)); err != nil {
		return fmt.Errorf("give the bench the driver set: %w", err)
	}
	if err := d.permit(ctx, "fellgate/callout", "fellgate/muster", "fellgate/rain", "fellgate/words", "fellgate/pulse"); err != nil {
		return err
	}
	if dir, err := appDir("callout"); err == nil {
		if _, err := d.client.AddProject(ctx, dir); err != nil {
			return fmt.Errorf("tell the bench of the app: %w", err)
		}
	}
	if !d.cfg.Few {
		if err := d.giveKit(ctx); err != nil {
			return err
		}
	}
	bodies := bodiesOf(d.cfg)
	if err := d.tellOfTheUnseen(ctx, bodies); err != nil {
		return err
	}
	for {
		devices, err := d.client.Devices(ctx, "")
		if err != nil && ctx.Err() == nil {
			return fmt.Errorf("look at the rack: %w", err)
		}
		settled := 0
		if d.cfg.Unknown { // no sheet describes it, so it is no device, unless somebody wrote one
			if more, err := d.client.Unrecognised(ctx); err == nil {
				settled += min(len(more), 1)
			}
		}
		for _, dev := range devices {
			for _, b := range bodies {
				if b.serial != dev.Serial && (!b.told || b.name != dev.Handle) {
					continue
				}
				url := rig.Hands + "/held/" + b.name
				if dev.HandsURL != url {
					if err := d.client.Set(ctx, dev.Handle, client.Change{HandsURL: &url}); err != nil {
						return fmt.Errorf("tell the bench of a hands page: %w", err)
					}
				}
				if b.told || dev.Summary != "unseen" && (dev.Summary == "ready" || !b.ready) {
					settled++
				}
			}
		}
		if settled == len(bodies) {
			return nil
		}
		select {
		case <-ctx.Done():
			fmt.Fprintln(d.cfg.Err, "Some stand-ins have changed since the first start; see earlybench rack.")
			return nil
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// tellOfTheUnseen adds the devices that no bus shows to the rack.
func (d *demo) tellOfTheUnseen(ctx context.Context, bodies []demoBody) error {
	devices, err := d.client.Devices(ctx, "")
	if err != nil {
		return err
	}
	for _, b := range bodies {
		known := slices.ContainsFunc(devices, func(dev client.Device) bool { return dev.Handle == b.name })
		if b.told && !known {
			if _, err := d.client.AddDevice(ctx, client.NewDevice{Model: b.model, Handle: b.name}); err != nil {
				return fmt.Errorf("put %s on the rack: %w", b.name, err)
			}
			if b.through == "" {
				continue
			}
			if err := d.client.TellFact(ctx, b.name, "companion.of", b.through); err != nil {
				return fmt.Errorf("tell through whom %s is reached: %w", b.name, err)
			}
		}
	}
	return nil
}

// appDir finds an app of the demo below the working directory or beside the program.
func appDir(name string) (string, error) {
	places := []string{"demo/apps/" + name}
	if exe, err := os.Executable(); err == nil {
		places = append(places, filepath.Join(filepath.Dir(exe), "..", "demo", "apps", name))
	}
	for _, p := range places {
		if abs, err := filepath.Abs(p); err == nil {
			if _, err := os.Stat(filepath.Join(abs, ".earlybench.yaml")); err == nil {
				return abs, nil
			}
		}
	}
	return "", os.ErrNotExist
}

func (d *demo) welcome(ctx context.Context) {
	url, err := d.client.SignInAddress(ctx)
	if err != nil {
		return
	}
	command := "bin/earlybench"
	if exe, err := os.Executable(); err == nil && filepath.Base(filepath.Dir(exe)) != "bin" {
		command = exe
	}
	if !d.cfg.Plain {
		command += " --state " + d.cfg.State
	}
	app := "demo/apps/callout"
	if dir, err := appDir("callout"); err == nil {
		if wd, err := os.Getwd(); err == nil {
			if rel, err := filepath.Rel(wd, dir); err == nil && len(rel) < len(dir) {
				app = rel
			}
		}
	}
	fmt.Fprintf(d.cfg.Out, `
Early Bench runs, with stand-in devices on a stand-in hub.

  Console, with an address that signs you in once:
    %s

  Or in another terminal, try:
    %[2]s rack
    %[2]s why heron-2
    %[2]s prep heron-2

  Then: %[2]s run %s heron-2
%[7]s  The device in your hand: %[4]s
  Fellgate's account at the authority (page Keys): rowan, password %[6]s
  Another sign-in: %[2]s console

Ctrl-C stops it. Its state is kept in %[5]s.
`, url, command, app, d.handsURL(ctx), d.cfg.State, crewPassword, d.harbour.welcome(command))
}

func (d *demo) handsURL(ctx context.Context) string {
	devices, err := d.client.Devices(ctx, "")
	if err != nil {
		return ""
	}
	for _, dev := range devices {
		if dev.Handle == "heron-2" {
			return dev.HandsURL
		}
	}
	return ""
}

// supervise waits for ctx to end and restarts the service if it ends earlier; the
// stand-ins keep running.
func (d *demo) supervise(ctx context.Context) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-d.standins.done:
			return fmt.Errorf("the stand-ins stopped unexpectedly: %w", d.standins.err)
		case <-d.harbour.ended():
			fmt.Fprintf(d.cfg.Err, "The other bench stopped (%v); restarting it.\n", d.harbour.service.err)
			if err := d.harbour.start(d); err != nil {
				return err
			}
		case <-d.service.done:
			if ctx.Err() != nil {
				return nil
			}
			fmt.Fprintf(d.cfg.Err, "The bench stopped (%v); restarting it.\n", d.service.err)
			if err := d.startAgain(ctx); err != nil {
				return err
			}
		}
	}
}

// startAgain starts the service, and tries that again with longer and longer pauses until it answers or
// ctx ends: it may be ended again at once, or the disk may be full just now.
func (d *demo) startAgain(ctx context.Context) error {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = 100*time.Millisecond, 10*time.Second
	for {
		var at service.Addresses
		err := d.startService(&at)
		if err == nil {
			fmt.Fprintln(d.cfg.Err, "The bench is running again at "+at.Service+".")
			return nil
		}
		pause := pauses.NextBackOff()
		fmt.Fprintf(d.cfg.Err, "It does not start: %s. Trying again in %s.\n", strings.TrimSuffix(err.Error(), "."), pause.Round(100*time.Millisecond))
		select {
		case <-ctx.Done():
			return nil
		case <-d.standins.done:
			return fmt.Errorf("the stand-ins stopped unexpectedly: %w", d.standins.err)
		case <-time.After(pause):
		}
	}
}

// stop stops both children, the service first.
func (d *demo) stop() {
	if d.board != nil {
		d.board.Close()
	}
	all := []*child{d.service, d.standins, d.depot, d.authority}
	if d.harbour != nil {
		all = append(all, d.harbour.service, d.harbour.standins)
	}
	for _, c := range all {
		if c != nil {
			c.in.Close()
		}
	}
	late := time.After(1500 * time.Millisecond)
	for _, c := range all {
		if c == nil {
			continue
		}
		select {
		case <-c.done:
		case <-late:
			c.cmd.Process.Kill() //nolint:errcheck // it has ended
			<-c.done
		}
	}
}

func writeFile(path string, v any) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := replace.File(path, append(raw, '\n'), 0o600); err != nil {
		return fmt.Errorf("write the addresses: %w", err)
	}
	return nil
}

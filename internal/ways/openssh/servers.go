// Package openssh implements the way to devices that have only an SSH server: any board
// or computer with Linux, including the bench's own. A person gives the address and confirms the device key;
// if the device does not know the bench's key yet, its password is used once to add it.
package openssh

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/shell"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// Config is what the way needs. All fields are needed.
type Config struct {
	Records network.Records
	Rack    network.Rack
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
	Key     ssh.Signer // the bench's
	Bench   func() string
	Clock   clock.Clock
	Log     *slog.Logger
}

// Servers are the SSH servers that were given. It is made by New, and runs from Start to Close.
type Servers struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	mu      sync.Mutex
	servers map[string]*server // by address, as it is on record
	counted int                // ways that were made
	named   int
}

var _ network.Servers = (*Servers)(nil)

// server is an address that was given.
type server struct {
	target
	name    string
	device  string // id of the one on record that has answered there; "" for none
	key     string // that was shown there last
	trouble string // why nobody answers; "" if somebody does
	way     *Way   // nil: none runs
}

// New makes the way. Nothing runs before Start.
func New(cfg Config) *Servers {
	s := &Servers{cfg: cfg, servers: map[string]*server{}}
	s.ctx, s.end = context.WithCancel(context.Background())
	return s
}

// Start reaches the devices whose addresses are on record.
func (s *Servers) Start(ctx context.Context) error {
	all, err := s.cfg.Records.Addresses(ctx)
	if err != nil {
		return fmt.Errorf("read the addresses of devices: %w", err)
	}
	for _, a := range all {
		t, err := parse(a.Address)
		if err != nil { // of a device that has more than an SSH server
			continue
		}
		s.mu.Lock()
		s.servers[a.Address] = &server{target: t, name: s.newName(), device: a.Device}
		s.mu.Unlock()
		if k := s.byID(a.Device); k != nil && !network.Retired(k.Device()) {
			s.reach(k, a.Address)
		}
	}
	s.work.Go(s.lookAgain)
	return nil
}

// lookEvery is how often addresses where nobody was found are tried again.
const lookEvery = 10 * time.Second

func (s *Servers) lookAgain() {
	for {
		var silent []string
		s.mu.Lock()
		for address, v := range s.servers {
			if v.key == "" && v.way == nil {
				silent = append(silent, address)
			}
		}
		s.mu.Unlock()
		for _, address := range silent {
			s.look(s.ctx, address) //nolint:errcheck // the list says what was found
		}
		if clock.Sleep(s.ctx, clock.System{}, lookEvery) != nil {
			return
		}
	}
}

// Close ends everything but the ways, which end with their keepers.
func (s *Servers) Close() {
	s.end()
	s.work.Wait()
}

func (s *Servers) byID(id string) *keeper.Keeper {
	for _, k := range s.cfg.Rack.All() {
		if id != "" && k.Device().ID == id {
			return k
		}
	}
	return nil
}

// newName is a name for a server. The lock is held.
func (s *Servers) newName() string {
	s.named++
	return fmt.Sprintf("server-%d", s.named)
}

// List returns the servers, by name.
func (s *Servers) List() []network.Entry {
	handles := network.Handles(s.cfg.Rack)
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []network.Entry
	for address, v := range s.servers {
		e := network.Entry{Name: v.name, State: network.NotMet, Device: handles[v.device], Family: shell.Family, Addresses: []string{address}, Given: true, Trouble: v.trouble, Login: v.user, Key: v.key}
		switch {
		case e.Device != "":
			e.State = network.Known
		case v.key == "":
			e.State = network.Silent
		}
		out = append(out, e)
	}
	network.Sort(out)
	return out
}

// find finds a server by its name, its address, or the handle of its device.
func (s *Servers) find(name string) (network.Entry, error) {
	all := s.List()
	for _, e := range all {
		if e.Name == name || e.Addresses[0] == name || name != "" && e.Device == name {
			return e, nil
		}
	}
	if t, err := parse(name); err == nil && t.String() != name {
		return s.find(t.String())
	}
	return network.Entry{}, &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("No SSH server is called %.60q.", name), Remedy: "List them: earlybench network. Add one: earlybench network add ssh://USER@ADDRESS."}
}

// Add saves the address of a server, and finds out which key it shows.
func (s *Servers) Add(ctx context.Context, address string) (network.Entry, error) {
	t, err := parse(address)
	if err != nil {
		return network.Entry{}, err
	}
	address = t.String()
	if err := s.cfg.Records.GiveAddress(ctx, address, s.cfg.Clock.Now()); err != nil {
		return network.Entry{}, err
	}
	s.mu.Lock()
	if s.servers[address] == nil {
		s.servers[address] = &server{target: t, name: s.newName()}
	}
	s.mu.Unlock()
	if err := s.look(ctx, address); err != nil {
		return network.Entry{}, err
	}
	return s.find(address)
}

// look finds out which key is shown at an address. A device on record is reached there.
func (s *Servers) look(ctx context.Context, address string) error {
	s.mu.Lock()
	v := s.servers[address]
	s.mu.Unlock()
	if v == nil {
		return nil
	}
	key, err := s.shown(ctx, v.target)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	s.mu.Lock()
	v.key, v.trouble = key, ""
	if err != nil {
		v.trouble = line(trouble(err).Error())
	}
	s.mu.Unlock()
	s.tell()
	if key == "" {
		return nil
	}
	for _, k := range s.cfg.Rack.All() {
		if d := k.Device(); d.Key == key && d.Family == shell.Family && !network.Retired(k.Device()) {
			return s.belongs(ctx, k, address)
		}
	}
	return nil
}

// belongs records that a device has answered at an address, and connects to it there.
func (s *Servers) belongs(ctx context.Context, k *keeper.Keeper, address string) error {
	if err := s.cfg.Records.Answered(ctx, address, k.Device().ID, s.cfg.Clock.Now()); err != nil {
		return err
	}
	s.reach(k, address)
	return nil
}

// reach has a device reached at an address.
func (s *Servers) reach(k *keeper.Keeper, address string) {
	s.mu.Lock()
	v := s.servers[address]
	begins := v != nil && v.way == nil
	if v != nil {
		v.device = k.Device().ID
	}
	if begins {
		s.counted++
		v.way = newWay(s, k, v.target, s.counted)
	}
	s.mu.Unlock()
	if begins {
		k.Reach(v.way)
	}
	s.tell()
}

// left forgets a way that has ended.
func (s *Servers) left(w *Way) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, v := range s.servers {
		if v.way == w {
			v.way = nil
		}
	}
}

// answers records which key is shown at the address of a way.
func (s *Servers) answers(w *Way, key string) {
	s.mu.Lock()
	for _, v := range s.servers {
		if v.way == w {
			v.key, v.trouble = key, ""
		}
	}
	s.mu.Unlock()
	s.tell()
}

// Drop forgets a server, and ends the way to it.
func (s *Servers) Drop(ctx context.Context, name string) error {
	e, err := s.find(name)
	if err != nil {
		return err
	}
	address := e.Addresses[0]
	if err := s.cfg.Records.DropAddress(ctx, address); err != nil {
		return err
	}
	s.mu.Lock()
	v := s.servers[address]
	delete(s.servers, address)
	s.mu.Unlock()
	if v != nil && v.way != nil {
		v.way.stop()
	}
	s.tell()
	return nil
}

// tell tells that the list has changed.
func (s *Servers) tell() {
	if err := s.cfg.Records.Tell(s.ctx, "network.changed", ""); err != nil && s.ctx.Err() == nil {
		s.cfg.Log.Error("tell of SSH servers", "error", err)
	}
}

// shown returns the key that the server at an address proves.
func (s *Servers) shown(ctx context.Context, t target) (key string, err error) {
	session, err := s.dial(ctx, t, "", nil, func(k string) error { key = k; return errLooked })
	if err == nil {
		session.Close()
	}
	if key != "" {
		err = nil
	}
	return key, err
}

// dial logs in. pinned is the device key that is expected, "" for any; accept is called with the one that is
// proven.
func (s *Servers) dial(ctx context.Context, t target, pinned string, more []ssh.AuthMethod, accept func(string) error) (*shell.Session, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, dialWithin, context.DeadlineExceeded)
	defer cancel()
	connect := func(ctx context.Context) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, connectWithin)
		defer cancel()
		return s.cfg.Dial(ctx, "tcp", t.address)
	}
	return shell.Dial(ctx, connect, t.user, pinned, s.cfg.Key, more, accept)
}

// pinnedBy is the device key of a keeper's device, as a check.
func pinnedBy(k *keeper.Keeper) func(string) error { return device.Pinned(k.Device().Key) }

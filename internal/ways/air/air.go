// Package air implements the way without a cable. Devices announce themselves by DNS-SD, or
// their addresses are given; one whose key is pinned is linked by itself, at whatever address
// it answers. Others are introduced (docs/formats/introduction.md).
//
// A name that is announced, or an address, says who may be there. Who is there is decided by
// the device key alone.
package air

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// Config is what the way without a cable needs. All fields but Browse are needed.
type Config struct {
	Records network.Records
	Rack    network.Rack
	// Browse starts to listen for announcements; nil for not at all.
	Browse func(dnssd.BrowserConfig) (*dnssd.Browser, error)
	Dial   func(ctx context.Context, network, address string) (net.Conn, error)
	Key    ssh.Signer // the bench's link key
	Clock  clock.Clock
	Log    *slog.Logger
}

// Air holds the ways without a cable. It is made by New, and runs from Start to Close.
type Air struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup
	news chan struct{} // somebody else may be recognised now

	browser *dnssd.Browser // nil: it does not listen

	mu      sync.Mutex
	heard   map[string]*heard // by name of the announcement
	given   map[string]*given // by address
	last    map[string]string // where devices answered last, by id
	ways    map[string]*Way   // by id of the device
	known   network.Recogniser
	counted int  // ways that were made
	named   int  // of those that were heard
	told    bool // that something has changed, and is to be told
}

// heard is a device that announces itself.
type heard struct {
	dnssd.Found
	name   string // by which people speak of it
	device string // id of the one on record that it is taken for; "" for none
}

// given is an address that a person has given.
type given struct {
	device  string // id of the one that has answered there
	name    string
	key     string // that was shown there
	trouble string // why nobody answers; "" if somebody does
	tried   bool
}

// New makes the ways. Nothing runs before Start.
func New(cfg Config) *Air {
	a := &Air{cfg: cfg, news: make(chan struct{}, 1), heard: map[string]*heard{}, given: map[string]*given{}, last: map[string]string{},
		ways: map[string]*Way{}}
	a.ctx, a.end = context.WithCancel(context.Background())
	return a
}

// Start listens for announcements, and tries the addresses that are known.
func (a *Air) Start(ctx context.Context) error {
	all, err := a.cfg.Records.Addresses(ctx)
	if err != nil {
		return fmt.Errorf("read the addresses of devices: %w", err)
	}
	a.mu.Lock()
	for _, x := range all {
		if checkAddress(x.Address) != nil { // that of an SSH server, which is another way
			continue
		}
		if x.Given {
			a.given[x.Address] = &given{device: x.Device, name: a.newName()}
		} else {
			a.last[x.Device] = x.Address
		}
	}
	a.mu.Unlock()
	if a.cfg.Browse != nil {
		b, err := a.cfg.Browse(dnssd.BrowserConfig{Type: link.ServiceType, Changed: a.appeared, Gone: a.disappeared})
		if err != nil {
			return err
		}
		a.mu.Lock()
		a.browser = b
		a.mu.Unlock()
	}
	a.work.Go(a.recogniseLater)
	a.work.Go(a.tellLater)
	a.work.Go(a.observe)
	a.work.Go(a.probe)
	return nil
}

// Close ends everything but the ways, which end with their keepers.
func (a *Air) Close() error {
	a.end()
	a.mu.Lock()
	b := a.browser
	a.mu.Unlock()
	var err error
	if b != nil {
		err = b.Close()
	}
	a.work.Wait()
	return err
}

// appeared handles an announcement. It reports whether it is from a device on record.
func (a *Air) appeared(f dnssd.Found) bool {
	a.mu.Lock()
	h := a.heard[f.Instance]
	if h == nil {
		h = &heard{name: a.newName()}
		a.heard[f.Instance] = h
	}
	h.Found = f
	k := a.recognise(h)
	a.tell()
	a.mu.Unlock()
	if k != nil {
		a.reach(k, candidate{name: f.Instance, addresses: addresses(f), announced: true})
	}
	return k != nil
}

// addresses are where an announced device is reached, IPv4 first.
func addresses(f dnssd.Found) []string {
	var out []string
	for _, x := range slices.SortedStableFunc(slices.Values(f.Addresses), func(x, y netip.Addr) int { return cmp.Compare(x.BitLen(), y.BitLen()) }) {
		out = append(out, netip.AddrPortFrom(x, f.Port).String())
	}
	return out
}

// disappeared handles a goodbye, or an announcement that was not repeated.
func (a *Air) disappeared(name string) {
	a.mu.Lock()
	h := a.heard[name]
	delete(a.heard, name)
	var w *Way
	if h != nil {
		w = a.ways[h.device]
	}
	a.tell()
	a.mu.Unlock()
	if w != nil {
		w.drop(name)
	}
}

// recognise finds the device on record that sent an announcement; nil for none. The lock is
// held.
func (a *Air) recognise(h *heard) *keeper.Keeper {
	if h.Text[link.TextVersion] != link.AnnouncementVersion {
		return nil
	}
	k := a.known.Recognise(a.cfg.Rack, h.Instance)
	h.device = ""
	if k != nil {
		h.device = k.Device().ID
	}
	return k
}

// Again identifies again what is heard, after keys were pinned or devices forgotten. It does not block.
func (a *Air) Again() {
	select {
	case a.news <- struct{}{}:
	default:
	}
}

// againEvery is the shortest time between two such identifications.
const againEvery = 200 * time.Millisecond

func (a *Air) recogniseLater() {
	seen := ""
	for {
		select {
		case <-a.ctx.Done():
			return
		case <-a.news:
		}
		var keys []string // and nothing else of the rack matters here
		for _, k := range a.cfg.Rack.All() {
			if d := k.Device(); d.Key != "" && !network.Retired(d) {
				keys = append(keys, d.ID+d.Key)
			}
		}
		slices.Sort(keys)
		if now := strings.Join(keys, " "); now != seen {
			seen = now
			a.recogniseAll()
		}
		if clock.Sleep(a.ctx, clock.System{}, againEvery) != nil {
			return
		}
	}
}

func (a *Air) recogniseAll() {
	type met struct {
		k *keeper.Keeper
		c candidate
	}
	var all []met
	a.mu.Lock()
	for _, h := range a.heard {
		if k := a.recognise(h); k != nil {
			all = append(all, met{k, candidate{name: h.Instance, addresses: addresses(h.Found), announced: true}})
		}
	}
	a.tell()
	a.mu.Unlock()
	for _, m := range all {
		a.reach(m.k, m.c)
	}
}

// reach connects to a device at a candidate's address.
func (a *Air) reach(k *keeper.Keeper, c candidate) {
	id := k.Device().ID
	a.mu.Lock()
	w := a.ways[id]
	begins := w == nil
	if begins {
		a.counted++
		w = newWay(a, k, a.counted)
		a.ways[id] = w
	}
	w.add(c) // while nobody can forget it
	a.mu.Unlock()
	if begins {
		k.Reach(w)
	}
}

// forget removes a way that has nowhere to go any more; false if it has got a candidate meanwhile.
func (a *Air) forget(w *Way) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if w.hopeful() && a.ctx.Err() == nil {
		return false
	}
	if a.ways[w.id] == w {
		delete(a.ways, w.id)
	}
	return true
}

// newName is a name for something that was heard. The lock is held.
func (a *Air) newName() string {
	a.named++
	return fmt.Sprintf("heard-%d", a.named)
}

// Changed reports, soon, that the list has changed.
func (a *Air) Changed() {
	a.mu.Lock()
	a.tell()
	a.mu.Unlock()
}

// tell reports, soon, that the list has changed. The lock is held.
func (a *Air) tell() { a.told = true }

// tellEvery is the shortest time between two reports that the list has changed.
const tellEvery = 250 * time.Millisecond

func (a *Air) tellLater() {
	t := time.NewTicker(tellEvery)
	defer t.Stop()
	for {
		select {
		case <-a.ctx.Done():
			return
		case <-t.C:
		}
		a.mu.Lock()
		told := a.told
		a.told = false
		a.mu.Unlock()
		if !told {
			continue
		}
		if err := a.cfg.Records.Tell(a.ctx, "network.changed", ""); err != nil && a.ctx.Err() == nil {
			a.cfg.Log.Error("tell of what is heard on the network", "error", err)
		}
	}
}

// line is a text of a device in one line.
func line(s string) string { return plain.Cut(plain.Line(s), 100) }

package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/backup"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/computer"
	"earlybench.invalid/earlybench/internal/depot"
	"earlybench.invalid/earlybench/internal/endings"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/introduce"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/kitfetch"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/lend"
	"earlybench.invalid/earlybench/internal/library"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/prep"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/reserve"
	"earlybench.invalid/earlybench/internal/retire"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/supply"
	"earlybench.invalid/earlybench/internal/tidy"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/internal/ways/adapter"
	"earlybench.invalid/earlybench/internal/ways/air"
	"earlybench.invalid/earlybench/internal/ways/cable"
	"earlybench.invalid/earlybench/internal/ways/companion"
	"earlybench.invalid/earlybench/internal/ways/openssh"
	"earlybench.invalid/earlybench/internal/ways/remote"
	"earlybench.invalid/earlybench/internal/web"
)

// Insides is a bench without its interfaces: facts, rack, ways and use cases.
type Insides struct {
	Store         *store.Store
	Files         store.Files
	Book          *facts.Book
	Rack          *rack.Rack
	Outlook       *outlook.Outlook
	Cables        *cable.Cables
	Hosts         *bus.Hosts
	Air           *air.Air
	Companions    *companion.Companions
	Introductions *introduce.Introductions
	Servers       *openssh.Servers
	Adapters      *adapter.Adapters
	Peers         *peer.Peers
	Lend          *lend.Lend
	Signing       *signing.Signing
	Reserve       *reserve.Reserve
	Kits          *kits.Kits
	KitFetch      *kitfetch.Fetching
	Jobs          *job.Runner
	Depots        *depot.Depots
	Safe          *safe.Safe
	Authorities   *authority.Authorities
	Belong        *belong.Belong
	Statements    *statements.Statements
	Endings       *endings.Endings
	Supply        *supply.Supply
	Prep          *prep.Prep
	Retire        *retire.Retire
	Tryouts       *tryout.Tryouts
	Tidy          *tidy.Tidy
	Backups       *backup.Backups
	Sheets        *library.Library
	Clock         clock.Clock
	Log           *slog.Logger

	watching sync.WaitGroup
	end      context.CancelFunc
	ready    chan struct{} // closed once all on record was read
	name     atomic.Pointer[string]
	safeKey  string     // file of the unlock key by which the safe is opened at the start
	own      *bus.Local // how the computer's own USB is watched; nil for not at all
}

// Name is the bench's name, as devices show it.
func (in *Insides) Name() string { return *in.name.Load() }

// Rename gives the bench another name.
func (in *Insides) Rename(ctx context.Context, name string) error {
	if err := in.Store.SetSetting(ctx, "bench.name", name); err != nil {
		return fmt.Errorf("keep the bench's name: %w", err)
	}
	in.name.Store(&name)
	return nil
}

// MakeInsides wires a bench's insides. Nothing runs before Start.
func MakeInsides(ctx context.Context, cfg Config, st *store.Store, sheets *library.Library, c clock.Clock, keys state.Keys, name string) (*Insides, error) {
	registry, err := fact.NewRegistry(fact.Builtin()...)
	if err != nil {
		return nil, err
	}
	in := &Insides{Store: st, Files: store.Files{Dir: filepath.Join(cfg.State, "files")}, Sheets: sheets, Clock: c, Log: cfg.Log, own: cfg.USB, safeKey: cfg.SafeKey, end: func() {}, ready: make(chan struct{})}
	shelf := &driver.Shelf{}
	in.name.Store(&name)
	in.Book = facts.New(st, c, registry, cfg.Log)
	if in.Rack, err = rack.New(rack.Config{Store: st, Book: in.Book, Clock: c, Sheets: sheets.Current(), Log: cfg.Log}); err != nil {
		return nil, err
	}
	in.Outlook, err = outlook.New(ctx, outlook.Config{Rack: in.Rack, Book: in.Book, Store: st, Clock: c, Bench: in.Name,
		Fingerprint: ssh.FingerprintSHA256(keys.Link.PublicKey()), Log: cfg.Log, Means: func(k *keeper.Keeper) []string {
			return append(append(in.Supply.Means(k), in.Belong.Means(k)...), "air")
		},
		Allowed: func(k *keeper.Keeper, app string) []fact.Fact { return in.Statements.Facts(k, app) },
		Offered: func(k *keeper.Keeper) *driver.Candidate { return in.Supply.Best(k) }})
	if err != nil {
		return nil, err
	}
	in.Cables = cable.New(cable.Config{Resolve: in.Rack.Resolve, Unrecognised: in.Rack.SetUnrecognised, Drivers: func(host string, d *hostlink.Device) (string, string) { return in.Supply.Drivers(host, d) },
		Open: func(ctx context.Context, host, busID string) (usb.Device, error) {
			return in.Hosts.Open(ctx, host, busID)
		},
		Private: func(host string) bool { return in.Hosts.Private(host) }, Appeared: in.Outlook.Appeared, Key: keys.Link, Clock: c, Log: cfg.Log})
	in.Hosts = bus.New(in.Cables, func(host string) {
		if err := st.Tell(context.Background(), "host.changed", host); err != nil {
			cfg.Log.Error("tell of a change", "host", host, "error", err)
		}
	}, keys.Link, cfg.Log)
	in.Air = air.New(air.Config{Records: st, Rack: in.Rack, Browse: in.browse(cfg.Announcements), Dial: (&net.Dialer{}).DialContext, Key: keys.Link, Clock: c, Log: cfg.Log})
	in.Rack.OnChange(func(*keeper.Keeper) { in.Air.Again() })
	in.Companions = companion.New(companion.Config{Rack: in.Rack, Key: keys.Link, Changed: in.Air.Changed, Clock: c, Log: cfg.Log})
	in.Rack.OnChange(func(*keeper.Keeper) { in.Companions.Again() })
	in.Introductions = introduce.New(introduce.Config{Ways: []introduce.Way{in.Air, in.Companions}, Rack: in.Rack, Bench: in.Name, Changed: in.Air.Changed, Clock: c})
	in.Servers = openssh.New(openssh.Config{Records: st, Rack: in.Rack, Dial: (&net.Dialer{}).DialContext, Key: keys.Link, Bench: in.Name, Clock: c, Log: cfg.Log})
	in.Adapters = adapter.New(adapter.Config{Dir: filepath.Join(cfg.State, "adapters"), Work: filepath.Join(cfg.State, "work"), Present: in.Rack.Presented, AddSheet: in.addSheet, Browse: in.browse(cfg.Announcements), USB: in.ownUSB, Tell: st.Tell, Bench: in.Name, Clock: c, Log: cfg.Log})
	hold := cfg.Hold
	if hold == nil {
		hold = safe.Process(cfg.State)
	}
	in.Safe = safe.New(safe.Config{Start: hold, Store: st, OldKey: filepath.Join(cfg.State, "development.key"), Opened: func() { in.Kits.Again(); in.Belong.Again() }, Clock: c, Log: cfg.Log})
	if err := in.Safe.Read(ctx); err != nil {
		return nil, err
	}
	home := cfg.Home
	if home == "" {
		if home, err = os.UserHomeDir(); err != nil { // then nothing is looked for there
			home = cfg.State
		}
	}
	if in.Kits, err = kits.New(kits.Config{Store: st, Book: in.Book, Developer: in.developer,
		Dir: filepath.Join(cfg.State, "kits"), Home: home, Clock: c, Log: cfg.Log}); err != nil {
		return nil, err
	}
	in.Jobs = job.NewRunner(st, c, store.NewID)
	in.Depots = depot.New(depot.Config{Store: st, Clock: c, Log: cfg.Log, Changed: func() { in.Supply.Again() }})
	in.Supply = supply.New(supply.Config{Store: st, Files: in.Files, Book: in.Book, Rack: in.Rack, Outlook: in.Outlook, Hosts: in.Hosts, Depots: in.Depots, Shelf: shelf,
		Jobs: in.Jobs, Clock: c, Log: cfg.Log, Changed: in.Cables.Again})
	in.Book.OnChange(func(s facts.Subject) {
		if s.Kind == facts.Device {
			if k := in.Rack.ByID(s.ID); k != nil {
				in.Supply.Touch(k)
			}
		}
	})
	in.Prep = &prep.Prep{Store: st, Rack: in.Rack, Outlook: in.Outlook, Jobs: in.Jobs, Bench: in.Name}
	in.Retire = &retire.Retire{Rack: in.Rack, Outlook: in.Outlook, Store: st, Leave: func(ctx context.Context, k *keeper.Keeper) (bool, error) { return in.Belong.LeaveFor(ctx, k) },
		TakeOff: func(ctx context.Context, k *keeper.Keeper) error { return in.Statements.TakeAllOff(ctx, k) }, Clock: c, Log: cfg.Log}
	in.Tryouts = &tryout.Tryouts{Store: st, Files: in.Files, Book: in.Book, Rack: in.Rack, Outlook: in.Outlook, Kits: in.Kits, Jobs: in.Jobs, Safe: in.Safe, Identity: in.identity,
		Covered: func(k *keeper.Keeper, w statement.Start) error { return in.Statements.Covers(k, w) }, Clock: c}
	in.Authorities = authority.New(authority.Config{Store: st, Safe: in.Safe, Clock: c, Log: cfg.Log})
	in.Belong = belong.New(belong.Config{Store: st, Authorities: in.Authorities, Safe: in.Safe, Book: in.Book, Rack: in.Rack, Jobs: in.Jobs, Clock: c, Log: cfg.Log, Changed: in.Kits.Again})
	in.Statements = statements.New(statements.Config{Store: st, Authorities: in.Authorities, Account: in.Belong.Used, Developer: in.Safe.Thumbprint, Identities: in.Belong.Thumbprints, Registered: in.Belong.Serials, Rack: in.Rack, Book: in.Book,
		Outlook: func() *outlook.Outlook { return in.Outlook }, Jobs: in.Jobs, Clock: c, Log: cfg.Log})
	in.Peers = peer.New(peer.Config{Records: st, Service: borrowers{in}, Key: keys.Link, Bench: in.Name, Listen: cfg.Peers, Changed: func() { in.Lend.Touch(); in.Signing.Touch() }, Clock: c, Log: cfg.Log})
	in.Lend = lend.New(lend.Config{Store: st, Peers: in.Peers, Rack: in.Rack, Outlook: in.Outlook, EpochFile: filepath.Join(cfg.State, ".lending-epoch"), Clock: c, Log: cfg.Log,
		Reach: func(k *keeper.Keeper, b *lend.Borrowed) func() {
			return remote.Reach(remote.Config{Key: keys.Link, Clock: c, Log: cfg.Log}, k, b)
		}, TakeUSB: in.takeUSB})
	in.Signing = signing.New(signing.Config{Store: st, Peers: in.Peers, Signer: in.Tryouts.OwnSigner, Public: in.public, Identities: in.Tryouts.Identities, Book: in.Book, Locked: func() bool { return !in.Safe.IsOpen() }, Bench: in.Name, Clock: c, Log: cfg.Log,
		Jobs: in.Jobs, Apps: delivering{in.Tryouts, in}, Visible: in.Lend.Visible, Dir: filepath.Join(cfg.State, "deliveries")})
	in.Tryouts.Far = in.Signing
	in.KitFetch = kitfetch.New(kitfetch.Config{Kits: in.Kits, Peers: in.Peers, Jobs: in.Jobs, Dir: filepath.Join(cfg.State, "kits"), Work: filepath.Join(cfg.State, "kits-coming"), Bench: in.Name, Log: cfg.Log})
	in.Tryouts.FetchKit = in.KitFetch.Need
	in.Rack.OnChange(func(*keeper.Keeper) { in.Lend.Touch() })
	in.Reserve = reserve.New(reserve.Config{Store: st, Rack: in.Rack, Lending: borrowing{in.Lend}, Ready: func(k *keeper.Keeper) bool { return in.Outlook.Glance(k, "").Readiness.First == "" }, Clock: c, Log: cfg.Log})
	in.Rack.OnChange(func(*keeper.Keeper) { in.Reserve.Touch() })
	in.Endings = endings.New(endings.Config{Sources: in.endingSources(), Store: st, Bench: in.Name, Clock: c, Log: cfg.Log})
	in.Tidy = &tidy.Tidy{Store: st, Files: in.Files, Needed: in.Supply.Needed, DropPack: in.Supply.DropPack, Clock: c, Log: cfg.Log}
	in.Backups = &backup.Backups{Store: st, Dir: cfg.State, Bench: in.Name, Program: web.Version, Clock: c, Jobs: in.Jobs}
	in.Jobs.Register(in.Backups.Kinds()...)
	in.Jobs.Register(in.Supply.Kinds()...)
	in.Jobs.Register(in.Statements.Kinds()...)
	in.Jobs.Register(in.Belong.Kinds()...)
	in.Jobs.Register(in.Prep.Kinds()...)
	in.Jobs.Register(in.Tryouts.Kinds()...)
	in.Jobs.Register(in.Signing.Kinds()...)
	in.Jobs.Register(in.KitFetch.Kinds()...)
	if err := errors.Join(in.Depots.Read(ctx), in.Authorities.Read(ctx), in.Belong.Read(ctx), in.Statements.Read(ctx)); err != nil {
		return nil, err
	}
	return in, in.Supply.Read(ctx)
}

// Face makes the web interface of the insides at an address.
func (in *Insides) Face(cfg web.Config, address string) *web.Server {
	cfg.Store, cfg.Files, cfg.Rack, cfg.Outlook, cfg.Hosts, cfg.Jobs = in.Store, in.Files, in.Rack, in.Outlook, in.Hosts, in.Jobs
	cfg.Network, cfg.Companions, cfg.Introductions, cfg.Servers, cfg.Adapters = in.Air, in.Companions, in.Introductions, in.Servers, in.Adapters
	cfg.Peers, cfg.Lend, cfg.Reserve, cfg.Signing, cfg.KitFetch = in.Peers, in.Lend, in.Reserve, in.Signing, in.KitFetch
	cfg.Statements, cfg.Endings, cfg.Tidy, cfg.Backups = in.Statements, in.Endings, in.Tidy, in.Backups
	cfg.Safe, cfg.Authorities, cfg.Belong, cfg.Supply, cfg.Depots, cfg.Kits, cfg.Prep, cfg.Sheets, cfg.Retire, cfg.Tryouts = in.Safe, in.Authorities, in.Belong, in.Supply, in.Depots, in.Kits, in.Prep, in.Sheets, in.Retire, in.Tryouts
	cfg.Computer = &computer.Computer{Rack: in.Rack, Outlook: in.Outlook, Hosts: in.Hosts}
	cfg.Checker = &computer.Checker{Hosts: in.Hosts, Rack: in.Rack, Store: in.Store, Depots: in.Depots, Kits: in.Kits.All, State: filepath.Dir(in.Files.Dir), Now: in.Clock.Now}
	if in.own != nil {
		cfg.Checker.Roots = *in.own
	}
	cfg.Bench, cfg.Rename = in.Name, in.Rename
	cfg.Access, cfg.Clock, cfg.Log, cfg.Ready = &access.Keys{Store: in.Store, Clock: in.Clock}, in.Clock, in.Log, in.ready
	s := web.New(cfg, address)
	in.Reserve.Choose(s.Choose)
	return s
}

// Start reads the records, resumes interrupted jobs and starts watching hosts.
func (in *Insides) Start(ctx context.Context) error {
	if swept, err := in.Files.Sweep(); err != nil {
		in.Log.Warn("remove what killed work has left", "error", err)
	} else if swept > 0 {
		in.Log.Info("removed what killed work has left", "bytes", swept)
	}
	if err := in.Rack.Read(ctx); err != nil {
		return err
	}
	if err := in.Book.Load(ctx); err != nil {
		return fmt.Errorf("read what is known: %w", err)
	}
	if err := in.Kits.Read(ctx); err != nil {
		return err
	}
	if in.safeKey != "" {
		if err := in.Safe.OpenAtStart(ctx, in.safeKey); err != nil {
			return err
		}
		in.Safe.StayOpen()
	}
	cut, err := in.Store.OpenJobs(ctx)
	if err != nil {
		return fmt.Errorf("read the jobs: %w", err)
	}
	in.Jobs.Resume(ctx, cut)
	close(in.ready)
	ctx, in.end = context.WithCancel(ctx)
	in.watching.Go(func() { in.Outlook.Run(ctx) })
	in.watching.Go(func() { in.Kits.Run(ctx) })
	in.watching.Go(func() { in.Safe.Run(ctx) })
	in.watching.Go(func() { in.Belong.Run(ctx) })
	in.watching.Go(func() { in.Statements.Run(ctx) })
	in.watching.Go(func() { in.Endings.Run(ctx) })
	in.watching.Go(func() { in.Retire.Run(ctx) })
	in.watching.Go(func() { in.Tidy.Run(ctx) })
	if err := errors.Join(in.Lend.Read(ctx), in.Reserve.Read(ctx), in.Peers.Start(ctx)); err != nil {
		return err
	}
	in.watching.Go(func() { in.Lend.Run(ctx) })
	in.watching.Go(func() { in.Signing.Run(ctx) })
	in.watching.Go(func() { in.Reserve.Run(ctx) })
	in.watching.Go(func() { in.Depots.Run(ctx) })
	in.watching.Go(func() { in.Supply.Run(ctx) })
	in.watching.Go(func() { in.Sheets.Watch(ctx, in.setSheets) })
	in.watching.Go(func() { in.trim(ctx) })
	in.watching.Go(func() { in.compareClocks(ctx) })
	in.Companions.Start()
	if err := errors.Join(in.Air.Start(ctx), in.Servers.Start(ctx), in.Adapters.Start()); err != nil {
		return err
	}
	known, err := in.Store.Hosts(ctx)
	if err != nil {
		return fmt.Errorf("read the hosts: %w", err)
	}
	in.watchOwn(known)
	for _, h := range known {
		in.Rack.SetShared(h.Name, h.Shared)
		if !h.Own() {
			in.Hosts.Watch(h)
		}
	}
	return nil
}

// browse listens for announcements; nil for not at all. A computer on which that is not possible has
// the other ways all the same.
func (in *Insides) browse(a Announcements) func(dnssd.BrowserConfig) (*dnssd.Browser, error) {
	if a.Off {
		return nil
	}
	return func(cfg dnssd.BrowserConfig) (*dnssd.Browser, error) {
		wire, err := dnssd.Listen(a.Group)
		if err != nil {
			in.Log.Error("announcements on the network are not heard", "error", err)
			return nil, nil
		}
		return dnssd.Browse(wire, cfg), nil
	}
}

// watchOwn watches the USB of the bench's own computer, under the computer's name. known are
// the hosts on record.
func (in *Insides) watchOwn(known []store.Host) {
	if in.own == nil {
		return
	}
	own := store.Host{Name: bus.NameOf(os.Hostname)}
	for _, h := range known {
		switch {
		case h.Name == own.Name && h.Own():
			own.Shared = h.Shared
		case h.Name == own.Name: // somebody gave another host that name
			own.Name += "-own"
		}
	}
	in.Rack.SetShared(own.Name, own.Shared)
	in.Hosts.WatchLocal(own, *in.own)
}

// ownUSB is what is connected to this computer's USB, for adapters.
func (in *Insides) ownUSB() (out []adapter.USBDevice) {
	own, ok := in.Hosts.Own()
	if !ok {
		return nil
	}
	b, _ := in.Hosts.Bus(own.Name)
	for _, d := range b.Devices {
		out = append(out, adapter.USBDevice{BusID: d.BusID, ID: d.USB, Serial: d.Serial, Name: d.Name, Node: d.Node})
	}
	return out
}

// addSheet takes a sheet in, and applies it.
func (in *Insides) addSheet(ctx context.Context, text []byte) error {
	if _, err := in.Sheets.Add(text); err != nil {
		return fmt.Errorf("take the sheet in: %w", err)
	}
	return in.Sheets.Apply(ctx)
}

func (in *Insides) setSheets(ctx context.Context, lib *sheet.Library) error {
	if err := in.Rack.SetSheets(ctx, lib); err != nil {
		return err
	}
	in.Cables.Again(ctx)
	return nil
}

// trimEvery is how often old history is dropped.
const trimEvery = 6 * time.Hour

// trim drops old history regularly until ctx ends.
func (in *Insides) trim(ctx context.Context) {
	for clock.Sleep(ctx, clock.System{}, trimEvery) == nil {
		if err := in.Store.TrimHistory(ctx, in.Clock.Now()); err != nil && ctx.Err() == nil {
			in.Log.Error("drop old history", "error", err)
		}
	}
}

// Close stops everything, dependents first.
func (in *Insides) Close() {
	in.Jobs.Close()
	in.end()
	in.watching.Wait()
	in.Peers.Close()
	in.Signing.Close()
	in.KitFetch.Close()
	in.Hosts.Close()
	in.Cables.Close()
	in.Introductions.Close()
	in.Companions.Close()
	if err := in.Air.Close(); err != nil {
		in.Log.Warn("end listening for announcements", "error", err)
	}
	in.Servers.Close()
	in.Adapters.Close()
	in.Rack.Close()
	if err := in.Kits.Close(); err != nil && !errors.Is(err, context.Canceled) {
		in.Log.Warn("end watching for kits", "error", err)
	}
}

// identity finds a signing identity for the use case that packs apps.
func (in *Insides) identity(ctx context.Context, name string) (*x509.Certificate, string, error) {
	i, err := in.Belong.Identity(ctx, name)
	return i.Leaf, i.Key, err
}

// public is the key of one of the bench's identities, with its certificate, or its development key.
func (in *Insides) public(ctx context.Context, identity string) (developer.Public, *x509.Certificate, error) {
	if identity == "" {
		public := in.Safe.Developer()
		if public.X == "" {
			return public, nil, safe.ErrMissing
		}
		return public, nil, nil
	}
	certificate, _, err := in.identity(ctx, identity)
	if err != nil {
		return developer.Public{}, nil, err
	}
	public, err := developer.PublicOf(certificate.PublicKey)
	if err != nil {
		return public, nil, problem.Errorf(problem.Unsupported, "identity %s cannot sign apps: its key is not a P-256 key", identity)
	}
	return public, certificate, nil
}

// developer is the thumbprint of the key by which apps are signed.
func (in *Insides) developer(ctx context.Context, identity string) string {
	if identity == "" {
		return in.Safe.Thumbprint()
	}
	if _, peer := appfile.SplitIdentity(identity); peer != "" {
		if key, ok := in.Signing.Known(ctx, identity); ok {
			return key.Thumbprint()
		}
		return ""
	}
	if i, err := in.Belong.Identity(ctx, identity); err == nil {
		return i.Thumbprint()
	}
	return ""
}

// Package benchtest starts real things for tests: stand-ins on loopback, a
// store, a rack that watches them. What it starts ends with the test.
package benchtest

import (
	"bytes"
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/cms"
	core "earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/library"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/web"
	"earlybench.invalid/earlybench/sheets"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
	"earlybench.invalid/earlybench/standin/depot"
)

// Patience is how long something that comes by itself may take.
const Patience = 20 * time.Second

// DriverSet is a driver set for Heron 4 that nobody has signed.
func DriverSet(t testing.TB, name string) []byte {
	t.Helper()
	return DriverSetFor(t, name, "f3e0:0104", nil)
}

// DriverSetFor is a driver set for the device link of some ids, signed with a depot's keys, or
// by nobody if they are nil.
func DriverSetFor(t testing.TB, name, ids string, keys *depot.Keys) []byte {
	t.Helper()
	var b bytes.Buffer
	var sign func([]byte) ([]byte, error)
	if keys != nil {
		sign = func(manifest []byte) ([]byte, error) { return cms.Sign(manifest, keys.Signer, keys.Key) }
	}
	root := fstest.MapFS{"link.drv": {Data: bytes.Repeat([]byte(name), 100_000)}}
	require.NoError(t, driver.Pack(&b, driver.Manifest{Name: name, Version: "4.1", Maker: "Halden",
		Fits: []driver.Match{{USB: ids, Class: "ff/00/00", Interface: usb.LinkName}}}, root, []string{"link.drv"}, sign))
	return b.Bytes()
}

// Handset starts one Heron 4, called heron-2, on a stand-in host: brand new, or
// with everything open that is done on the handset.
func Handset(t testing.TB, open bool, drivers ...[]byte) *standin.Rig {
	t.Helper()
	return HandsetOn(t, open, nil, drivers...)
}

// HandsetOn is Handset with a scenario that change may change.
func HandsetOn(t testing.TB, open bool, change func(*standin.Scenario), drivers ...[]byte) *standin.Rig {
	t.Helper()
	sc := standin.Scenario{Dir: t.TempDir(), Host: "loft", Answer: "3s", HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0",
		HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "heron-2", Body: "halden", Model: "H4", Serial: "HH4 0077 3C1E"}}}
	for _, raw := range drivers {
		sc.Sets = append(sc.Sets, standin.Set{File: raw})
	}
	if open {
		sc.Bodies[0].Begin = &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"}}
	}
	if change != nil {
		change(&sc)
	}
	r, err := standin.Start(context.Background(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.Close()) })
	return r
}

// Tablet starts a tablet with release 6.2, called device-1, that has let the bench in, on a
// host that needs no drivers.
func (b *Bench) Tablet() *standin.Rig {
	b.T.Helper()
	begin := body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}, Admits: map[string]string{ssh.FingerprintSHA256(b.Keys.Link.PublicKey()): "moor-desk"}}
	r, err := standin.Start(context.Background(), standin.Scenario{Dir: b.T.TempDir(), Host: "loft", Drivers: true, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0",
		HandsAddress: "127.0.0.1:0", Socket: filepath.Join(b.T.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "device-1", Body: "ostler", Model: "WT", Serial: "OH W 4410", Begin: &begin}}}, slog.New(slog.DiscardHandler))
	require.NoError(b.T, err)
	b.T.Cleanup(func() { require.NoError(b.T, r.Close()) })
	return r
}

// Pack is a support pack of a stand-in depot for a release of ostler.
func Pack(release string, bytes int64) depot.Pack {
	return depot.Pack{Pack: core.Pack{Name: "ostler-support", Version: release + ".1", Maker: "Ostler House", For: core.For{Family: "ostler", Release: release}},
		Bytes: bytes, Licence: &depot.Licence{Name: "Support licence", Text: "You may use it."}}
}

// Depot starts a stand-in depot with support packs; change may change its scenario. It ends
// with the test, or by its end.
func Depot(t testing.TB, change func(*depot.Scenario), packs ...depot.Pack) (address string, end func()) {
	t.Helper()
	dir, err := os.MkdirTemp("", "depot") // a socket's path is short
	require.NoError(t, err)
	sc := depot.Scenario{Dir: dir, Name: "Upland depot", Publisher: "Upland publishing", Address: "127.0.0.1:0", Socket: filepath.Join(dir, "s"), Rate: 1_000_000, Packs: packs}
	if change != nil {
		change(&sc)
	}
	ctx, stop := context.WithCancel(context.Background())
	at := make(chan depot.Addresses, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- depot.Serve(ctx, sc, func(a depot.Addresses) error { at <- a; return nil })
	}()
	var once sync.Once
	end = func() {
		once.Do(func() {
			stop()
			require.NoError(t, <-ended)
		})
	}
	t.Cleanup(func() { end(); require.NoError(t, os.RemoveAll(dir)) })
	select {
	case a := <-at:
		return a.Depot, end
	case err := <-ended:
		require.NoError(t, err)
		return "", end
	}
}

// SetDepot makes a stand-in depot, by its steering socket, what a mode says.
func SetDepot(t testing.TB, socket string, m depot.Mode) {
	t.Helper()
	c, err := net.Dial("unix", socket)
	require.NoError(t, err)
	conn := rpc.New(c, rpc.NoMethod)
	defer conn.Close()
	require.NoError(t, conn.Call(context.Background(), depot.MethodMode, depot.Steer{Mode: m}, nil))
}

// Accept adds a depot to a bench, as its owner does.
func (b *Bench) Accept(address string) {
	b.T.Helper()
	found, err := b.Depots.Look(b.T.Context(), address)
	require.NoError(b.T, err)
	_, err = b.Depots.Add(b.T.Context(), address, "", found.Accept)
	require.NoError(b.T, err)
}

// Steer steers the stand-ins.
func Steer(t testing.TB, r *standin.Rig, method string, p standin.Steer) error {
	t.Helper()
	return steer(t, r, method, p, nil)
}

// Read reads a stand-in's screen.
func Read(t testing.TB, r *standin.Rig, name string) body.Reading {
	t.Helper()
	var reading body.Reading
	require.NoError(t, steer(t, r, standin.MethodScreen, standin.Steer{Body: name}, &reading))
	return reading
}

func steer(t testing.TB, r *standin.Rig, method string, p standin.Steer, result any) error {
	t.Helper()
	return SteerAt(t, r.Addresses().Socket, method, p, result)
}

// SteerAt calls the stand-ins at a socket, and reads the answer unless result is nil.
func SteerAt(t testing.TB, socket, method string, p standin.Steer, result any) error {
	t.Helper()
	c, err := net.Dial("unix", socket)
	require.NoError(t, err)
	conn := rpc.New(c, rpc.NoMethod)
	defer conn.Close()
	return conn.Call(context.Background(), method, p, result)
}

// Touch touches texts on heron-2's screen, each once it is there.
func Touch(t testing.TB, r *standin.Rig, texts ...string) {
	t.Helper()
	for _, s := range texts {
		require.Eventually(t, func() bool {
			return Steer(t, r, standin.MethodTouch, standin.Steer{Body: "heron-2", Text: s}) == nil
		}, Patience, 5*time.Millisecond, "touch %s", s)
	}
}

// Open takes a handset's way in: the row, six times and once more as the link that it
// is then, and the choice beneath it.
func Open(t testing.TB, r *standin.Rig) {
	t.Helper()
	Touch(t, r, "Settings", "Care", "Inside label", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch")
	Touch(t, r, "Computers may", "debug and install", "Let them")
}

// Bench is a bench's insides without its faces.
type Bench struct {
	*service.Insides
	T     testing.TB
	Clock *clock.Moved
	Keys  state.Keys
	AskMe atomic.Bool // uses of the safe wait for the test's consent

	end func()
}

// shipped are the sheets that ship, loaded once for all tests of a package.
var shipped = sync.OnceValues(func() (*sheet.Library, error) { return sheet.Load(sheets.Files) })

// New starts a bench's insides.
func New(t testing.TB) *Bench {
	t.Helper()
	return In(t, t.TempDir())
}

// In starts a bench's insides on what a directory holds.
func In(t testing.TB, dir string) *Bench {
	t.Helper()
	return Hearing(t, dir, service.Announcements{Off: true})
}

// Group is a group for announcements at a port that no other test uses.
func Group(t testing.TB) netip.AddrPort {
	t.Helper()
	c, err := net.ListenUDP("udp4", nil)
	require.NoError(t, err)
	defer c.Close()
	return netip.AddrPortFrom(dnssd.Group.Addr(), uint16(c.LocalAddr().(*net.UDPAddr).Port))
}

// Hearing is In for a bench that hears announcements.
func Hearing(t testing.TB, dir string, announcements service.Announcements) *Bench {
	t.Helper()
	return With(t, dir, func(c *service.Config) { c.Announcements = announcements })
}

// With is In for a bench that is run in another way.
func With(t testing.TB, dir string, change func(*service.Config)) *Bench {
	t.Helper()
	cfg := service.Config{State: dir, Name: "moor-desk", Log: slog.New(slog.DiscardHandler), Hold: holding(dir), SafeKey: filepath.Join(dir, "unlock.key"), Announcements: service.Announcements{Off: true}}
	change(&cfg)
	b := &Bench{T: t, Clock: &clock.Moved{}}
	log := cfg.Log
	seed(t, filepath.Join(dir, "bench.db"))
	st, err := store.Open(context.Background(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	b.Keys, err = state.ReadKeys(dir)
	require.NoError(t, err)
	loaded, err := shipped()
	require.NoError(t, err)
	lib, err := library.Open(context.Background(), library.Config{Shipped: sheets.Files, Loaded: loaded, Dir: filepath.Join(dir, "sheets"), Store: st, Clock: b.Clock, Log: log})
	require.NoError(t, err)
	b.Insides, err = service.MakeInsides(context.Background(), cfg, st, lib, b.Clock, b.Keys, cfg.Name)
	require.NoError(t, err)
	require.NoError(t, b.Start(context.Background()))
	consenting, stop := context.WithCancel(context.Background())
	var consents sync.WaitGroup
	consents.Go(func() { b.consent(consenting) })
	var once sync.Once
	b.end = func() {
		once.Do(func() {
			stop()
			consents.Wait()
			b.Close()
			require.NoError(t, st.Close())
		})
	}
	t.Cleanup(b.end)
	return b
}

// empty is a file of records in which nothing is, made once for all tests of a package: making its tables takes as
// long as some of the tests.
var empty = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "records")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // the system tidies up what is left
	file := filepath.Join(dir, "bench.db")
	st, err := store.Open(context.Background(), file)
	if err != nil {
		return nil, err
	}
	if err := st.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(file)
})

// seed begins a file of records, unless there is one.
func seed(t testing.TB, file string) {
	t.Helper()
	if _, err := os.Stat(file); err == nil {
		return
	}
	raw, err := empty()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, raw, 0o600))
}

// End ends the bench before the test does.
func (b *Bench) End() { b.end() }

// Look is how a device stands.
func (b *Bench) Look(k *keeper.Keeper) outlook.Standing { return b.Outlook.Look(k, "") }

// Said is what somebody says of a device.
func (b *Bench) Said(k *keeper.Keeper) outlook.Said { return outlook.Said{Of: k, By: "ada"} }

// Watch has the bench watch the stand-ins' host, and waits until it has seen
// heron's bus.
func (b *Bench) Watch(r *standin.Rig) *keeper.Keeper {
	b.T.Helper()
	at := r.Addresses()
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: at.Hub, Control: at.Host})
	var k *keeper.Keeper
	b.Eventually("the handset is on the rack", func() bool {
		all := b.Rack.All()
		if len(all) == 1 {
			k = all[0]
			return b.Look(k).Readiness.Summary != "unseen"
		}
		return false
	})
	return k
}

// Eventually waits for something that comes by itself.
func (b *Bench) Eventually(what string, f func() bool) {
	b.T.Helper()
	require.Eventually(b.T, f, Patience, 10*time.Millisecond, what)
}

// First waits until a gate is the first that is not open; "" when none is.
func (b *Bench) First(k *keeper.Keeper, gate string) {
	b.T.Helper()
	b.Eventually("the first gate is "+gate, func() bool { return b.Look(k).Readiness.First == gate })
}

// Ended waits for a job to end.
func (b *Bench) Ended(j job.Job) job.Job {
	b.T.Helper()
	require.Eventually(b.T, func() bool { // an app is compiled on a device, slowly where races are looked for
		var err error
		j, err = b.Store.Job(context.Background(), j.ID)
		return err == nil && j.State.Ended()
	}, 6*Patience, 20*time.Millisecond, "the job ends")
	return j
}

// Ask has a device ask its owner to let the bench in.
func (b *Bench) Ask(ctx context.Context, k *keeper.Keeper) (device.AdmitState, error) {
	return k.Ask(ctx, device.Visitor{Name: "moor-desk"})
}

// Linked waits until a device is linked and this bench admitted.
func (b *Bench) Linked(k *keeper.Keeper) device.Session {
	b.T.Helper()
	b.Eventually("it is linked", func() bool { return k.Session() != nil })
	return k.Session()
}

// Served is a bench's interface on loopback and on a socket.
type Served struct {
	*web.Server
	Base   string // address on loopback
	Socket string
	Client *client.Client // of the owner, over the socket
}

// Serve serves the bench's interface.
func (b *Bench) Serve(change ...func(*web.Config)) *Served {
	b.T.Helper()
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b.T, err)
	dir, err := os.MkdirTemp("", "bench") // a socket's path is short
	require.NoError(b.T, err)
	s := &Served{Base: "http://" + tcp.Addr().String(), Socket: filepath.Join(dir, "s")}
	unix, err := net.Listen("unix", s.Socket)
	require.NoError(b.T, err)
	cfg := web.Config{Key: b.Keys.Link.PublicKey(), ID: "test", Owner: "ada", Console: fstest.MapFS{}}
	for _, c := range change {
		c(&cfg)
	}
	s.Server = b.Face(cfg, tcp.Addr().String())
	s.Serve(tcp)
	s.Serve(unix)
	s.Client = client.New(s.Socket)
	b.T.Cleanup(func() {
		s.Client.Close()
		require.NoError(b.T, s.Close())
		require.NoError(b.T, os.RemoveAll(dir))
	})
	return s
}

// Dialer is an HTTP client over the socket, as the owner's programs have it.
func (s *Served) Dialer() *http.Client {
	return &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", s.Socket)
	}}}
}

// Add gives the bench the file of a driver set.
func (b *Bench) Add(raw []byte) {
	b.T.Helper()
	_, err := b.Supply.Add(b.T.Context(), raw)
	require.NoError(b.T, err)
}

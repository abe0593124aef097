// Package benchtest starts real things for tests: stand-ins on loopback, a
// store, a rack that watches them. What it starts ends with the test.
package benchtest

import (
	"bytes"
	"context"
	"log/slog"
	"net"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/sets"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/host"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/sheets"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// Patience is how long something that comes by itself may take.
const Patience = 20 * time.Second

// DriverSet is a driver set for Heron 4.
func DriverSet(t testing.TB, name string) []byte {
	t.Helper()
	var b bytes.Buffer
	root := fstest.MapFS{"link.drv": {Data: bytes.Repeat([]byte(name), 100_000)}}
	require.NoError(t, sets.Pack(&b, sets.Manifest{Name: name, Version: "4.1", Maker: "Halden",
		Fits: []sets.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}, root, []string{"link.drv"}))
	return b.Bytes()
}

// Handset starts one Heron 4, called heron-2, on a stand-in host: brand new, or
// with everything open that is done on the handset.
func Handset(t testing.TB, open bool, drivers ...[]byte) *standin.Rig {
	t.Helper()
	sc := standin.Scenario{Dir: t.TempDir(), Host: "loft", Answer: "3s", Sets: drivers, HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0",
		HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "heron-2", Body: "halden", Model: "H4", Serial: "HH4 0077 3C1E"}}}
	if open {
		sc.Bodies[0].Begin = &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"}}
	}
	r, err := standin.Start(context.Background(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.Close()) })
	return r
}

// Steer steers the stand-ins.
func Steer(t testing.TB, r *standin.Rig, method string, p standin.Steer) error {
	t.Helper()
	c, err := net.Dial("unix", r.Addresses().Socket)
	require.NoError(t, err)
	conn := rpc.New(c, rpc.NoMethod)
	defer conn.Close()
	return conn.Call(context.Background(), method, p, nil)
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

// Open takes a handset's way in: the row, six times, then the choice.
func Open(t testing.TB, r *standin.Rig) {
	t.Helper()
	Touch(t, r, "Settings", "Care", "Inside label", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch")
	Touch(t, r, "Back", "Back", "Back room", "Computers may", "debug and install", "Let them")
}

// Bench is a bench's insides without its faces.
type Bench struct {
	T     testing.TB
	Store *store.Store
	Files store.Files
	Rack  *keeper.Rack
	Hosts *host.Hosts
	Jobs  *job.Runner
	Clock *clock.Moved
	// Config is what the rack was made with.
	Config keeper.Config
}

// New starts a bench's insides.
func New(t testing.TB) *Bench {
	t.Helper()
	dir := t.TempDir()
	st, err := store.Open(context.Background(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	key, err := state.Key(dir)
	require.NoError(t, err)
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	b := &Bench{T: t, Store: st, Files: store.Files{Dir: filepath.Join(dir, "files")}, Clock: &clock.Moved{}}
	log := slog.New(slog.DiscardHandler)
	b.Config = keeper.Config{Store: st, Clock: b.Clock, Sheets: lib, Key: key, Bench: "moor-desk", Log: log}
	b.Rack, err = keeper.New(context.Background(), b.Config)
	require.NoError(t, err)
	b.Hosts = host.New(b.Rack, log)
	b.Jobs = job.New(st, b.Clock, store.NewID)
	t.Cleanup(func() {
		b.Jobs.Close()
		b.Hosts.Close()
		b.Rack.Close()
		require.NoError(t, st.Close())
	})
	return b
}

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
			return k.Look(context.Background(), "").Readiness.Summary != "unseen"
		}
		return false
	})
	return k
}

// Eventually waits for something that comes by itself.
func (b *Bench) Eventually(what string, f func() bool) {
	b.T.Helper()
	require.Eventually(b.T, f, Patience, 5*time.Millisecond, what)
}

// First waits until a gate is the first that is not open; "" when none is.
func (b *Bench) First(k *keeper.Keeper, gate string) {
	b.T.Helper()
	b.Eventually("the first gate is "+gate, func() bool { return k.Look(context.Background(), "").Readiness.First == gate })
}

// Ended waits for a job to end.
func (b *Bench) Ended(j job.Job) job.Job {
	b.T.Helper()
	b.Eventually("the job ends", func() bool {
		var err error
		j, err = b.Store.Job(context.Background(), j.ID)
		return err == nil && j.State.Ended()
	})
	return j
}

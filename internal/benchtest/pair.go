package benchtest

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// Pair is two benches, of which harbour-desk has a handset that it may lend.
type Pair struct {
	T             testing.TB
	Moor, Harbour *Bench
	Wire          *Wire
	Rig           *standin.Rig
	Dir, MoorDir  string // of harbour-desk and moor-desk
	Heron         *keeper.Keeper
}

// NewPair is one of which moor-desk has rights at harbour-desk.
func NewPair(t testing.TB, rights store.PeerRights) *Pair {
	t.Helper()
	p := &Pair{T: t, Dir: t.TempDir(), MoorDir: t.TempDir()}
	p.StartHarbour()
	sc := standin.Scenario{Dir: t.TempDir(), Host: "quay", Drivers: true, Answer: "10s", HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "heron-9", Body: "halden", Model: "H4", Serial: "HH4 0900 0001", Begin: &body.Beginning{Opened: true,
			Settings: map[string]string{"computers": "debug and install"}, Admits: map[string]string{ssh.FingerprintSHA256(p.Harbour.Keys.Link.PublicKey()): "harbour-desk"}}}}}
	rig, err := standin.Start(context.Background(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rig.Close()) })
	p.Rig = rig
	p.Plug()
	p.Wire = NewWire(t, p.Harbour.Peers.Address())
	i, err := p.Harbour.Peers.Invite(t.Context(), rights, time.Hour, []string{p.Wire.Addr().String()})
	require.NoError(t, err)
	p.Moor = In(t, p.MoorDir)
	_, err = p.Moor.Peers.Add(t.Context(), i, "")
	require.NoError(t, err)
	p.Moor.Eventually("the far rack is seen", func() bool { return len(p.Shown()) == 1 || rights.All == "" && p.Moor.Peers.List()[0].Connected })
	return p
}

// StartHarbour starts harbour-desk, again at the address that it has had.
func (p *Pair) StartHarbour() {
	listen := "127.0.0.1:0"
	if p.Harbour != nil {
		listen = p.Harbour.Peers.Address()
	}
	p.Harbour = With(p.T, p.Dir, func(c *service.Config) { c.Name, c.Peers = "harbour-desk", listen })
}

// Watch has harbour-desk watch the host on which its handset is.
func (p *Pair) Watch() {
	at := p.Rig.Addresses()
	p.Harbour.Hosts.Watch(store.Host{Name: "quay", USBIP: at.Hub, Control: at.Host})
}

// Plug has harbour-desk watch that host, and waits until the handset is linked.
func (p *Pair) Plug() {
	p.Watch()
	p.Harbour.Eventually("the handset is linked", func() bool {
		for _, k := range p.Harbour.Rack.All() {
			p.Heron = k
			return k.Session() != nil
		}
		return false
	})
}

// Shown are the devices that moor-desk sees of harbour-desk's.
func (p *Pair) Shown() []core.Device {
	for _, f := range p.Moor.Lend.Far() {
		if f.Connected {
			return f.Devices
		}
	}
	return nil
}

package host_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/standin/host"
	"earlybench.invalid/earlybench/standin/hub"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// slate is a body with a device link that says nothing.
type slate struct{ changed chan struct{} }

func (slate) Name() string { return "slate" }
func (slate) Descriptor() usb.Descriptor {
	return usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Serial: "1", Interfaces: []usb.Interface{
		{Number: 0, Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}, Name: "Files"}, {Number: 1, Class: usb.Class{Class: 0xff}, Name: usb.LinkName}}}
}
func (s slate) Changed() <-chan struct{} { return s.changed }
func (slate) On() bool                   { return true }
func (slate) Plugged()                   {}
func (slate) Unplugged()                 {}
func (slate) Reset()                     {}
func (slate) ServeLink(ctx context.Context, _ io.ReadWriteCloser) {
	<-ctx.Done()
}

func set(t *testing.T, name, id string) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, driver.Pack(&b, driver.Manifest{Name: name, Version: "1", Fits: []driver.Match{{USB: id, Class: "ff/00/00", Interface: usb.LinkName}}},
		fstest.MapFS{"d": {Data: bytes.Repeat([]byte(name), 60_000)}}, []string{"d"}, nil))
	return b.Bytes()
}

// desk is a host with one body on its hub, and a bench's connection to it.
type desk struct {
	*testing.T
	hub   *hub.Hub
	conn  *rpc.Conn
	buses chan hostlink.Bus
}

func start(t *testing.T, dir string) *desk {
	t.Helper()
	h, err := host.New(host.Config{Address: "127.0.0.1:0", Name: "loft", Dir: dir, Common: []string{"06/01/01"}})
	require.NoError(t, err)
	hb, err := hub.Start(context.Background(), hub.Config{Address: "127.0.0.1:0", Driver: h.Driver})
	require.NoError(t, err)
	hb.Attach(slate{make(chan struct{})})
	require.NoError(t, h.Serve(context.Background(), hb))
	d := &desk{T: t, hub: hb, buses: make(chan hostlink.Bus, 64)}
	c, err := net.Dial("tcp", h.Address())
	require.NoError(t, err)
	d.conn = rpc.New(c, func(_ context.Context, _ *rpc.Conn, _ string, params json.RawMessage) (any, error) {
		b, err := rpc.Decode[hostlink.Bus](params)
		d.buses <- b
		return nil, err
	})
	var once sync.Once
	t.Cleanup(func() { once.Do(func() { d.conn.Close(); h.Close(); hb.Close() }) })
	return d
}

func (d *desk) call(method string, params, result any) error {
	d.Helper()
	return d.conn.Call(d.Context(), method, params, result)
}

// send carries a file to the host in pieces.
func (d *desk) send(raw []byte, digest string) {
	d.Helper()
	var have hostlink.Have
	require.NoError(d, d.call(hostlink.MethodDriverOffer, hostlink.Offer{Digest: digest, Size: int64(len(raw))}, &have))
	for have.Bytes < int64(len(raw)) {
		end := min(have.Bytes+hostlink.PieceBytes, int64(len(raw)))
		require.NoError(d, d.call(hostlink.MethodDriverPiece, hostlink.Piece{Digest: digest, At: have.Bytes, Data: raw[have.Bytes:end]}, &have))
	}
}

func TestAHostTellsOfEveryPluggingInAndItsDrivers(t *testing.T) {
	d := start(t, t.TempDir())
	var hello hostlink.Hello
	require.NoError(t, d.call(hostlink.MethodHello, nil, &hello))
	require.Equal(t, hostlink.Hello{Name: "loft", Version: 1}, hello)
	var bus hostlink.Bus
	require.NoError(t, d.call(hostlink.MethodWatch, nil, &bus))
	require.Empty(t, bus.Devices)
	require.NoError(t, d.hub.Plug("slate"))
	for bus = <-d.buses; len(bus.Devices) == 0; bus = <-d.buses {
	}
	dev := bus.Devices[0]
	require.Equal(t, "hub port 1", dev.Port)
	require.Equal(t, "f3e0:0104", dev.USB)
	require.Equal(t, []string{"system", ""}, []string{dev.Interfaces[0].Driver, dev.Interfaces[1].Driver})

	require.NoError(t, d.hub.Pull("slate", 0))
	for bus = <-d.buses; len(bus.Devices) != 0; bus = <-d.buses {
	}
	require.NoError(t, d.hub.Plug("slate"))
	for bus = <-d.buses; len(bus.Devices) == 0; bus = <-d.buses {
	}
	require.Greater(t, bus.Devices[0].Plugging, dev.Plugging, "another plugging-in")
	require.Equal(t, bus.Devices[0].Run, dev.Run)
}

func TestADriverSetIsInstalledWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	d := start(t, dir)
	require.NoError(t, d.hub.Plug("slate"))
	raw := set(t, "halden-link", "f3e0:0104")
	digest := bundle.Digest(raw)
	ref := hostlink.Ref{Digest: digest}
	bind := hostlink.Bind{BusID: "1-1", Interface: 1}
	require.ErrorContains(t, d.call(hostlink.MethodBind, bind, nil), "no installed driver set fits")
	require.ErrorContains(t, d.call(hostlink.MethodDriverInstall, ref, nil), "is incomplete")
	require.ErrorContains(t, d.call(hostlink.MethodDriverPiece, hostlink.Piece{Digest: digest}, nil), "was not offered")
	require.ErrorContains(t, d.call(hostlink.MethodDriverOffer, hostlink.Offer{Digest: digest, Size: 1 << 40}, nil), "the bound is")

	var have hostlink.Have
	require.NoError(t, d.call(hostlink.MethodDriverOffer, hostlink.Offer{Digest: digest, Size: int64(len(raw))}, &have))
	require.NoError(t, d.call(hostlink.MethodDriverPiece, hostlink.Piece{Digest: digest, Data: raw[:1000]}, &have))
	require.ErrorContains(t, d.call(hostlink.MethodDriverPiece, hostlink.Piece{Digest: digest, At: 5000, Data: raw[5000:6000]}, nil), "1000 bytes of")
	require.NoError(t, d.call(hostlink.MethodDriverOffer, hostlink.Offer{Digest: digest, Size: int64(len(raw))}, &have))
	require.Equal(t, int64(1000), have.Bytes, "it goes on where it was")
	require.ErrorContains(t, d.call(hostlink.MethodDriverInstall, ref, nil), "is incomplete")
	d.send(raw, digest)
	var got hostlink.Driver
	require.NoError(t, d.call(hostlink.MethodDriverInstall, ref, &got))
	require.Equal(t, "halden-link", got.Set.Name)
	var i hostlink.Interface
	require.NoError(t, d.call(hostlink.MethodBind, bind, &i))
	require.Equal(t, "halden-link", i.Driver)
	require.ErrorContains(t, d.call(hostlink.MethodBind, hostlink.Bind{BusID: "1-9"}, nil), "1-9")

	again := start(t, dir)
	var all []hostlink.Driver
	require.NoError(t, again.call(hostlink.MethodDrivers, nil, &all))
	require.Len(t, all, 1, "it is there after a start")
	require.Equal(t, digest, all[0].Digest)
	require.NoError(t, again.call(hostlink.MethodDriverRemove, hostlink.Name{Name: "halden-link"}, nil))
	require.ErrorContains(t, again.call(hostlink.MethodDriverRemove, hostlink.Name{Name: "halden-link"}, nil), "not installed")
}

func TestWhatIsNoDriverSetIsRefused(t *testing.T) {
	d := start(t, t.TempDir())
	junk := bytes.Repeat([]byte("junk"), 1000)
	d.send(junk, bundle.Digest(junk))
	require.ErrorContains(t, d.call(hostlink.MethodDriverInstall, hostlink.Ref{Digest: bundle.Digest(junk)}, nil), "it is not a ZIP file")
	d.send(junk, "another")
	require.ErrorContains(t, d.call(hostlink.MethodDriverInstall, hostlink.Ref{Digest: "another"}, nil), "its digest differs")
	require.Error(t, d.call("dance", nil, nil))
	require.NoError(t, d.hub.Plug("slate"))
	other := set(t, "similar", "f3e0:0103")
	d.send(other, bundle.Digest(other))
	require.NoError(t, d.call(hostlink.MethodDriverInstall, hostlink.Ref{Digest: bundle.Digest(other)}, nil))
	require.Error(t, d.call(hostlink.MethodBind, hostlink.Bind{BusID: "1-1", Interface: 1}, nil), "a set for a similar model fits nothing here")
}

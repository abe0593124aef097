package hub_test

import (
	"context"
	"io"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
	"earlybench.invalid/earlybench/standin/hub"
)

// echo is a body whose device link gives back what it is sent, and which can
// show other interfaces.
type echo struct {
	mu        sync.Mutex
	changed   chan struct{}
	link      bool
	unplugged int
	served    int
	off       bool
}

func (*echo) Name() string { return "heron-2" }

func (e *echo) Descriptor() usb.Descriptor {
	e.mu.Lock()
	defer e.mu.Unlock()
	d := usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Revision: 0x1200, Serial: "1", Maker: "Halden", Product: "Heron 4",
		Interfaces: []usb.Interface{{Class: usb.Class{Class: 6}, Name: "Files", Endpoints: []usb.Endpoint{{Address: 0x81, MaxPacket: 512}}}}}
	if e.link {
		d.Interfaces = append(d.Interfaces, usb.Interface{Number: 1, Class: usb.Class{Class: 0xff}, Name: usb.LinkName,
			Endpoints: []usb.Endpoint{{Address: 0x82, MaxPacket: 512}, {Address: 2, MaxPacket: 512}}})
	}
	return d
}

func (e *echo) Changed() <-chan struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.changed
}

func (e *echo) show(link bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.link = link
	close(e.changed)
	e.changed = make(chan struct{})
}

func (e *echo) On() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return !e.off
}
func (e *echo) Plugged() {}
func (e *echo) Reset()   {}

func (e *echo) Unplugged() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.unplugged++
}

// count is how often it was unplugged, and how often its link was served.
func (e *echo) count() (unplugged, served int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.unplugged, e.served
}

func (e *echo) ServeLink(_ context.Context, pipe io.ReadWriteCloser) {
	e.mu.Lock()
	e.served++
	e.mu.Unlock()
	io.Copy(pipe, pipe)
}

func start(t *testing.T, link, driver bool) (*echo, *hub.Hub) {
	t.Helper()
	e := &echo{changed: make(chan struct{}), link: link}
	h, err := hub.Start(t.Context(), hub.Config{Address: "127.0.0.1:0", Importers: map[string]string{"127.0.0.9": "pit"}, Driver: func(usb.Descriptor, usb.Interface) string {
		return map[bool]string{true: "halden-link"}[driver]
	}})
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	h.Attach(e)
	require.NoError(t, h.Plug("heron-2"))
	return e, h
}

func open(t *testing.T, h *hub.Hub) usb.Device {
	t.Helper()
	dev, err := usbip.TCP(h.Address()).Open(t.Context(), "1-1")
	require.NoError(t, err)
	t.Cleanup(func() { dev.Close() })
	return dev
}

// begin selects the device link's interface, as a bench does.
func begin(t *testing.T, dev usb.Device) {
	t.Helper()
	_, err := dev.Control(t.Context(), usb.Setup{RequestType: 1, Request: usb.ReqSetInterface, Index: 1}, nil)
	require.NoError(t, err)
}

func exchange(t *testing.T, dev usb.Device, text string) string {
	t.Helper()
	out, err := dev.SubmitOut(2, []byte(text))
	require.NoError(t, err)
	_, _, err = out.Wait(t.Context())
	require.NoError(t, err)
	in, err := dev.SubmitIn(0x82, make([]byte, 100))
	require.NoError(t, err)
	data, _, err := in.Wait(t.Context())
	require.NoError(t, err)
	return string(data)
}

func TestABodyThatShowsAnotherInterfaceLeavesTheBusAndComesBack(t *testing.T) {
	e, h := start(t, false, true)
	dev := open(t, h)
	d, err := usb.Describe(t.Context(), dev)
	require.NoError(t, err)
	require.Equal(t, "Heron 4", d.Product)
	_, _, _, ok := d.Link()
	require.False(t, ok)
	before := h.Ports()[0].Plugging
	e.show(true)
	<-dev.Gone()
	require.Eventually(t, func() bool { return h.Ports()[0].Plugging == before+1 }, 5*time.Second, time.Millisecond)
	d, err = usb.Describe(t.Context(), open(t, h))
	require.NoError(t, err)
	_, _, _, ok = d.Link()
	require.True(t, ok)
	unplugged, _ := e.count()
	require.Zero(t, unplugged, "the cable stayed in")
}

func TestTheLinksInterfaceBeginsAnewEachTimeItIsSelected(t *testing.T) {
	e, h := start(t, true, true)
	dev := open(t, h)
	begin(t, dev)
	require.Equal(t, "hello", exchange(t, dev, "hello"))
	out, err := dev.SubmitOut(2, []byte("left over"))
	require.NoError(t, err)
	_, _, err = out.Wait(t.Context())
	require.NoError(t, err)
	begin(t, dev)
	require.Equal(t, "again", exchange(t, dev, "again"), "nothing is left of before")
	_, served := e.count()
	require.Equal(t, 2, served)
}

func TestAnEndpointWithoutADriverOrBeforeItsStreamRefuses(t *testing.T) {
	_, h := start(t, true, false)
	dev := open(t, h)
	begin(t, dev)
	for _, endpoint := range []uint8{2, 1} {
		out, err := dev.SubmitOut(endpoint, []byte("x"))
		require.NoError(t, err)
		_, _, err = out.Wait(t.Context())
		require.ErrorIs(t, err, map[uint8]error{2: usb.ErrAccess, 1: usb.ErrStall}[endpoint])
	}
	_, h = start(t, true, true)
	out, err := open(t, h).SubmitOut(2, []byte("x"))
	require.NoError(t, err)
	_, _, err = out.Wait(t.Context())
	require.ErrorIs(t, err, usb.ErrStall, "the interface was not selected yet")
}

func TestTheCableIsCutAtTheByte(t *testing.T) {
	e, h := start(t, true, true)
	dev := open(t, h)
	begin(t, dev)
	require.NoError(t, h.Pull("heron-2", 10))
	require.Equal(t, "12345", exchange(t, dev, "12345"), "not yet")
	out, err := dev.SubmitOut(2, []byte("1234567"))
	require.NoError(t, err)
	_, _, err = out.Wait(t.Context())
	require.ErrorIs(t, err, usb.ErrGone)
	<-dev.Gone()
	require.False(t, h.Ports()[0].Plugged)
	require.Eventually(t, func() bool { n, _ := e.count(); return n == 1 }, 10*time.Second, time.Millisecond, "the device feels it")
	require.ErrorContains(t, h.Pull("heron-2", 0), "not plugged in")
	require.ErrorContains(t, h.Plug("heron-9"), "heron-2")
	require.NoError(t, h.Plug("heron-2"))
	require.NoError(t, h.Plug("heron-2"), "twice is no harm")
}

package usbip_test

import (
	"bytes"
	"context"
	"encoding/hex"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// echo is a gadget whose one IN endpoint gives back what its OUT endpoint took.
type echo struct {
	usb.Descriptor
	fifo   *usb.Fifo
	access error
}

func (e *echo) Control(s usb.Setup, _ []byte) ([]byte, error) {
	if s.Request != usb.ReqGetDescriptor || s.Value>>8 != usb.DescDevice {
		return nil, usb.ErrStall
	}
	b := e.DeviceBytes()
	return b[:min(len(b), int(s.Length))], nil
}

func (e *echo) In(ctx context.Context, _ uint8, p []byte) (int, error) {
	if e.access != nil {
		return 0, e.access
	}
	n, err := e.fifo.ReadContext(ctx, p)
	if err != nil {
		return n, usb.ErrUnlinked
	}
	return n, nil
}

func (e *echo) Out(ctx context.Context, _ uint8, p []byte) (int, error) {
	if e.access != nil {
		return 0, e.access
	}
	return e.fifo.WriteContext(ctx, p)
}

// one exports one gadget.
type one struct {
	*echo
	ctx context.Context
	mu  sync.Mutex
	has bool
}

func (o *one) List() []usb.Info {
	return []usb.Info{{Path: "/stand-in/heron-2", BusID: "1-1", BusNum: 1, DevNum: 2, Speed: usb.HighSpeed, ID: o.ID, Config: 1, Configs: 1,
		Interfaces: []usb.Class{{Class: 6, Subclass: 1, Protocol: 1}, {Class: 0xff}}}}
}

func (o *one) Claim(id string, _ net.Addr) (context.Context, usbip.Target, func(), error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case id != "1-1":
		return nil, nil, nil, usb.ErrNotFound
	case o.has:
		return nil, nil, nil, usb.ErrBusy
	}
	o.has = true
	return o.ctx, usbip.Emulate(o.echo), func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.has = false
	}, nil
}

// export starts an exporter and returns its address, and what pulls the cable.
func export(t *testing.T, e *echo) (*usbip.Remote, string, context.CancelFunc) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	plugged, pull := context.WithCancel(t.Context())
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); usbip.Serve(ctx, l, &one{echo: e, ctx: plugged}) }()
	t.Cleanup(func() { cancel(); <-done })
	return usbip.TCP(l.Addr().String()), l.Addr().String(), pull
}

func newEcho() *echo {
	return &echo{Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}}, fifo: usb.NewFifo(1 << 20)}
}

func TestDevicesAreListedImportedOnceAndStayListed(t *testing.T) {
	bus, _, _ := export(t, newEcho())
	infos, err := bus.List(t.Context())
	require.NoError(t, err)
	require.Equal(t, (&one{echo: newEcho()}).List(), infos)

	dev, err := bus.Open(t.Context(), "1-1")
	require.NoError(t, err)
	_, err = bus.Open(t.Context(), "1-1")
	require.ErrorIs(t, err, usb.ErrBusy)
	_, err = bus.Open(t.Context(), "1-9")
	require.ErrorIs(t, err, usb.ErrNotFound)
	infos, err = bus.List(t.Context())
	require.NoError(t, err)
	require.Len(t, infos, 1)
	raw, err := dev.Control(t.Context(), usb.Setup{RequestType: 0x80, Request: usb.ReqGetDescriptor, Value: usb.DescDevice << 8, Length: 18}, nil)
	require.NoError(t, err)
	require.Len(t, raw, 18)
	_, err = dev.Control(t.Context(), usb.Setup{RequestType: 0x80, Request: 99}, nil)
	require.ErrorIs(t, err, usb.ErrStall)
	require.NoError(t, dev.Close())
	_, err = dev.SubmitIn(0x81, make([]byte, 1))
	require.ErrorIs(t, err, usb.ErrGone)
}

func TestQueuedTransfersKeepTheirOrderBothWays(t *testing.T) {
	bus, _, _ := export(t, newEcho())
	dev, err := bus.Open(t.Context(), "1-1")
	require.NoError(t, err)
	defer dev.Close()
	var in, out []usb.Transfer
	for range 20 {
		tr, err := dev.SubmitIn(0x81, make([]byte, 64<<10))
		require.NoError(t, err)
		in = append(in, tr)
	}
	var sent, got []byte
	for i := range 20 {
		data := bytes.Repeat([]byte{byte(i)}, 40_000)
		sent = append(sent, data...)
		tr, err := dev.SubmitOut(1, data)
		require.NoError(t, err)
		out = append(out, tr)
	}
	for _, tr := range out {
		_, n, err := tr.Wait(t.Context())
		require.NoError(t, err)
		require.Equal(t, 40_000, n)
	}
	for len(got) < len(sent) {
		data, _, err := in[0].Wait(t.Context())
		require.NoError(t, err)
		got, in = append(got, data...), in[1:]
		tr, err := dev.SubmitIn(0x81, make([]byte, 64<<10))
		require.NoError(t, err)
		in = append(in, tr)
	}
	require.Equal(t, sent, got)
}

func TestATransferThatIsWithdrawnTakesNoDataWithIt(t *testing.T) {
	bus, _, _ := export(t, newEcho())
	dev, err := bus.Open(t.Context(), "1-1")
	require.NoError(t, err)
	defer dev.Close()
	waiting, err := dev.SubmitIn(0x81, make([]byte, 100))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, _, err = waiting.Wait(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	next, err := dev.SubmitIn(0x81, make([]byte, 100))
	require.NoError(t, err)
	_, err = dev.SubmitOut(1, []byte("for the next"))
	require.NoError(t, err)
	data, _, err := next.Wait(t.Context())
	require.NoError(t, err)
	require.Equal(t, "for the next", string(data))
}

func TestWhatEndsATransferIsToldInTheErrorNumbersOfLinux(t *testing.T) {
	for _, want := range []error{usb.ErrAccess, usb.ErrWire, usb.ErrStall} {
		e := newEcho()
		e.access = want
		bus, _, _ := export(t, e)
		dev, err := bus.Open(t.Context(), "1-1")
		require.NoError(t, err)
		tr, err := dev.SubmitOut(1, []byte("x"))
		require.NoError(t, err)
		_, _, err = tr.Wait(t.Context())
		require.ErrorIs(t, err, want)
		require.NoError(t, dev.Close())
	}
}

func TestAPulledCableEndsEveryTransfer(t *testing.T) {
	bus, _, pull := export(t, newEcho())
	dev, err := bus.Open(t.Context(), "1-1")
	require.NoError(t, err)
	defer dev.Close()
	tr, err := dev.SubmitIn(0x81, make([]byte, 100))
	require.NoError(t, err)
	pull()
	_, _, err = tr.Wait(t.Context())
	require.ErrorIs(t, err, usb.ErrGone)
	<-dev.Gone()
}

// The first request of the kernel's documentation, as bytes, and what is wrong.
func TestWhatIsNoUSBIPEndsTheConnection(t *testing.T) {
	_, address, _ := export(t, newEcho())
	for name, hexed := range map[string]string{
		"another version":    "020080050000" + "0000",
		"an unknown code":    "0111999900000000",
		"half a header":      "0111",
		"an unknown device":  "0111800300000000" + hex.EncodeToString(append([]byte("9-9"), make([]byte, 29)...)),
		"a giant transfer":   "0111800300000000" + hex.EncodeToString(append([]byte("1-1"), make([]byte, 29)...)) + "00000001" + "00000001" + "00010002" + "00000000" + "00000001" + "00000000" + "7fffffff" + "000000000000000000000000" + "0000000000000000",
		"an unknown command": "0111800300000000" + hex.EncodeToString(append([]byte("1-1"), make([]byte, 29)...)) + "00000009" + hex.EncodeToString(make([]byte, 44)),
	} {
		t.Run(name, func(t *testing.T) {
			c, err := net.Dial("tcp", address)
			require.NoError(t, err)
			defer c.Close()
			raw, err := hex.DecodeString(hexed)
			require.NoError(t, err)
			c.Write(raw)
			c.(*net.TCPConn).CloseWrite()
			c.SetReadDeadline(time.Now().Add(5 * time.Second))
			var all bytes.Buffer
			_, err = all.ReadFrom(c)
			require.NoError(t, err, "the exporter ends it")
		})
	}
}

func FuzzImporterReads(f *testing.F) {
	f.Add([]byte{0x01, 0x11, 0, 5, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Add(append([]byte{0x01, 0x11, 0, 3, 0, 0, 0, 0}, make([]byte, 400)...))
	f.Fuzz(func(t *testing.T, answer []byte) {
		bus := &usbip.Remote{Dial: func(context.Context) (net.Conn, error) {
			a, b := net.Pipe()
			go func() {
				buf := make([]byte, 512)
				b.Read(buf)
				b.Write(answer)
				b.Close()
			}()
			return a, nil
		}}
		bus.List(t.Context())
		if dev, err := bus.Open(t.Context(), "1-1"); err == nil {
			<-dev.Gone()
			dev.Close()
		}
	})
}

func FuzzExporterReads(f *testing.F) {
	f.Add([]byte{0x01, 0x11, 0x80, 5, 0, 0, 0, 0})
	imported := append([]byte{0x01, 0x11, 0x80, 3, 0, 0, 0, 0, '1', '-', '1'}, make([]byte, 29)...)
	f.Add(imported)
	submit := make([]byte, 48)
	submit[3], submit[7], submit[15], submit[19], submit[27] = 1, 1, 1, 1, 64
	f.Add(append(append([]byte{}, imported...), submit...))
	f.Fuzz(func(t *testing.T, sent []byte) {
		_, address, _ := export(t, newEcho())
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer c.Close()
		c.Write(sent)
		c.(*net.TCPConn).CloseWrite()
		c.SetReadDeadline(time.Now().Add(5 * time.Second))
		var all bytes.Buffer
		_, err = all.ReadFrom(io.LimitReader(c, 1<<20))
		require.NoError(t, err, "the exporter ends it")
	})
}

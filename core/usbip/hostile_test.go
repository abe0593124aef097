package usbip_test

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

// header is the 48 bytes before every transfer, as docs of USB/IP 1.1.1 have it.
func header(command, seq, direction, endpoint uint32, rest ...int32) []byte {
	b := make([]byte, 48)
	for i, v := range []uint32{command, seq, 1<<16 | 2, direction, endpoint} {
		binary.BigEndian.PutUint32(b[4*i:], v)
	}
	for i, v := range rest {
		binary.BigEndian.PutUint32(b[20+4*i:], uint32(v))
	}
	return b
}

// imported imports 1-1 by hand and returns the connection.
func imported(t *testing.T, address string) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	require.NoError(t, c.SetDeadline(time.Now().Add(20*time.Second)))
	_, err = c.Write(append([]byte{1, 0x11, 0x80, 3, 0, 0, 0, 0}, append([]byte("1-1"), make([]byte, 29)...)...))
	require.NoError(t, err)
	_, err = io.ReadFull(c, make([]byte, 320))
	require.NoError(t, err)
	return c
}

func TestUnlinksAreReadBehindAnEndpointThatTakesNothing(t *testing.T) {
	e := newEcho()
	e.fifo = usb.NewFifo(1) // full after one byte
	_, address, _ := export(t, e)
	c := imported(t, address)
	for seq := range uint32(600) {
		_, err := c.Write(append(header(1, seq+1, 0, 2, 0, 2, 0, 0, 0), 'a', 'b'))
		require.NoError(t, err)
	}
	_, err := c.Write(header(2, 1000, 0, 0, 600))
	require.NoError(t, err)
	answer := make([]byte, 48)
	_, err = io.ReadFull(c, answer)
	require.NoError(t, err)
	require.Equal(t, []uint32{4, 1000}, []uint32{binary.BigEndian.Uint32(answer), binary.BigEndian.Uint32(answer[4:])})
	require.Equal(t, int32(-104), int32(binary.BigEndian.Uint32(answer[20:])), "withdrawn: ECONNRESET")
}

func TestAnImporterThatQueuesWithoutEndIsCutOff(t *testing.T) {
	_, address, _ := export(t, newEcho())
	c := imported(t, address)
	go func() {
		for seq := range uint32(10_000) {
			if _, err := c.Write(header(1, seq+1, 1, 1, 0, 64, 0, 0, 0)); err != nil {
				return
			}
		}
	}()
	_, err := io.Copy(io.Discard, c)
	require.NotErrorIs(t, err, context.DeadlineExceeded)
}

// exporter answers an import by hand and hands the connection to f.
func exporter(t *testing.T, f func(c net.Conn)) *usbip.Remote {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		io.ReadFull(c, make([]byte, 40))
		c.Write(append([]byte{1, 0x11, 0, 3, 0, 0, 0, 0}, make([]byte, 312)...))
		f(c)
	}()
	t.Cleanup(func() { l.Close(); <-done })
	return usbip.TCP(l.Addr().String())
}

func TestATransferThatIsUnlinkedIsOverWhateverTheStatus(t *testing.T) {
	bus := exporter(t, func(c net.Conn) {
		submit, unlink := make([]byte, 48), make([]byte, 48)
		io.ReadFull(c, submit)
		io.ReadFull(c, unlink)
		c.Write(header(4, binary.BigEndian.Uint32(unlink[4:]), 0, 0, 0)) // status 0
		io.Copy(io.Discard, c)
	})
	dev, err := bus.Open(t.Context(), "1-1")
	require.NoError(t, err)
	defer dev.Close()
	transfer, err := dev.SubmitIn(0x81, make([]byte, 64))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, _, err = transfer.Wait(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	long, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	_, _, err = transfer.Wait(long)
	require.ErrorIs(t, err, usb.ErrUnlinked, "it is not left waiting for ever")
}

func TestAWaitEndsWithItsContextWhileTheExporterTakesNothing(t *testing.T) {
	release := make(chan struct{})
	bus := exporter(t, func(net.Conn) { <-release }) // reads nothing
	dev, err := bus.Open(t.Context(), "1-1")
	require.NoError(t, err)
	in, err := dev.SubmitIn(0x81, make([]byte, 64))
	require.NoError(t, err)
	full := make(chan struct{})
	go func() { // fills what the wire takes, and is stuck in a write then
		defer close(full)
		for {
			if _, err := dev.SubmitOut(2, make([]byte, 1<<20)); err != nil {
				return
			}
		}
	}()
	time.Sleep(200 * time.Millisecond)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	began := time.Now()
	_, _, err = in.Wait(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.Less(t, time.Since(began), 2*time.Second)
	dev.Close()
	<-full
	close(release)
}

func TestATransferThatIsIsochronousEndsTheImport(t *testing.T) {
	for packets, lasts := range map[int32]bool{0: true, -1: true, 8: false} { // both stand for another kind
		_, address, _ := export(t, newEcho())
		c := imported(t, address)
		_, err := c.Write(append(header(1, 1, 0, 2, 0, 1, 0, packets, 0), 'a'))
		require.NoError(t, err)
		_, err = io.ReadFull(c, make([]byte, 48))
		require.Equal(t, lasts, err == nil, "%d packets: %v", packets, err)
	}
}

// A device that is passed on twice, as that of an exclusive loan, is as it was: several transfers at once, what was
// withdrawn, and empty packets only where they are asked for.
func TestADeviceThatIsPassedOnIsAsItWas(t *testing.T) {
	near, _, pull := export(t, newEcho())
	dev, err := near.Open(t.Context(), "1-1")
	require.NoError(t, err)
	defer dev.Close()
	a, b := net.Pipe()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	served := make(chan error, 1)
	go func() { served <- usbip.ServeConn(ctx, b, &again{dev}) }()
	far, err := usbip.Over(func(context.Context) (io.ReadWriteCloser, error) { return a, nil }).Open(ctx, "1-1")
	require.NoError(t, err)
	var reads []usb.Transfer
	for range 3 {
		r, err := far.SubmitIn(0x81, make([]byte, 4))
		require.NoError(t, err)
		reads = append(reads, r)
	}
	withdrawn, stop := context.WithCancel(ctx)
	stop()
	_, _, err = reads[2].Wait(withdrawn)
	require.ErrorIs(t, err, context.Canceled)
	for _, text := range []string{"rota", "fell"} {
		w, err := far.SubmitBare(2, []byte(text))
		require.NoError(t, err)
		_, n, err := w.Wait(ctx)
		require.NoError(t, err)
		require.Equal(t, 4, n)
	}
	for _, text := range []string{"rota", "fell"} {
		got, _, err := reads[0].Wait(ctx)
		reads = reads[1:]
		require.NoError(t, err)
		require.Equal(t, text, string(got))
	}
	_, err = far.Control(ctx, usb.Setup{RequestType: 0x80, Request: 0x77, Length: 4}, nil)
	require.ErrorIs(t, err, usb.ErrStall)
	pull()
	select {
	case <-far.Gone():
	case <-time.After(10 * time.Second):
		t.Fatal("it is not gone")
	}
	far.Close()
	<-served
}

// again offers an opened device to one importer.
type again struct{ usb.Device }

func (again) List() []usb.Info { return []usb.Info{{BusID: "1-1", Config: 1, Configs: 1}} }

func (a again) Claim(string, net.Addr) (context.Context, usbip.Target, func(), error) {
	ctx, cancel := context.WithCancel(context.Background())
	go func() { <-a.Gone(); cancel() }()
	return ctx, usbip.PassOn(a), cancel, nil
}

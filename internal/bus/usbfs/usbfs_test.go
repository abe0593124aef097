//go:build linux && (amd64 || arm64)

package usbfs

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/core/usb"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// about is a device with the device link on interface 1.
var about = usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Serial: "HH4 0077", MilliAmps: 500, Interfaces: []usb.Interface{
	{Number: 0, Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}, Name: "Album", Endpoints: []usb.Endpoint{{Address: 0x81, MaxPacket: 512}}},
	{Number: 1, Class: usb.Class{Class: 0xff}, Name: usb.LinkName, Endpoints: []usb.Endpoint{{Address: 0x82, MaxPacket: 512}, {Address: 0x02, MaxPacket: 512}}},
}}

// fake is a kernel with one device, whose interface 1 sends back what it is sent.
type fake struct {
	t *testing.T

	mu        sync.Mutex
	done      []*urb
	waiting   []*urb // IN transfers for which nothing has come yet
	echo      []byte
	claimed   []uint32
	released  []uint32
	settings  []setInterface
	flags     []uint32
	busy      bool
	unplugged bool
	resets    int
	module    string  // that has interface 1
	connected []int32 // interfaces that modules were given back
	closed    bool
	can       uint32
	status    int32         // with which bulk transfers end
	ready     chan struct{} // of one
}

func newFake(t *testing.T) *fake {
	return &fake{t: t, ready: make(chan struct{}, 1), can: capZeroPacket}
}

func (f *fake) signal() {
	select {
	case f.ready <- struct{}{}:
	default:
	}
}

func (f *fake) descriptors() ([]byte, error) {
	return append(about.DeviceBytes(), about.ConfigBytes()...), nil
}

func (f *fake) await() error {
	<-f.ready
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.unplugged && len(f.done) == 0 {
		return unix.ENODEV
	}
	return nil
}

func (f *fake) wake() { f.signal() }

func (f *fake) close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	require.False(f.t, f.closed, "it is closed once")
	f.closed = true
	return nil
}

func (f *fake) ioctl(request uintptr, arg unsafe.Pointer) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	require.False(f.t, f.closed, "nothing is asked of a node that was closed")
	switch request {
	case reqGetCapabilities:
		*(*uint32)(arg) = f.can
	case reqDriver:
		b := (*boundDriver)(arg)
		switch {
		case f.busy:
			copy(b.Driver[:], "usbfs")
		case f.module != "":
			copy(b.Driver[:], f.module)
		default:
			return unix.ENODATA
		}
	case reqTakeInterface:
		k := (*takeInterface)(arg)
		require.Equal(f.t, "usbfs", unix.ByteSliceToString(k.Driver[:]))
		require.EqualValues(f.t, takeExcept, k.Flags)
		if f.busy {
			return unix.EBUSY
		}
		f.claimed = append(f.claimed, k.Interface)
	case reqInterface:
		i := (*interfaceRequest)(arg)
		require.EqualValues(f.t, reqConnect, i.Request)
		require.Len(f.t, f.released, 1, "it is free by then")
		f.connected = append(f.connected, i.Interface)
	case reqReleaseIface:
		f.released = append(f.released, *(*uint32)(arg))
	case reqSetInterface:
		f.settings = append(f.settings, *(*setInterface)(arg))
	case reqSubmitURB:
		if f.unplugged {
			return unix.ENODEV
		}
		f.submit((*urb)(arg))
	case reqReset:
		require.Nil(f.t, arg)
		f.resets++
	case reqDiscardURB:
		u := (*urb)(arg)
		i := slices.Index(f.waiting, u)
		if i < 0 {
			return unix.EINVAL
		}
		f.waiting = slices.Delete(f.waiting, i, i+1)
		u.Status = -int32(unix.ENOENT)
		f.complete(u)
	case reqReapURBNoDelay:
		if len(f.done) == 0 {
			if f.unplugged {
				return unix.ENODEV
			}
			return unix.EAGAIN
		}
		*(*uintptr)(arg) = uintptr(unsafe.Pointer(f.done[0]))
		f.done = f.done[1:]
	default:
		return unix.ENOTTY
	}
	return nil
}

func (f *fake) complete(u *urb) {
	f.done = append(f.done, u)
	f.signal()
}

func (f *fake) submit(u *urb) {
	buf := unsafe.Slice((*byte)(u.Buffer), u.BufferLength)
	switch {
	case u.Type == urbControl:
		u.ActualLength, u.Status = f.control(buf)
		f.complete(u)
	case f.status != 0:
		u.Status = f.status
		f.complete(u)
	case u.Endpoint&0x80 == 0:
		f.flags = append(f.flags, u.Flags)
		f.echo = append(f.echo, buf...)
		u.ActualLength = u.BufferLength
		f.complete(u)
		f.answer()
	default:
		f.waiting = append(f.waiting, u)
		f.answer()
	}
}

func (f *fake) answer() {
	for len(f.waiting) > 0 && len(f.echo) > 0 {
		u := f.waiting[0]
		f.waiting = f.waiting[1:]
		n := copy(unsafe.Slice((*byte)(u.Buffer), u.BufferLength), f.echo)
		f.echo = f.echo[n:]
		u.ActualLength = int32(n)
		f.complete(u)
	}
}

// control answers GET_DESCRIPTOR (USB 2.0, 9.4.3).
func (f *fake) control(buf []byte) (n, status int32) {
	if buf[0] != 0x80 || buf[1] != usb.ReqGetDescriptor {
		return 0, -int32(unix.EPIPE)
	}
	var d []byte
	switch buf[3] {
	case usb.DescDevice:
		d = about.DeviceBytes()
	case usb.DescConfig:
		d = about.ConfigBytes()
	case usb.DescString:
		d = about.StringBytes(buf[2])
	}
	if d == nil {
		return 0, -int32(unix.EPIPE)
	}
	return int32(copy(buf[setupBytes:], d)), 0
}

func (f *fake) unplug() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.unplugged = true
	for _, u := range f.waiting {
		u.Status = -int32(unix.ESHUTDOWN)
		f.done = append(f.done, u)
	}
	f.waiting = nil
	f.signal()
}

func opened(t *testing.T, f *fake) *Device {
	t.Helper()
	d, err := newDevice(f)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d
}

func TestADeviceIsDescribedByControlTransfers(t *testing.T) {
	got, err := usb.Describe(t.Context(), opened(t, newFake(t)))
	require.NoError(t, err)
	require.Equal(t, about.Serial, got.Serial)
	require.Equal(t, usb.LinkName, got.Interfaces[1].Name)
	_, in, out, ok := got.Link()
	require.True(t, ok)
	require.Equal(t, []uint8{0x82, 0x02}, []uint8{in, out})
}

func TestBulkTransfersClaimTheirInterfaceOnceAndComeInOrder(t *testing.T) {
	f := newFake(t)
	d := opened(t, f)
	var answers []usb.Transfer
	for range 3 {
		in, err := d.SubmitIn(0x82, make([]byte, 4))
		require.NoError(t, err)
		answers = append(answers, in)
	}
	data := []byte("one two thr")
	out, err := d.SubmitOut(0x02, data)
	require.NoError(t, err)
	copy(data, "overwritten")
	_, n, err := out.Wait(t.Context())
	require.NoError(t, err)
	require.Equal(t, 11, n)
	for i, want := range []string{"one ", "two ", "thr"} {
		got, _, err := answers[i].Wait(t.Context())
		require.NoError(t, err)
		require.Equal(t, want, string(got))
	}
	require.Equal(t, []uint32{1}, f.claimed)
	require.Equal(t, []uint32{flagZeroPacket}, f.flags, "a whole number of packets ends with one of no length")
	require.NoError(t, d.Close())
	require.NoError(t, d.Close(), "twice is once")
	require.Equal(t, []uint32{1}, f.released)
}

func TestTheSettingOfAnInterfaceIsSetByTheKernel(t *testing.T) {
	f := newFake(t)
	_, err := opened(t, f).Control(t.Context(), usb.Setup{RequestType: 1, Request: usb.ReqSetInterface, Index: 1}, nil)
	require.NoError(t, err)
	require.Equal(t, []setInterface{{Interface: 1}}, f.settings)
	require.Equal(t, []uint32{1}, f.claimed)
}

func TestATransferIsWithdrawn(t *testing.T) {
	f := newFake(t)
	d := opened(t, f)
	in, err := d.SubmitIn(0x82, make([]byte, 64))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Millisecond)
	defer cancel()
	_, _, err = in.Wait(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.Eventually(t, func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return len(d.pending) == 0
	}, 5*time.Second, time.Millisecond, "the kernel gives it back")
}

func TestADeviceThatIsUnpluggedEndsEveryTransfer(t *testing.T) {
	f := newFake(t)
	d := opened(t, f)
	in, err := d.SubmitIn(0x82, make([]byte, 64))
	require.NoError(t, err)
	f.unplug()
	_, _, err = in.Wait(t.Context())
	require.ErrorIs(t, err, usb.ErrGone)
	<-d.Gone()
	_, err = d.SubmitIn(0x82, make([]byte, 64))
	require.ErrorIs(t, err, usb.ErrGone)
	_, err = d.Control(t.Context(), usb.Setup{RequestType: 1, Request: usb.ReqSetInterface, Index: 1}, nil)
	require.ErrorIs(t, err, usb.ErrGone)
}

func TestCloseEndsWhatIsPending(t *testing.T) {
	d := opened(t, newFake(t))
	in, err := d.SubmitIn(0x82, make([]byte, 64))
	require.NoError(t, err)
	require.NoError(t, d.Close())
	_, _, err = in.Wait(t.Context())
	require.ErrorIs(t, err, usb.ErrGone)
	_, err = d.SubmitOut(0x02, []byte("x"))
	require.ErrorIs(t, err, usb.ErrGone)
}

func TestTheKernelsErrorsHaveOurNames(t *testing.T) {
	for errno, want := range map[unix.Errno]error{unix.EPIPE: usb.ErrStall, unix.EPROTO: usb.ErrWire, unix.EILSEQ: usb.ErrWire,
		unix.ETIME: usb.ErrWire, unix.EOVERFLOW: usb.ErrWire, unix.ENODEV: usb.ErrGone, unix.ECONNRESET: usb.ErrUnlinked} {
		f := newFake(t)
		f.status = -int32(errno)
		out, err := opened(t, f).SubmitOut(0x02, []byte("x"))
		require.NoError(t, err)
		_, _, err = out.Wait(t.Context())
		require.ErrorIs(t, err, want, errno.Error())
	}
	f := newFake(t)
	f.busy = true
	d := opened(t, f)
	_, err := d.SubmitOut(0x02, []byte("x"))
	require.ErrorIs(t, err, usb.ErrBusy, "another program has the interface")
	_, err = d.SubmitOut(0x05, []byte("x"))
	require.ErrorContains(t, err, "no bulk endpoint 0x05")
}

func TestANodeThatIsMissingOrClosedToUsIsSaid(t *testing.T) {
	path := filepath.Join(t.TempDir(), "001")
	_, err := Open(t.Context(), path)
	require.ErrorIs(t, err, usb.ErrNotFound)
	require.ErrorIs(t, fromErrno(unix.EACCES), usb.ErrAccess)
	require.NoError(t, os.WriteFile(path, []byte("no descriptors"), 0o600))
	_, err = Open(t.Context(), path)
	require.ErrorContains(t, err, "malformed descriptor")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Open(ctx, path)
	require.True(t, errors.Is(err, context.Canceled))
}

func TestAPortIsResetByTheKernel(t *testing.T) {
	k := newFake(t)
	d, err := newDevice(k)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, usb.Reset(t.Context(), d))
	require.Equal(t, 1, k.resets)
	require.Empty(t, k.waiting, "it is no transfer")
}

func TestAnInterfaceIsTakenFromAModuleAndGivenBack(t *testing.T) {
	for _, module := range []string{"", "option"} {
		k := newFake(t)
		k.module = module
		d, err := newDevice(k)
		require.NoError(t, err)
		_, err = d.Control(t.Context(), usb.Setup{RequestType: 0x01, Request: usb.ReqSetInterface, Index: 1}, nil)
		require.NoError(t, err)
		require.NoError(t, d.Close())
		require.Equal(t, []uint32{1}, k.claimed)
		require.Equal(t, module != "", len(k.connected) == 1)
	}
}

//go:build linux && (amd64 || arm64)

// Package usbfs talks to a USB device of this computer through its node below /dev/bus/usb, by
// the kernel's usbfs (linux/usbdevice_fs.h), without cgo. Every transfer, control transfers
// too, is submitted and reaped later, so that each can be withdrawn at any time.
package usbfs

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/core/usb"
)

// Device is an opened device. It implements [usb.Device].
type Device struct {
	k        kernel
	byEnd    map[uint8]uint8 // interfaces, by the addresses of their endpoints
	zeroes   bool            // the controller's driver sends packets of no length by itself
	gone     chan struct{}
	reaping  sync.WaitGroup
	closing  sync.Once
	claiming sync.Mutex // taken before mu
	claimed  map[uint8]bool
	modules  map[uint8]bool // interfaces that a module of the kernel had, and gets back

	mu      sync.Mutex
	pending map[uintptr]*transfer // by the addresses of their URBs
	ended   bool
}

// Open opens a device by its node. It is [usb.ErrAccess] where this program may not, and
// [usb.ErrNotFound] where there is none.
func Open(ctx context.Context, path string) (*Device, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	n, err := openNode(path)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, fromErrno(err))
	}
	d, err := newDevice(n)
	if err != nil {
		n.close() //nolint:errcheck // nothing was written
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	return d, nil
}

func newDevice(k kernel) (*Device, error) {
	raw, err := k.descriptors()
	if err != nil {
		return nil, fmt.Errorf("read the descriptors: %w", fromErrno(err))
	}
	about, err := usb.ParseFile(raw, 0)
	if err != nil {
		return nil, err
	}
	d := &Device{k: k, byEnd: map[uint8]uint8{}, gone: make(chan struct{}), claimed: map[uint8]bool{}, modules: map[uint8]bool{}, pending: map[uintptr]*transfer{}}
	for _, i := range about.Interfaces {
		for _, e := range i.Endpoints {
			d.byEnd[e.Address] = i.Number
		}
	}
	var can uint32
	if err := k.ioctl(reqGetCapabilities, unsafe.Pointer(&can)); err == nil {
		d.zeroes = can&capZeroPacket != 0
	}
	d.reaping.Go(d.reap)
	return d, nil
}

// fromErrno makes of the kernel's errors those of [usb].
func fromErrno(err error) error {
	switch {
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		return errors.Join(usb.ErrAccess, err)
	case errors.Is(err, unix.ENODEV), errors.Is(err, unix.ESHUTDOWN):
		return usb.ErrGone
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, unix.ENXIO):
		return usb.ErrNotFound
	case errors.Is(err, unix.EPIPE):
		return usb.ErrStall
	case errors.Is(err, unix.EBUSY):
		return usb.ErrBusy
	case errors.Is(err, unix.ECONNRESET):
		return usb.ErrUnlinked
	case errors.Is(err, unix.EPROTO), errors.Is(err, unix.EILSEQ), errors.Is(err, unix.ETIME), errors.Is(err, unix.EOVERFLOW):
		return fmt.Errorf("%w: %w", usb.ErrWire, err)
	}
	return err
}

// Gone is closed when the device was unplugged or closed.
func (d *Device) Gone() <-chan struct{} { return d.gone }

// Close gives back the interfaces and withdraws every transfer. The kernel withdraws what is
// pending when the node is closed, and no memory of it is touched after that.
func (d *Device) Close() (err error) {
	d.closing.Do(func() {
		d.end()
		d.k.wake()
		d.reaping.Wait()
		d.claiming.Lock()
		defer d.claiming.Unlock()
		for i := range d.claimed {
			number := uint32(i)
			d.k.ioctl(reqReleaseIface, unsafe.Pointer(&number)) //nolint:errcheck // closing releases it too
			if d.modules[i] {
				connect := interfaceRequest{Interface: int32(i), Request: reqConnect}
				d.k.ioctl(reqInterface, unsafe.Pointer(&connect)) //nolint:errcheck // it may have gone meanwhile
			}
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		err = d.k.close()
		d.giveUp()
	})
	return err
}

// giveUp completes every pending transfer with ErrGone. The lock is held, and the kernel
// has none of them any more.
func (d *Device) giveUp() {
	for at, t := range d.pending {
		delete(d.pending, at)
		t.complete(nil, 0, usb.ErrGone)
	}
}

// end refuses further transfers. What is done under a lock after it has found that the
// device has not ended, is done before the node is closed.
func (d *Device) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.ended {
		d.ended = true
		close(d.gone)
	}
}

// reap completes transfers until the device has gone or is closed.
func (d *Device) reap() {
	for {
		err := d.k.await()
		for {
			var at uintptr
			if reaped := d.k.ioctl(reqReapURBNoDelay, unsafe.Pointer(&at)); reaped != nil {
				if errors.Is(reaped, unix.ENODEV) {
					err = reaped
				}
				break
			}
			d.mu.Lock()
			t := d.pending[at]
			delete(d.pending, at)
			d.mu.Unlock()
			if t != nil {
				t.reaped()
			}
		}
		if err != nil {
			d.end()
		}
		d.mu.Lock()
		ended := d.ended
		if ended && err != nil { // it was unplugged: the kernel has given back all that it had
			d.giveUp()
		}
		d.mu.Unlock()
		if ended {
			return
		}
	}
}

// userDriver is the kernel's name for programs that have an interface by this package's way.
const userDriver = "usbfs"

// take takes an interface from a module of the kernel, if one has it, which gets it back when
// the device is closed; but not from another program.
func (d *Device) take(number uint8) error {
	bound := boundDriver{Interface: uint32(number)}
	if d.k.ioctl(reqDriver, unsafe.Pointer(&bound)) == nil && unix.ByteSliceToString(bound.Driver[:]) != userDriver {
		d.modules[number] = true
	}
	t := takeInterface{Interface: uint32(number), Flags: takeExcept}
	copy(t.Driver[:], userDriver)
	return d.k.ioctl(reqTakeInterface, unsafe.Pointer(&t))
}

// claim takes an interface, which the kernel gives to one program at a time, and then calls
// then, which may be nil.
func (d *Device) claim(number uint8, then func() error) error {
	d.claiming.Lock()
	defer d.claiming.Unlock()
	select {
	case <-d.gone:
		return usb.ErrGone
	default:
	}
	if !d.claimed[number] {
		if err := d.take(number); err != nil {
			return fmt.Errorf("claim interface %d: %w", number, fromErrno(err))
		}
		d.claimed[number] = true
	}
	if then == nil {
		return nil
	}
	return then()
}

// Control carries out a control transfer. The kernel keeps account of an interface's setting
// and of the port, so that requests to set or reset them go another way.
func (d *Device) Control(ctx context.Context, s usb.Setup, data []byte) ([]byte, error) {
	if s == usb.ResetPort {
		return nil, fromErrno(d.k.ioctl(reqReset, nil))
	}
	if s.RequestType == 0x01 && s.Request == usb.ReqSetInterface {
		return nil, d.claim(uint8(s.Index), func() error {
			set := setInterface{uint32(s.Index), uint32(s.Value)}
			return fromErrno(d.k.ioctl(reqSetInterface, unsafe.Pointer(&set)))
		})
	}
	length := int(s.Length)
	if !s.In() {
		length = len(data)
	}
	buf := make([]byte, setupBytes+length)
	buf[0], buf[1] = s.RequestType, s.Request
	le := binary.LittleEndian
	le.PutUint16(buf[2:], s.Value)
	le.PutUint16(buf[4:], s.Index)
	le.PutUint16(buf[6:], uint16(length))
	if !s.In() {
		copy(buf[setupBytes:], data)
	}
	t, err := d.submit(urb{Type: urbControl}, buf, setupBytes, s.In())
	if err != nil {
		return nil, err
	}
	got, _, err := t.Wait(ctx)
	return got, err
}

// setupBytes is the length of a setup packet (USB 2.0, table 9-2).
const setupBytes = 8

// SubmitIn asks a bulk IN endpoint for as many bytes as fit into p.
func (d *Device) SubmitIn(endpoint uint8, p []byte) (usb.Transfer, error) {
	return d.bulk(urb{Endpoint: endpoint | 0x80}, p, true)
}

// SubmitOut sends data to a bulk OUT endpoint.
func (d *Device) SubmitOut(endpoint uint8, data []byte) (usb.Transfer, error) {
	u := urb{Endpoint: endpoint & 0x7f}
	if d.zeroes && len(data) > 0 {
		u.Flags = flagZeroPacket
	}
	return d.bulk(u, append([]byte(nil), data...), false)
}

// SubmitBare sends data to a bulk OUT endpoint, without an empty packet after it.
func (d *Device) SubmitBare(endpoint uint8, data []byte) (usb.Transfer, error) {
	return d.bulk(urb{Endpoint: endpoint & 0x7f}, append([]byte(nil), data...), false)
}

func (d *Device) bulk(u urb, buf []byte, in bool) (usb.Transfer, error) {
	number, known := d.byEnd[u.Endpoint]
	if !known {
		return nil, fmt.Errorf("%w: there is no bulk endpoint %#02x", usb.ErrStall, u.Endpoint)
	}
	if err := d.claim(number, nil); err != nil {
		return nil, err
	}
	u.Type = urbBulk
	return d.submit(u, buf, 0, in)
}

// transfer is a submitted transfer.
type transfer struct {
	d    *Device
	urb  urb
	buf  []byte
	from int  // where the data begins in buf
	in   bool // the data comes from the device
	pin  runtime.Pinner

	done chan struct{}
	data []byte
	n    int
	err  error
}

func (d *Device) submit(u urb, buf []byte, from int, in bool) (*transfer, error) {
	t := &transfer{d: d, urb: u, buf: buf, from: from, in: in, done: make(chan struct{})}
	t.urb.BufferLength = int32(len(buf))
	t.pin.Pin(&t.urb)
	if len(buf) > 0 {
		t.urb.Buffer = unsafe.Pointer(&buf[0])
		t.pin.Pin(&buf[0])
	}
	at := uintptr(unsafe.Pointer(&t.urb))
	d.mu.Lock()
	if d.ended {
		d.mu.Unlock()
		t.pin.Unpin()
		return nil, usb.ErrGone
	}
	d.pending[at] = t
	err := d.k.ioctl(reqSubmitURB, unsafe.Pointer(&t.urb))
	if err != nil {
		delete(d.pending, at)
	}
	d.mu.Unlock()
	if err != nil {
		t.pin.Unpin()
		return nil, fmt.Errorf("submit a transfer: %w", fromErrno(err))
	}
	return t, nil
}

// reaped completes a transfer as the kernel has left it.
func (t *transfer) reaped() {
	n := min(max(int(t.urb.ActualLength), 0), len(t.buf)-t.from)
	var err error
	if t.urb.Status != 0 {
		errno := unix.Errno(-t.urb.Status)
		if err = fromErrno(errno); errno == unix.ENOENT { // discarded
			err = usb.ErrUnlinked
		}
	}
	var data []byte
	if t.in {
		data = t.buf[t.from : t.from+n]
	}
	t.complete(data, n, err)
}

func (t *transfer) complete(data []byte, n int, err error) {
	t.data, t.n, t.err = data, n, err
	t.pin.Unpin()
	close(t.done)
}

// Wait waits until the transfer has completed; if ctx ends first, it is withdrawn.
func (t *transfer) Wait(ctx context.Context) ([]byte, int, error) {
	select {
	case <-t.done:
		return t.data, t.n, t.err
	case <-ctx.Done():
	}
	t.d.mu.Lock()
	if t.d.pending[uintptr(unsafe.Pointer(&t.urb))] == t {
		t.d.k.ioctl(reqDiscardURB, unsafe.Pointer(&t.urb)) //nolint:errcheck // it may have completed
	}
	t.d.mu.Unlock()
	return nil, 0, ctx.Err()
}

package usbip

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/usb"
)

const (
	opTimeout   = 10 * time.Second // bounds an operation's exchange
	writeWithin = 30 * time.Second // bounds the writing of one transfer
)

// Remote is a [usb.Bus] behind an exporter.
type Remote struct {
	Dial func(ctx context.Context) (net.Conn, error)
}

// TCP makes the bus of the exporter at address.
func TCP(address string) *Remote {
	return &Remote{Dial: func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", address)
	}}
}

// TCPFrom is TCP from an address of this computer, by which an exporter may know the importer.
func TCPFrom(address string, local net.IP) *Remote {
	return &Remote{Dial: func(ctx context.Context) (net.Conn, error) {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: local}}
		return d.DialContext(ctx, "tcp", address)
	}}
}

// List asks the exporter for its devices.
func (b *Remote) List(ctx context.Context) ([]usb.Info, error) {
	c, err := b.Dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("reach the exporter: %w", err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(opTimeout)) //nolint:errcheck // a failed write tells
	if err := writeOp(c, opListRequest, 0); err != nil {
		return nil, fmt.Errorf("ask for the devices: %w", err)
	}
	infos, err := readList(bufio.NewReader(c))
	if err != nil {
		return nil, fmt.Errorf("read the list of devices: %w", err)
	}
	return infos, nil
}

func readList(r io.Reader) ([]usb.Info, error) {
	if status, err := readOp(r, opListReply); err != nil || status != statusOK {
		return nil, errors.Join(err, statusErr(status))
	}
	var count uint32
	if err := binary.Read(r, binary.BigEndian, &count); err != nil {
		return nil, err
	}
	if count > maxDevices {
		return nil, fmt.Errorf("%w: a list of %d devices", ErrProtocol, count)
	}
	infos := make([]usb.Info, count)
	for i := range infos {
		var w wireDevice
		if err := binary.Read(r, binary.BigEndian, &w); err != nil {
			return nil, err
		}
		if w.Interfaces > maxInterfaces {
			return nil, fmt.Errorf("%w: a device of %d interfaces", ErrProtocol, w.Interfaces)
		}
		infos[i] = w.info()
		for range w.Interfaces {
			var c [4]uint8
			if err := binary.Read(r, binary.BigEndian, &c); err != nil {
				return nil, err
			}
			infos[i].Interfaces = append(infos[i].Interfaces, usb.Class{Class: c[0], Subclass: c[1], Protocol: c[2]})
		}
	}
	return infos, nil
}

func statusErr(status uint32) error {
	switch status {
	case statusOK:
		return nil
	case statusBusy:
		return usb.ErrBusy
	case statusNotFound:
		return usb.ErrNotFound
	}
	return fmt.Errorf("the exporter answered with status %d", status)
}

// Open imports a device.
func (b *Remote) Open(ctx context.Context, busID string) (usb.Device, error) {
	c, err := b.Dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("reach the exporter: %w", err)
	}
	d, err := open(c, busID)
	if err != nil {
		c.Close()
		return nil, fmt.Errorf("import %s: %w", busID, err)
	}
	return d, nil
}

func open(c net.Conn, busID string) (*device, error) {
	var id [32]byte
	if len(busID) >= len(id) {
		return nil, usb.ErrNotFound
	}
	fixed(id[:], busID)
	c.SetDeadline(time.Now().Add(opTimeout)) //nolint:errcheck // a failed write tells
	if err := writeOp(c, opImportRequest, 0, id); err != nil {
		return nil, err
	}
	// A buffer for headers: the data of a transfer is read into the transfer's own.
	r := bufio.NewReaderSize(c, 4<<10)
	if status, err := readOp(r, opImportReply); err != nil || status != statusOK {
		return nil, errors.Join(err, statusErr(status))
	}
	var w wireDevice
	if err := binary.Read(r, binary.BigEndian, &w); err != nil {
		return nil, err
	}
	c.SetDeadline(time.Time{}) //nolint:errcheck // as above
	d := &device{conn: c, devID: w.BusNum<<16 | w.DevNum, gone: make(chan struct{}), read: make(chan struct{}), pending: map[uint32]*transfer{}, unlinks: map[uint32]uint32{}}
	go d.run(r)
	return d, nil
}

// device is an imported device.
type device struct {
	conn  net.Conn
	devID uint32
	gone  chan struct{}
	read  chan struct{} // closed when the reader has returned

	writing sync.Mutex // taken before mu

	withdrawing sync.WaitGroup // what withdraws transfers

	mu      sync.Mutex
	seq     uint32
	pending map[uint32]*transfer
	unlinks map[uint32]uint32 // an unlink's seq to the transfer's
	unwrite []uint32          // transfers that are withdrawn, whose unlinks were not written yet
	closed  bool
}

// transfer is a submitted transfer.
type transfer struct {
	d    *device
	urb  urb
	done chan struct{}
	buf  []byte // takes what is received
	data []byte
	n    int
	err  error
}

func (d *device) Gone() <-chan struct{} { return d.gone }

func (d *device) Close() error {
	d.end()
	<-d.read
	d.withdrawing.Wait()
	return nil
}

// end completes every pending transfer with ErrGone; no further ones are started.
func (d *device) end() {
	d.mu.Lock()
	if d.closed {
		d.mu.Unlock()
		return
	}
	d.closed = true
	pending := d.pending
	d.pending = nil
	d.mu.Unlock()
	close(d.gone)
	d.conn.Close()
	for _, t := range pending {
		t.err = usb.ErrGone
		close(t.done)
	}
}

func (d *device) run(r io.Reader) {
	defer close(d.read)
	defer d.end()
	for {
		var u urb
		if u.read(r) != nil {
			return
		}
		d.mu.Lock()
		if u.Command == retUnlink {
			// Unlinked, or completed before (status 0): there is no other reply.
			target := d.unlinks[u.Seq]
			t := d.pending[target]
			delete(d.pending, target)
			delete(d.unlinks, u.Seq)
			d.mu.Unlock()
			if t != nil {
				t.err = usb.ErrUnlinked
				close(t.done)
			}
			continue
		}
		t := d.pending[u.Seq]
		delete(d.pending, u.Seq)
		d.mu.Unlock()
		// After a reply to an unknown transfer the stream cannot be read any further,
		// and a reply with more data than was asked for is not USB/IP.
		if u.Command != retSubmit || t == nil || u.B < 0 || u.B > t.urb.B {
			if t != nil {
				t.err = ErrProtocol
				close(t.done)
			}
			return
		}
		t.n, t.err = int(u.B), fromErrno(u.A)
		if t.urb.Dir == dirIn && u.B > 0 {
			t.data = t.buf[:u.B]
			if _, err := io.ReadFull(r, t.data); err != nil {
				t.err = usb.ErrGone
				close(t.done)
				return
			}
		}
		close(t.done)
	}
}

// submit sends data, or receives into buf.
func (d *device) submit(u urb, data, buf []byte) (*transfer, error) {
	t := &transfer{d: d, buf: buf, done: make(chan struct{})}
	d.writing.Lock()
	defer d.writing.Unlock()
	d.unlink()
	d.mu.Lock()
	if d.closed {
		d.mu.Unlock()
		return nil, usb.ErrGone
	}
	d.seq++
	u.Command, u.Seq, u.DevID = cmdSubmit, d.seq, d.devID
	t.urb = u
	d.pending[u.Seq] = t
	d.mu.Unlock()
	buf, giveBack := borrow(urbHeader + len(data))
	defer giveBack()
	d.conn.SetWriteDeadline(time.Now().Add(writeWithin)) //nolint:errcheck // a failed write tells
	if _, err := d.conn.Write(append(u.append(buf[:0]), data...)); err != nil {
		d.end()
		return nil, usb.ErrGone
	}
	return t, nil
}

func (d *device) SubmitIn(endpoint uint8, p []byte) (usb.Transfer, error) {
	return d.submit(urb{Dir: dirIn, Endpoint: uint32(endpoint & 0xf), B: int32(len(p))}, nil, p)
}

// flagZeroPacket is URB_ZERO_PACKET.
const flagZeroPacket = 0x40

func (d *device) SubmitOut(endpoint uint8, data []byte) (usb.Transfer, error) {
	return d.submit(urb{Endpoint: uint32(endpoint & 0xf), A: flagZeroPacket, B: int32(len(data))}, data, nil)
}

func (d *device) SubmitBare(endpoint uint8, data []byte) (usb.Transfer, error) {
	return d.submit(urb{Endpoint: uint32(endpoint & 0xf), B: int32(len(data))}, data, nil)
}

func (d *device) Control(ctx context.Context, s usb.Setup, data []byte) ([]byte, error) {
	u := urb{B: int32(s.Length), Setup: packSetup(s)}
	var buf []byte
	if s.In() {
		u.Dir, data, buf = dirIn, nil, make([]byte, s.Length)
	} else {
		s.Length = uint16(len(data))
		u.B, u.Setup = int32(len(data)), packSetup(s)
	}
	t, err := d.submit(u, data, buf)
	if err != nil {
		return nil, err
	}
	got, _, err := t.Wait(ctx)
	return got, err
}

// Wait waits for the transfer to complete; if ctx ends first, the transfer is unlinked.
func (t *transfer) Wait(ctx context.Context) ([]byte, int, error) {
	select {
	case <-t.done:
		return t.data, t.n, t.err
	case <-ctx.Done():
		t.d.withdraw(t.urb.Seq)
		return nil, 0, ctx.Err()
	}
}

// withdraw unlinks a transfer without waiting for the request to be written. It is written
// before any transfer that is submitted from now on, which could otherwise lose its data to
// the one that is withdrawn.
func (d *device) withdraw(seq uint32) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.closed {
		d.unwrite = append(d.unwrite, seq)
		d.withdrawing.Go(func() {
			d.writing.Lock()
			defer d.writing.Unlock()
			d.unlink()
		})
	}
}

// unlink writes the unlinks of all transfers that are withdrawn. The lock for writing is held.
func (d *device) unlink() {
	d.mu.Lock()
	var requests []byte
	for _, seq := range d.unwrite {
		if _, waiting := d.pending[seq]; d.closed || !waiting {
			continue
		}
		d.seq++
		u := urb{Command: cmdUnlink, Seq: d.seq, DevID: d.devID, A: int32(seq)}
		d.unlinks[u.Seq] = seq
		requests = u.append(requests)
	}
	d.unwrite = nil
	d.mu.Unlock()
	if len(requests) == 0 {
		return
	}
	d.conn.SetWriteDeadline(time.Now().Add(writeWithin)) //nolint:errcheck // a failed write tells
	if _, err := d.conn.Write(requests); err != nil {
		d.end()
	}
}

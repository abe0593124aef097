package usbip

import (
	"context"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/usb"
)

// A Target is what an importer's transfers go to: [Emulate] or [PassOn].
type Target interface {
	// carry takes a transfer of an endpoint, and has it answered. It is called for one after another.
	carry(s *session, address uint8, p *pending)
}

// Emulate makes a target of a device that is made in this program.
func Emulate(g Gadget) Target { return emulated{g} }

// PassOn makes a target of an opened device, which may be far away: transfers of an endpoint are handed to it as they
// come, so that several are under way at once. The caller closes the device.
func PassOn(d usb.Device) Target { return passed{d} }

// ServeConn answers one importer, as [Serve] does, until ctx or the connection ends.
func ServeConn(ctx context.Context, c net.Conn, src Source) error {
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	defer c.Close()
	return serveConn(ctx, c, src)
}

// passed passes transfers on to a device.
type passed struct{ device usb.Device }

// controlWithin is how long a device may take for a control transfer. Importers wait for 5 seconds.
const controlWithin = 10 * time.Second

func (t passed) carry(s *session, address uint8, p *pending) {
	if p.ctx.Err() != nil { // unlinked before its turn
		s.answer(p, nil, 0, usb.ErrUnlinked)
		return
	}
	if address == 0 {
		s.workers.Go(func() {
			ctx, cancel := context.WithTimeout(p.ctx, controlWithin)
			defer cancel()
			data, err := t.device.Control(ctx, unpackSetup(p.Setup), p.data)
			n := len(data)
			if p.Dir != dirIn {
				n = len(p.data)
			}
			s.answer(p, data, n, err)
		})
		return
	}
	var transfer usb.Transfer
	var err error
	switch {
	case p.Dir == dirIn:
		// The device may write to it for ever once the transfer is unlinked: it is not borrowed.
		transfer, err = t.device.SubmitIn(address, make([]byte, p.B))
	case p.A&flagZeroPacket != 0:
		transfer, err = t.device.SubmitOut(address, p.data)
	default:
		transfer, err = t.device.SubmitBare(address, p.data)
	}
	if err != nil {
		s.answer(p, nil, 0, err)
		return
	}
	s.workers.Go(func() {
		data, n, err := transfer.Wait(p.ctx)
		if p.ctx.Err() != nil && s.ctx.Err() == nil {
			err = usb.ErrUnlinked
		}
		s.answer(p, data, n, err)
	})
}

// Info describes an opened device for a list. Numbers of its bus are those of busID.
func Info(ctx context.Context, d usb.Device, busID, path string) (usb.Info, error) {
	desc, err := usb.Describe(ctx, d)
	if err != nil {
		return usb.Info{}, fmt.Errorf("read the descriptors of %s: %w", busID, err)
	}
	i := usb.Info{Path: path, BusID: busID, BusNum: 1, DevNum: 1, Speed: usb.HighSpeed, ID: desc.ID, Revision: desc.Revision, Class: desc.Class, Config: desc.Config, Configs: 1}
	for _, each := range desc.Interfaces {
		i.Interfaces = append(i.Interfaces, each.Class)
	}
	return i, nil
}

// Over makes an exporter of what is reached over streams: open opens one for each connection.
func Over(open func(context.Context) (io.ReadWriteCloser, error)) *Remote {
	return &Remote{Dial: func(ctx context.Context) (net.Conn, error) {
		s, err := open(ctx)
		if err != nil {
			return nil, err
		}
		return Conn(s), nil
	}}
}

// Conn makes a connection of a stream. Of deadlines it keeps those for both directions: once one is over, the stream
// is closed.
func Conn(s io.ReadWriteCloser) net.Conn { return &conn{ReadWriteCloser: s} }

type conn struct {
	io.ReadWriteCloser

	mu   sync.Mutex
	over *time.Timer
}

type nowhere struct{}

func (nowhere) Network() string { return "stream" }
func (nowhere) String() string  { return "stream" }

func (c *conn) LocalAddr() net.Addr              { return nowhere{} }
func (c *conn) RemoteAddr() net.Addr             { return nowhere{} }
func (c *conn) SetReadDeadline(time.Time) error  { return nil }
func (c *conn) SetWriteDeadline(time.Time) error { return nil }

func (c *conn) SetDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.over != nil {
		c.over.Stop()
		c.over = nil
	}
	if !t.IsZero() {
		c.over = time.AfterFunc(time.Until(t), func() { c.Close() })
	}
	return nil
}

func (c *conn) Close() error {
	c.SetDeadline(time.Time{}) //nolint:errcheck // it never fails
	return c.ReadWriteCloser.Close()
}

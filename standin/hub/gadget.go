package hub

import (
	"context"
	"errors"
	"io"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
)

// endpointBytes is how much an endpoint buffers.
const endpointBytes = 256 << 10

// gadget is one appearance of a body on the bus, from plugging in to unplugging.
type gadget struct {
	hub        *Hub
	port       *port
	dev        uint32
	descriptor usb.Descriptor
	ctx        context.Context
	cancel     context.CancelFunc
	claim      context.CancelFunc // ends the import, guarded by the hub's lock; nil for none
	claimedBy  string             // address of the importer, as above

	mu   sync.Mutex
	pipe *pipe // the current one of the device link
	cut  int64 // bytes until the cable is pulled; 0: it stays in
	worn bool  // after as many bytes, a transfer fails before the cable loses contact
}

// pipe is the device link's two endpoints, from the body's side.
type pipe struct{ in, out *usb.Fifo } // in: to the computer

func (p *pipe) Read(b []byte) (int, error)  { return p.out.Read(b) }
func (p *pipe) Write(b []byte) (int, error) { return p.in.Write(b) }
func (p *pipe) Close() error                { return errors.Join(p.in.Close(), p.out.Close()) }

func newGadget(ctx context.Context, h *Hub, p *port, dev uint32) *gadget {
	g := &gadget{hub: h, port: p, dev: dev, descriptor: p.body.Descriptor()}
	g.ctx, g.cancel = context.WithCancel(ctx)
	return g
}

func (g *gadget) pull() {
	g.cancel()
	g.end()
}

// end ends the byte stream of the device link.
func (g *gadget) end() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.pipe != nil {
		g.pipe.Close()
		g.pipe = nil
	}
}

func (g *gadget) cutAfter(n int64, worn bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.cut, g.worn = n, worn
}

func (g *gadget) info() usb.Info {
	d := g.descriptor
	i := usb.Info{Path: "/stand-in/hub/" + g.port.body.Name(), BusID: busID(g.port), BusNum: 1, DevNum: g.dev, Speed: usb.HighSpeed,
		ID: d.ID, Revision: d.Revision, Class: d.Class, Config: 1, Configs: 1}
	for _, f := range d.Interfaces {
		i.Interfaces = append(i.Interfaces, f.Class)
	}
	return i
}

// Control answers the standard requests (USB 2.0, 9.4). Selecting the device link's
// interface restarts its byte stream.
func (g *gadget) Control(s usb.Setup, _ []byte) ([]byte, error) {
	var b []byte
	switch {
	case s.RequestType == 0x80 && s.Request == usb.ReqGetDescriptor:
		switch s.Value >> 8 {
		case usb.DescDevice:
			b = g.descriptor.DeviceBytes()
		case usb.DescConfig:
			b = g.descriptor.ConfigBytes()
		case usb.DescString:
			b = g.descriptor.StringBytes(uint8(s.Value))
		}
		if b == nil {
			return nil, usb.ErrStall
		}
	case s.RequestType == 0x80 && s.Request == usb.ReqGetConfiguration:
		b = []byte{g.descriptor.Config}
	case s == usb.ResetPort:
		g.end()
		g.port.body.Reset()
		return nil, nil
	case s.RequestType == 0x00 && s.Request == usb.ReqSetConfiguration:
		return nil, nil
	case s.RequestType == 0x01 && s.Request == usb.ReqSetInterface:
		if link, _, _, ok := g.descriptor.Link(); ok && uint16(link.Number) == s.Index {
			g.begin()
		}
		return nil, nil
	default:
		return nil, usb.ErrStall
	}
	return b[:min(len(b), int(s.Length))], nil
}

// begin gives the body a fresh pipe and ends the one before.
func (g *gadget) begin() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.pipe != nil {
		g.pipe.Close()
	}
	if g.ctx.Err() != nil {
		return
	}
	p := &pipe{usb.NewFifo(endpointBytes), usb.NewFifo(endpointBytes)}
	g.pipe = p
	g.hub.work.Go(func() { g.port.body.ServeLink(g.ctx, p) })
}

// endpoint finds the device link's pipe behind an endpoint, if its driver is
// bound.
func (g *gadget) endpoint(address uint8) (*pipe, error) {
	for _, i := range g.descriptor.Interfaces {
		for _, e := range i.Endpoints {
			if e.Address != address {
				continue
			}
			if g.hub.cfg.Driver(g.descriptor, i) == "" {
				return nil, usb.ErrAccess
			}
			g.mu.Lock()
			defer g.mu.Unlock()
			if i.Name != usb.LinkName || g.pipe == nil {
				return nil, usb.ErrStall
			}
			return g.pipe, nil
		}
	}
	return nil, usb.ErrStall
}

// In returns what the body has to send.
func (g *gadget) In(ctx context.Context, address uint8, b []byte) (int, error) {
	p, err := g.endpoint(address)
	if err != nil {
		return 0, err
	}
	n, err := p.in.ReadContext(ctx, b)
	return n, transferError(ctx, err)
}

// Out passes on what the computer sends, up to the byte at which the cable is set to be
// pulled.
func (g *gadget) Out(ctx context.Context, address uint8, b []byte) (int, error) {
	p, err := g.endpoint(address)
	if err != nil {
		return 0, err
	}
	g.mu.Lock()
	last := g.cut > 0 && int64(len(b)) >= g.cut
	if last && g.worn {
		g.worn, g.cut = false, wornBytes
		g.mu.Unlock()
		return 0, usb.ErrWire
	}
	if last {
		b = b[:g.cut]
	} else if g.cut > 0 {
		g.cut -= int64(len(b))
	}
	g.mu.Unlock()
	n, err := p.out.WriteContext(ctx, b)
	if last {
		g.hub.cut(g)
		return n, usb.ErrGone
	}
	return n, transferError(ctx, err)
}

func transferError(ctx context.Context, err error) error {
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return usb.ErrUnlinked
	case errors.Is(err, io.EOF):
		return usb.ErrStall // the body has ended this stream
	}
	return err
}

package usbip

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
)

// A Gadget is a device as its exporter sees it. Transfers of one endpoint are
// handed over one after another; those of several run side by side.
type Gadget interface {
	// Control answers a control transfer, with usb.ErrStall for a request that
	// the device does not know.
	Control(s usb.Setup, data []byte) ([]byte, error)
	// In fills p with what the device has to send, waiting for the first byte.
	In(ctx context.Context, endpoint uint8, p []byte) (int, error)
	// Out takes p, waiting while the device is not ready for it.
	Out(ctx context.Context, endpoint uint8, p []byte) (int, error)
}

// A Source is the set of devices that an exporter offers. Imported devices stay listed.
type Source interface {
	List() []usb.Info
	// Claim reserves a device for one importer, at the address from: usb.ErrNotFound,
	// usb.ErrBusy. The context ends when the device is unplugged or taken away from the
	// importer; release ends the reservation.
	Claim(busID string, from net.Addr) (ctx context.Context, t Target, release func(), err error)
}

// Serve answers importers on l until ctx ends, then waits for all of them.
func Serve(ctx context.Context, l net.Listener, src Source) error {
	var conns sync.WaitGroup
	defer conns.Wait()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return fmt.Errorf("wait for importers: %w", err)
		}
		conns.Go(func() {
			stop := context.AfterFunc(ctx, func() { c.Close() })
			defer stop()
			defer c.Close()
			serveConn(ctx, c, src) //nolint:errcheck // the importer sees the end
		})
	}
}

func serveConn(ctx context.Context, c net.Conn, src Source) error {
	r := bufio.NewReaderSize(c, 256<<10)
	var h opHeader
	if err := binary.Read(r, binary.BigEndian, &h); err != nil {
		return err
	}
	switch h.Code {
	case opListRequest:
		return writeList(c, src.List())
	case opImportRequest:
		var id [32]byte
		if _, err := io.ReadFull(r, id[:]); err != nil {
			return err
		}
		return serveImport(ctx, c, r, src, fromFixed(id[:]))
	}
	return fmt.Errorf("%w: code %#04x", ErrProtocol, h.Code)
}

func writeList(w io.Writer, infos []usb.Info) error {
	rest := []any{uint32(len(infos))}
	for _, i := range infos {
		rest = append(rest, wire(i))
		for _, c := range i.Interfaces {
			rest = append(rest, [4]uint8{c.Class, c.Subclass, c.Protocol, 0})
		}
	}
	return writeOp(w, opListReply, statusOK, rest...)
}

func serveImport(ctx context.Context, c net.Conn, r io.Reader, src Source, busID string) error {
	plugged, target, release, err := src.Claim(busID, c.RemoteAddr())
	if err != nil {
		status := uint32(statusFailed)
		switch {
		case errors.Is(err, usb.ErrBusy):
			status = statusBusy
		case errors.Is(err, usb.ErrNotFound):
			status = statusNotFound
		}
		return writeOp(c, opImportReply, status)
	}
	defer release()
	infos := src.List()
	i := slices.IndexFunc(infos, func(i usb.Info) bool { return i.BusID == busID })
	if i < 0 {
		return writeOp(c, opImportReply, statusNotFound)
	}
	if err := writeOp(c, opImportReply, statusOK, wire(infos[i])); err != nil {
		return err
	}
	live, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(plugged, func() { cancel(); c.Close() })()
	s := &session{ctx: live, w: c, target: target, pending: map[uint32]*pending{}, queues: map[uint8]*queue{}}
	err = s.read(r)
	cancel()
	s.workers.Wait()
	return err
}

// session is one imported device's connection.
type session struct {
	ctx     context.Context
	target  Target
	workers sync.WaitGroup
	queues  map[uint8]*queue // by endpoint address; only the reader's

	writing sync.Mutex
	w       io.Writer

	mu      sync.Mutex
	pending map[uint32]*pending
	bytes   int // to the device, of all that is pending
}

// Limits on pending transfers. The protocol has no flow control, and the reader never
// waits, since unlink requests arrive on the same connection.
const (
	maxPending      = 4096
	maxPendingBytes = 64 << 20
)

// queue holds the transfers of one endpoint, in order. Only its worker removes them.
type queue struct {
	more chan struct{}

	mu   sync.Mutex
	list []*pending
}

func (q *queue) put(p *pending) {
	q.mu.Lock()
	q.list = append(q.list, p)
	q.mu.Unlock()
	select {
	case q.more <- struct{}{}:
	default:
	}
}

// take removes and returns the first; nil if there is none.
func (q *queue) take() *pending {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.list) == 0 {
		return nil
	}
	p := q.list[0]
	q.list[0] = nil
	if q.list = q.list[1:]; len(q.list) == 0 {
		q.list = nil
	}
	return p
}

// pending is a transfer that has not been answered.
type pending struct {
	urb
	data     []byte
	giveBack func() // of data; nil where there is none
	ctx      context.Context
	cancel   context.CancelFunc
}

func (s *session) read(r io.Reader) error {
	for {
		var u urb
		if err := u.read(r); err != nil {
			return err
		}
		switch u.Command {
		case cmdSubmit:
			if u.B < 0 || u.B > maxTransfer || u.Endpoint > 15 || u.Dir > 1 {
				return fmt.Errorf("%w: a transfer of %d bytes at endpoint %d", ErrProtocol, u.B, u.Endpoint)
			}
			if u.D > 0 { // what follows would be taken for another message
				return fmt.Errorf("%w: isochronous transfers are not passed on", ErrProtocol)
			}
			p := &pending{urb: u}
			if u.Dir != dirIn && u.B > 0 {
				p.data, p.giveBack = borrow(int(u.B))
				if _, err := io.ReadFull(r, p.data); err != nil {
					return err
				}
			}
			if err := s.submit(p); err != nil {
				return err
			}
		case cmdUnlink:
			s.unlink(u)
		default:
			return fmt.Errorf("%w: command %d", ErrProtocol, u.Command)
		}
	}
}

func (s *session) submit(p *pending) error {
	p.ctx, p.cancel = context.WithCancel(s.ctx)
	s.mu.Lock()
	if s.pending[p.Seq] != nil {
		s.mu.Unlock()
		p.cancel()
		return fmt.Errorf("%w: transfer %d is under way already", ErrProtocol, p.Seq)
	}
	s.pending[p.Seq] = p
	s.bytes += len(p.data)
	full := len(s.pending) > maxPending || s.bytes > maxPendingBytes
	s.mu.Unlock()
	if full {
		return fmt.Errorf("%w: more than %d transfers or %d bytes under way", ErrProtocol, maxPending, maxPendingBytes)
	}
	address := uint8(p.Endpoint)
	if p.Dir == dirIn {
		address |= 0x80
	}
	if p.Endpoint == 0 {
		address = 0
	}
	q := s.queues[address]
	if q == nil {
		q = &queue{more: make(chan struct{}, 1)}
		s.queues[address] = q
		s.workers.Go(func() { s.work(address, q) })
	}
	q.put(p)
	return nil
}

func (s *session) work(address uint8, q *queue) {
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-q.more:
		}
		for p := q.take(); p != nil; p = q.take() {
			s.target.carry(s, address, p)
		}
	}
}

// emulated is a device that is made in this program.
type emulated struct{ gadget Gadget }

// carry executes one transfer and answers it.
func (t emulated) carry(s *session, address uint8, p *pending) {
	if p.ctx.Err() != nil {
		s.answer(p, nil, 0, usb.ErrUnlinked)
		return
	}
	switch {
	case address == 0:
		data, err := t.gadget.Control(unpackSetup(p.Setup), p.data)
		n := len(data)
		if p.Dir != dirIn {
			n = len(p.data)
		}
		s.answer(p, data, n, err)
	case p.Dir == dirIn:
		data, giveBack := borrow(int(p.B))
		defer giveBack()
		n, err := t.gadget.In(p.ctx, address, data)
		s.answer(p, data[:n], n, err)
	default:
		n, err := t.gadget.Out(p.ctx, address, p.data)
		s.answer(p, nil, n, err)
	}
}

// answer answers a transfer, unless it was unlinked: then the unlink was the answer.
func (s *session) answer(p *pending, data []byte, n int, err error) {
	p.cancel()
	s.mu.Lock()
	waiting := s.pending[p.Seq] == p
	if waiting {
		delete(s.pending, p.Seq)
	}
	s.bytes -= len(p.data)
	s.mu.Unlock()
	if waiting {
		reply := urb{Command: retSubmit, Seq: p.Seq, A: errno(err), B: int32(n)}
		if p.Dir != dirIn {
			data = nil
		}
		s.write(&reply, data)
	}
	if p.giveBack != nil {
		p.giveBack()
	}
}

func (s *session) unlink(u urb) {
	target := uint32(u.A)
	s.mu.Lock()
	p := s.pending[target]
	delete(s.pending, target)
	s.mu.Unlock()
	reply := urb{Command: retUnlink, Seq: u.Seq}
	if p != nil {
		p.cancel()
		reply.A = -errnoECONNRESET
	}
	s.write(&reply, nil)
}

func (s *session) write(u *urb, data []byte) {
	var head [urbHeader]byte
	parts := net.Buffers{u.append(head[:0]), data}
	s.writing.Lock()
	defer s.writing.Unlock()
	parts.WriteTo(s.w) //nolint:errcheck // the reader sees the end
}

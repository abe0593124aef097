package dnssd

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// Responder announces services and answers questions about them. It is made by Respond and ends
// with Close.
type Responder struct {
	wire *Wire
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	mu       sync.Mutex
	services map[*Service]bool
	last     map[*Service]time.Time // when it was announced
}

// Respond starts a responder on a wire, which it owns from then on.
func Respond(wire *Wire) *Responder {
	r := &Responder{wire: wire, services: map[*Service]bool{}, last: map[*Service]time.Time{}}
	r.ctx, r.end = context.WithCancel(context.Background())
	r.work.Go(r.listen)
	r.work.Go(r.again)
	return r
}

// Networks returns the networks on which it announces, by interface, and a channel that is closed
// when they have changed.
func (r *Responder) Networks() (map[string][]netip.Prefix, <-chan struct{}) {
	return r.wire.Networks(), r.wire.Changed()
}

// Close says goodbye for all services, and ends.
func (r *Responder) Close() error {
	for _, s := range r.all() {
		r.withdraw(s)
	}
	r.end()
	err := r.wire.Close()
	r.work.Wait()
	return err
}

// Publish announces a service until withdraw is called.
func (r *Responder) Publish(s Service) (withdraw func(), err error) {
	addresses := s.Addresses
	if len(addresses) == 0 {
		addresses = []netip.Addr{netip.IPv4Unspecified()}
	}
	if _, err := response(s.records(addresses, false)); err != nil {
		return nil, fmt.Errorf("announce %s: %w", s.Instance, err)
	}
	own := &s
	r.mu.Lock()
	r.services[own] = true
	r.mu.Unlock()
	r.work.Go(func() { // twice, a second apart (RFC 6762, section 8.3)
		r.announce(own)
		select {
		case <-r.ctx.Done():
		case <-time.After(time.Second):
			r.announce(own)
		}
	})
	return func() { r.withdraw(own) }, nil
}

func (r *Responder) withdraw(s *Service) {
	r.mu.Lock()
	was := r.services[s]
	delete(r.services, s)
	delete(r.last, s)
	r.mu.Unlock()
	if was {
		r.send(s, true)
	}
}

func (r *Responder) announce(s *Service) {
	r.mu.Lock()
	is := r.services[s]
	if is {
		r.last[s] = time.Now()
	}
	r.mu.Unlock()
	if is {
		r.send(s, false)
	}
}

func (r *Responder) all() []*Service {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []*Service
	for s := range r.services {
		out = append(out, s)
	}
	return out
}

// send sends all records of a service on every interface.
func (r *Responder) send(s *Service, goodbye bool) {
	r.wire.each(func(index int, own []netip.Addr) {
		if packet, source, ok := s.packet(own, goodbye); ok {
			r.wire.send(index, source, packet) //nolint:errcheck // the interface has just gone
		}
	})
}

// packet is a service's announcement on an interface with addresses, and from where it is
// sent; false if the service is not reached there.
func (s *Service) packet(own []netip.Addr, goodbye bool) (packet []byte, source netip.Addr, ok bool) {
	addresses := own
	if len(s.Addresses) > 0 {
		addresses = nil
		for _, a := range s.Addresses {
			for _, o := range own {
				if a == o || a.IsLoopback() && o.IsLoopback() {
					addresses = append(addresses, a)
					break
				}
			}
		}
	}
	if len(addresses) == 0 {
		return nil, source, false
	}
	packet, err := response(s.records(addresses, goodbye))
	return packet, own[0], err == nil
}

// again announces everything once more when the interfaces have changed.
func (r *Responder) again() {
	for {
		changed := r.wire.Changed()
		select {
		case <-r.ctx.Done():
			return
		case <-changed:
		}
		for _, s := range r.all() {
			r.announce(s)
		}
	}
}

// An answer to many is delayed, so that not all answer at once, and a record is not sent twice in
// a second (RFC 6762, section 6).
const (
	shortest = 20 * time.Millisecond
	longest  = 120 * time.Millisecond
	between  = time.Second
)

func (r *Responder) listen() {
	buffer := make([]byte, maxPacket+1)
	for {
		p, err := r.wire.Receive(buffer)
		if err != nil {
			return
		}
		h, questions, known, err := parse(p.Data)
		if err != nil || h.Response || h.OpCode != 0 {
			continue
		}
		var asked []*Service
		for _, s := range r.all() {
			if s.asked(questions) && !s.known(known) {
				asked = append(asked, s)
			}
		}
		switch {
		case len(asked) == 0:
		case p.From.Port() != uint16(r.wire.group.Port): // it knows no multicast (section 6.7)
			r.direct(p, h, questions, asked)
		default:
			r.work.Go(func() {
				select {
				case <-r.ctx.Done():
				case <-time.After(shortest + rand.N(longest-shortest)):
					for _, s := range asked {
						if r.mayAnswer(s) {
							r.announce(s)
						}
					}
				}
			})
		}
	}
}

// mayAnswer reports whether a service was not announced just now.
func (r *Responder) mayAnswer(s *Service) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return time.Since(r.last[s]) >= between
}

// asked reports whether questions are about a service.
func (s *Service) asked(questions []dnsmessage.Question) bool {
	for _, q := range questions {
		for _, own := range s.records([]netip.Addr{netip.IPv4Unspecified()}, false) {
			if same(q.Name, own.Header.Name) && (q.Type == typeOf(own) || q.Type == dnsmessage.TypeALL) {
				return true
			}
		}
	}
	return false
}

// known reports whether the asker knows the service (RFC 6762, section 7.1).
func (s *Service) known(records []dnsmessage.Resource) bool {
	for _, r := range records {
		ptr, ok := r.Body.(*dnsmessage.PTRResource)
		if ok && same(ptr.PTR, name(s.instanceName())) && same(r.Header.Name, name(typeName(s.Type))) && r.Header.TTL > uint32(otherTTL.Seconds()/2) {
			return true
		}
	}
	return false
}

// direct answers one asker (RFC 6762, section 6.7): the question is repeated, and nothing is kept long.
func (r *Responder) direct(p Packet, h dnsmessage.Header, questions []dnsmessage.Question, asked []*Service) {
	r.wire.each(func(index int, own []netip.Addr) {
		if index != p.Interface {
			return
		}
		m := dnsmessage.Message{Header: dnsmessage.Header{ID: h.ID, Response: true, Authoritative: true}, Questions: questions}
		for _, s := range asked[:min(len(asked), 8)] {
			for _, record := range s.records(own, false) {
				record.Header.Class &^= cacheFlush
				record.Header.TTL = min(record.Header.TTL, 10)
				m.Answers = append(m.Answers, record)
			}
		}
		if packet, err := m.Pack(); err == nil {
			r.wire.reply(index, p.From, packet) //nolint:errcheck // it asks again
		}
	})
}

package dnssd

import (
	"bytes"
	"cmp"
	"context"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// What a browser takes from the network.
const (
	maxInstances = 1000
	maxPackets   = 2000 // a second; the others are dropped
	maxNew       = 500  // instances that were not known, a second
)

// Found is an instance that was found.
type Found struct {
	Service
	Since time.Time // when it was heard first
}

// BrowserConfig is how a browser works.
type BrowserConfig struct {
	Type string // of the services
	// Changed is called with an instance that came or changed; Gone with the name of one that has
	// gone. They are called one after the other, and must not block. Changed reports whether
	// the instance is wanted: if there are too many, others are forgotten first.
	Changed func(Found) (wanted bool)
	Gone    func(instance string)
}

// Browser finds services of one type. It is made by Browse and ends with Close.
type Browser struct {
	cfg  BrowserConfig
	wire *Wire
	end  context.CancelFunc
	work sync.WaitGroup

	waiting chan Packet // to be looked at

	mu        sync.Mutex
	instances map[string]*instance // by name in lower case
	hosts     map[string]*host
	packets   budget
	fresh     budget
	dropped   int
	others    time.Time // when another computer was heard
	forgotten []string  // instances that had to make room, and of which nobody was told yet
}

// instance is what is known of a service.
type instance struct {
	name    string // label
	since   time.Time
	ends    time.Time // of the pointer
	host    string
	port    uint16
	text    map[string]string
	asked   time.Time // for what is missing
	told    *Service  // as it was told last
	wanted  bool
	refresh time.Time // when it is asked for again
}

// host is the addresses of a host.
type host struct {
	addresses map[netip.Addr]span
}

// span is the time during which a record is valid.
type span struct{ heard, ends time.Time }

// flushAfter is how old a record must be to be replaced by one with the cache-flush bit: those
// that belong together come together (RFC 6762, section 10.2).
const flushAfter = time.Second

// budget limits how many pass in a second.
type budget struct {
	most int
	left float64
	at   time.Time
}

func (b *budget) take(now time.Time) bool {
	b.left = min(float64(b.most), b.left+now.Sub(b.at).Seconds()*float64(b.most))
	b.at = now
	if b.left < 1 {
		return false
	}
	b.left--
	return true
}

// Browse starts a browser on a wire, which it owns from then on.
func Browse(wire *Wire, cfg BrowserConfig) *Browser {
	now := time.Now()
	b := &Browser{cfg: cfg, wire: wire, waiting: make(chan Packet, maxWaiting), instances: map[string]*instance{}, hosts: map[string]*host{},
		packets: budget{maxPackets, maxPackets, now}, fresh: budget{maxNew, maxNew, now}}
	ctx, cancel := context.WithCancel(context.Background())
	b.end = cancel
	b.work.Go(b.listen)
	b.work.Go(b.look)
	b.work.Go(func() { b.ask(ctx) })
	b.work.Go(func() { b.expire(ctx) })
	return b
}

// Close ends the browser.
func (b *Browser) Close() error {
	b.end()
	err := b.wire.Close()
	b.work.Wait()
	return err
}

// Dropped is how many packets were not looked at because there were too many.
func (b *Browser) Dropped() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.dropped
}

// HeardOthers is when another computer, or another program of this one, last announced anything; zero for never. On a network that
// does not carry multicast, nothing is heard.
func (b *Browser) HeardOthers() time.Time {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.others
}

// Networks returns the networks on which it listens, by interface.
func (b *Browser) Networks() map[string][]netip.Prefix { return b.wire.Networks() }

// NetworksChanged is closed when they have changed.
func (b *Browser) NetworksChanged() <-chan struct{} { return b.wire.Changed() }

// mostBetween is the longest pause between two questions. It is doubled from a second on, and
// starts over when the interfaces have changed (RFC 6762, section 5.2).
const mostBetween = time.Minute

func (b *Browser) ask(ctx context.Context) {
	pause := time.Second
	for {
		b.question(dnsmessage.Question{Name: name(typeName(b.cfg.Type)), Type: dnsmessage.TypePTR, Class: dnsmessage.ClassINET})
		changed := b.wire.Changed()
		t := time.NewTimer(pause)
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-changed:
			pause = time.Second
			b.leave()
		case <-t.C:
			pause = min(2*pause, mostBetween)
		}
		t.Stop()
	}
}

// leave forgets the instances on networks that this computer has left.
func (b *Browser) leave() {
	networks := b.wire.Networks()
	here := func(a netip.Addr) bool {
		for _, prefixes := range networks {
			for _, p := range prefixes {
				if p.Contains(a) || a.Is6() {
					return true
				}
			}
		}
		return false
	}
	now := time.Now()
	b.mu.Lock()
	touched := map[string]bool{}
	for k, i := range b.instances {
		if i.told != nil && !slices.ContainsFunc(i.told.Addresses, here) {
			i.ends = now
			touched[k] = true
		}
	}
	changed, gone := b.outcome(now, touched)
	b.mu.Unlock()
	b.tell(changed, gone)
}

// reconfirmWithin is how long a doubted instance may take to answer.
const reconfirmWithin = 10 * time.Second

// Reconfirm asks for an instance that does not answer where it says; it is forgotten unless it is
// heard again (RFC 6762, section 10.4).
func (b *Browser) Reconfirm(instance string) {
	full := instance + "." + typeName(b.cfg.Type)
	now := time.Now()
	b.mu.Lock()
	i := b.instances[strings.ToLower(full)]
	doubted := i != nil && i.ends.Sub(now) > reconfirmWithin
	if doubted {
		i.ends = now.Add(reconfirmWithin)
	}
	b.mu.Unlock()
	if doubted {
		b.question(dnsmessage.Question{Name: name(typeName(b.cfg.Type)), Type: dnsmessage.TypePTR, Class: dnsmessage.ClassINET},
			dnsmessage.Question{Name: name(full), Type: dnsmessage.TypeSRV, Class: dnsmessage.ClassINET})
	}
}

// mostKnown is how many instances a question names as known (RFC 6762, section 7.1), so that it
// fits into a packet.
const mostKnown = 24

// question asks on every interface.
func (b *Browser) question(q ...dnsmessage.Question) {
	m := dnsmessage.Message{Questions: q}
	if len(q) == 1 && q[0].Type == dnsmessage.TypePTR {
		m.Answers = b.known()
	}
	packet, err := m.Pack()
	if err != nil {
		return // a name of somebody else that cannot be asked for
	}
	b.wire.each(func(index int, addresses []netip.Addr) {
		b.wire.send(index, addresses[0], packet) //nolint:errcheck // the interface has just gone
	})
}

func (b *Browser) known() []dnsmessage.Resource {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []dnsmessage.Resource
	now := time.Now()
	for _, i := range b.instances {
		if left := i.ends.Sub(now); i.told != nil && left > otherTTL/2 && len(out) < mostKnown {
			out = append(out, dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: name(typeName(b.cfg.Type)), Class: dnsmessage.ClassINET, TTL: uint32(left.Seconds())},
				Body: &dnsmessage.PTRResource{PTR: name(i.name + "." + typeName(b.cfg.Type))}})
		}
	}
	return out
}

// maxWaiting is how many packets may wait to be looked at: many may come at once, and the system keeps
// only few.
const maxWaiting = 512

// listen takes packets from the wire as fast as they come.
func (b *Browser) listen() {
	defer close(b.waiting)
	buffer := make([]byte, maxPacket+1)
	for {
		p, err := b.wire.Receive(buffer)
		if err != nil {
			return
		}
		b.mu.Lock()
		let := b.packets.take(time.Now())
		b.mu.Unlock()
		if let {
			p.Data = bytes.Clone(p.Data)
			select {
			case b.waiting <- p:
				continue
			default:
			}
		}
		b.mu.Lock()
		b.dropped++
		b.mu.Unlock()
	}
}

// look looks at the packets that wait.
func (b *Browser) look() {
	for p := range b.waiting {
		h, _, records, err := parse(p.Data)
		if err != nil || !h.Response || p.From.Port() != uint16(b.wire.group.Port) {
			continue
		}
		now := time.Now()
		if !p.Own {
			b.mu.Lock()
			b.others = now
			b.mu.Unlock()
		}
		b.take(now, records)
	}
}

// expire forgets what was not heard again, and asks for what is missing or ends soon.
func (b *Browser) expire(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		now := time.Now()
		b.mu.Lock()
		touched := map[string]bool{}
		var missing []dnsmessage.Question
		for k, i := range b.instances {
			h := b.hosts[i.host]
			if h != nil {
				before := len(h.addresses)
				maps.DeleteFunc(h.addresses, func(_ netip.Addr, s span) bool { return now.After(s.ends) })
				if len(h.addresses) == 0 {
					i.ends = now // where it is, is not known any more
				}
				touched[k] = touched[k] || len(h.addresses) != before
			}
			touched[k] = touched[k] || !now.Before(i.ends)
			if (i.told == nil || now.After(i.refresh)) && now.Sub(i.asked) > 2*time.Second && len(missing) < mostKnown {
				i.asked = now
				missing = append(missing, b.missing(k, i)...)
			}
		}
		changed, gone := b.outcome(now, touched)
		b.mu.Unlock()
		if len(missing) > 0 {
			b.question(missing...)
		}
		b.tell(changed, gone)
	}
}

// missing asks for the records of an instance. The lock is held.
func (b *Browser) missing(k string, i *instance) []dnsmessage.Question {
	q := []dnsmessage.Question{{Name: name(k), Type: dnsmessage.TypeSRV, Class: dnsmessage.ClassINET}, {Name: name(k), Type: dnsmessage.TypeTXT, Class: dnsmessage.ClassINET}}
	if i.host != "" {
		q = append(q, dnsmessage.Question{Name: name(i.host), Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET})
	}
	return q
}

// key is a name in lower case; names are compared without regard to case (RFC 6762, section 16).
func key(n dnsmessage.Name) string { return strings.ToLower(n.String()) }

func same(a, b dnsmessage.Name) bool { return strings.EqualFold(a.String(), b.String()) }

// typeOf is the type of a record that was made here.
func typeOf(r dnsmessage.Resource) dnsmessage.Type {
	switch r.Body.(type) {
	case *dnsmessage.PTRResource:
		return dnsmessage.TypePTR
	case *dnsmessage.SRVResource:
		return dnsmessage.TypeSRV
	case *dnsmessage.TXTResource:
		return dnsmessage.TypeTXT
	case *dnsmessage.AResource:
		return dnsmessage.TypeA
	}
	return cmp.Or(r.Header.Type, dnsmessage.TypeAAAA)
}

package dnssd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/net/ipv4"
)

// Group is where Multicast DNS is spoken (RFC 6762, section 3).
var Group = netip.MustParseAddrPort("224.0.0.251:5353")

// Wire is a socket for Multicast DNS over IPv4, on every interface that is up and has an
// address, loopback included. It is made by Listen and ends with Close.
type Wire struct {
	group *net.UDPAddr
	conn  *ipv4.PacketConn
	end   context.CancelFunc
	work  sync.WaitGroup

	mu      sync.Mutex
	joined  map[int]*joined
	changed chan struct{} // closed and replaced when the interfaces have changed
}

// joined is an interface on which packets are received and sent.
type joined struct {
	name     string
	prefixes []netip.Prefix
}

// Packet is one that was received.
type Packet struct {
	Data      []byte
	From      netip.AddrPort
	Interface int  // its index
	Own       bool // it is from an address of this computer, and not by loopback
}

// lookEvery is how often the interfaces are looked at.
const lookEvery = 2 * time.Second

// Listen opens a wire for a group and port; the zero value is [Group].
func Listen(group netip.AddrPort) (*Wire, error) {
	if !group.IsValid() {
		group = Group
	}
	// A socket at a multicast address shares its port with other programs.
	c, err := net.ListenPacket("udp4", group.String())
	if err != nil {
		return nil, fmt.Errorf("listen for announcements: %w", err)
	}
	w := &Wire{group: net.UDPAddrFromAddrPort(group), conn: ipv4.NewPacketConn(c), joined: map[int]*joined{}, changed: make(chan struct{})}
	// The interface identifies the sender of a packet; RFC 6762, section 11, requires TTL 255.
	err = errors.Join(w.conn.SetControlMessage(ipv4.FlagInterface|ipv4.FlagDst, true), w.conn.SetMulticastTTL(255), w.conn.SetMulticastLoopback(true))
	if err != nil {
		w.conn.Close()
		return nil, fmt.Errorf("listen for announcements: %w", err)
	}
	c.(*net.UDPConn).SetReadBuffer(1 << 20) //nolint:errcheck,forcetypeassert // the system may give less
	w.look()
	ctx, cancel := context.WithCancel(context.Background())
	w.end = cancel
	w.work.Go(func() {
		t := time.NewTicker(lookEvery)
		defer t.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-t.C:
				w.look()
			}
		}
	})
	return w, nil
}

// Close closes the socket. A Receive returns.
func (w *Wire) Close() error {
	w.end()
	err := w.conn.Close()
	w.work.Wait()
	return err
}

// Changed is closed when interfaces or their addresses have changed.
func (w *Wire) Changed() <-chan struct{} {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.changed
}

// Networks returns the networks of the interfaces, by interface.
func (w *Wire) Networks() map[string][]netip.Prefix {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := map[string][]netip.Prefix{}
	for _, j := range w.joined {
		out[j.name] = j.prefixes
	}
	return out
}

// look joins the group on interfaces that came, and forgets those that went.
func (w *Wire) look() {
	interfaces, err := net.Interfaces()
	if err != nil {
		return // they are looked at again
	}
	now := map[int]*joined{}
	for _, i := range interfaces {
		if i.Flags&net.FlagUp == 0 || i.Flags&net.FlagPointToPoint != 0 || i.Flags&(net.FlagMulticast|net.FlagLoopback) == 0 {
			continue
		}
		j := &joined{name: i.Name}
		addresses, _ := i.Addrs() // one that has just gone has none
		for _, a := range addresses {
			if n, ok := a.(*net.IPNet); ok {
				if p, err := netip.ParsePrefix(n.String()); err == nil && p.Addr().Is4() {
					j.prefixes = append(j.prefixes, p)
				}
			}
		}
		if len(j.prefixes) > 0 {
			now[i.Index] = j
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	differ := len(now) != len(w.joined)
	for index, j := range now {
		was := w.joined[index]
		if was != nil && slices.Equal(was.prefixes, j.prefixes) {
			continue
		}
		differ = true
		ifi := &net.Interface{Index: index}
		if was != nil { // its address is another one: the kernel joins anew
			w.conn.LeaveGroup(ifi, w.group) //nolint:errcheck // it may have ended by itself
		}
		w.conn.JoinGroup(ifi, w.group) //nolint:errcheck // another program of ours may have joined on this socket
	}
	w.joined = now
	if differ {
		close(w.changed)
		w.changed = make(chan struct{})
	}
}

// Receive returns the next packet of somebody on the same network (RFC 6762, section 11), until
// the wire is closed. The data is good until the next call with the same buffer.
func (w *Wire) Receive(buffer []byte) (Packet, error) {
	for {
		n, cm, from, err := w.conn.ReadFrom(buffer)
		if err != nil {
			return Packet{}, err
		}
		at, ok := from.(*net.UDPAddr)
		if !ok || cm == nil || !cm.Dst.Equal(w.group.IP) {
			continue
		}
		p := Packet{Data: buffer[:n], From: at.AddrPort(), Interface: cm.IfIndex}
		if local := w.local(&p); local {
			return p, nil
		}
	}
}

// local reports whether the sender is on the network of the interface, and notes whether it is this
// computer.
func (w *Wire) local(p *Packet) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	j := w.joined[p.Interface]
	if j == nil {
		return false
	}
	from, local := p.From.Addr().Unmap(), false
	for _, prefix := range j.prefixes {
		local = local || prefix.Contains(from)
		p.Own = p.Own || prefix.Addr() == from && !from.IsLoopback()
	}
	return local
}

// each calls send for every interface, with its addresses.
func (w *Wire) each(send func(index int, addresses []netip.Addr)) {
	w.mu.Lock()
	all := w.joined
	w.mu.Unlock()
	for index, j := range all {
		var addresses []netip.Addr
		for _, p := range j.prefixes {
			addresses = append(addresses, p.Addr())
		}
		send(index, addresses)
	}
}

// send sends a packet to the group on an interface. The source is named, since loopback has no
// route for multicast.
func (w *Wire) send(index int, source netip.Addr, packet []byte) error {
	_, err := w.conn.WriteTo(packet, &ipv4.ControlMessage{IfIndex: index, Src: source.AsSlice()}, w.group)
	return err
}

// reply sends a packet to one address.
func (w *Wire) reply(index int, to netip.AddrPort, packet []byte) error {
	_, err := w.conn.WriteTo(packet, &ipv4.ControlMessage{IfIndex: index}, net.UDPAddrFromAddrPort(to))
	return err
}

package dnssd

import (
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// take takes the records of a packet: first those that name instances and hosts, then what belongs
// to them.
func (b *Browser) take(now time.Time, records []dnsmessage.Resource) {
	b.mu.Lock()
	touched := map[string]bool{}
	for _, r := range records {
		if ptr, ok := r.Body.(*dnsmessage.PTRResource); ok && same(r.Header.Name, name(typeName(b.cfg.Type))) {
			b.pointer(now, ptr.PTR.String(), ttl(r), touched)
		}
	}
	for _, r := range records {
		i := b.instances[key(r.Header.Name)]
		if i == nil {
			continue
		}
		switch body := r.Body.(type) {
		case *dnsmessage.SRVResource:
			i.host, i.port = key(body.Target), body.Port
			i.refresh = now.Add(ttl(r) * 8 / 10)
			touched[key(r.Header.Name)] = true
		case *dnsmessage.TXTResource:
			i.text = texts(body)
			touched[key(r.Header.Name)] = true
		}
	}
	b.addresses(now, records, touched)
	changed, gone := b.outcome(now, touched)
	b.mu.Unlock()
	b.tell(changed, gone)
}

// ttl is how long a record is good for.
func ttl(r dnsmessage.Resource) time.Duration {
	return min(time.Duration(r.Header.TTL)*time.Second, otherTTL)
}

// pointer takes the name of an instance, or its goodbye. The lock is held.
func (b *Browser) pointer(now time.Time, full string, good time.Duration, touched map[string]bool) {
	label, ok := strings.CutSuffix(full, "."+typeName(b.cfg.Type))
	if !ok || label == "" {
		return
	}
	k := strings.ToLower(full)
	i := b.instances[k]
	if good == 0 {
		if i != nil {
			i.ends = now
			touched[k] = true
		}
		return
	}
	if i == nil {
		if !b.fresh.take(now) || len(b.instances) >= maxInstances && !b.forgetOne() {
			b.dropped++
			return
		}
		i = &instance{name: label, since: now, refresh: now.Add(hostTTL * 8 / 10)}
		b.instances[k] = i
	}
	i.ends = now.Add(good)
	touched[k] = true
}

// forgetOne forgets an instance that nobody wants; false if all are wanted. The lock is held.
func (b *Browser) forgetOne() bool {
	for k, i := range b.instances {
		if !i.wanted {
			delete(b.instances, k)
			b.forgetHost(i.host)
			if i.told != nil {
				b.forgotten = append(b.forgotten, i.name)
			}
			return true
		}
	}
	return false
}

// addresses takes the addresses of hosts on which instances are. The lock is held.
func (b *Browser) addresses(now time.Time, records []dnsmessage.Resource, touched map[string]bool) {
	for _, r := range records {
		var a netip.Addr
		switch body := r.Body.(type) {
		case *dnsmessage.AResource:
			a = netip.AddrFrom4(body.A)
		case *dnsmessage.AAAAResource:
			a = netip.AddrFrom16(body.AAAA)
		default:
			continue
		}
		k := key(r.Header.Name)
		wanted := false
		for name, i := range b.instances {
			if i.host == k {
				touched[name], wanted = true, true
			}
		}
		if !wanted {
			continue
		}
		h := b.hosts[k]
		if h == nil {
			h = &host{addresses: map[netip.Addr]span{}}
			b.hosts[k] = h
		}
		if r.Header.TTL == 0 {
			delete(h.addresses, a)
		} else if _, is := h.addresses[a]; is || len(h.addresses) < maxAddresses {
			h.addresses[a] = span{now, now.Add(ttl(r))}
		}
		if r.Header.Class&cacheFlush != 0 && r.Header.TTL > 0 {
			maps.DeleteFunc(h.addresses, func(_ netip.Addr, s span) bool { return now.Sub(s.heard) > flushAfter })
		}
	}
}

// outcome is what has changed of instances. The lock is held.
func (b *Browser) outcome(now time.Time, touched map[string]bool) (changed []Found, gone []string) {
	gone, b.forgotten = b.forgotten, nil
	for k := range touched {
		i := b.instances[k]
		if i == nil {
			continue
		}
		if !now.Before(i.ends) {
			delete(b.instances, k)
			b.forgetHost(i.host)
			if i.told != nil {
				gone = append(gone, i.name)
			}
			continue
		}
		s := Service{Instance: i.name, Type: b.cfg.Type, Host: i.host, Port: i.port, Text: i.text}
		if h := b.hosts[i.host]; h != nil {
			s.Addresses = slices.SortedFunc(maps.Keys(h.addresses), netip.Addr.Compare)
		}
		if i.host == "" || i.text == nil || len(s.Addresses) == 0 {
			continue // it is asked for
		}
		if i.told == nil || i.told.Port != s.Port || i.told.Host != s.Host || !maps.Equal(i.told.Text, s.Text) || !slices.Equal(i.told.Addresses, s.Addresses) {
			i.told = &s
			changed = append(changed, Found{Service: s, Since: i.since})
		}
	}
	return changed, gone
}

// forgetHost forgets a host on which no instance is any more. The lock is held.
func (b *Browser) forgetHost(name string) {
	for _, i := range b.instances {
		if i.host == name {
			return
		}
	}
	delete(b.hosts, name)
}

func (b *Browser) tell(changed []Found, gone []string) {
	for _, n := range gone { // first, so that there are never more than are kept
		b.cfg.Gone(n)
	}
	for _, f := range changed {
		wanted := b.cfg.Changed(f)
		b.mu.Lock()
		if i := b.instances[strings.ToLower(f.instanceName())]; i != nil {
			i.wanted = wanted
		}
		b.mu.Unlock()
	}
}

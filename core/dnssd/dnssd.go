// Package dnssd announces services on the local network and finds those of others, by DNS-Based
// Service Discovery (RFC 6763) over Multicast DNS (RFC 6762).
//
// A [Wire] is a socket on all suitable interfaces. A [Responder] announces services on it, a
// [Browser] finds those of one type. What comes from the network is bounded in rate, number and
// size, since anybody there may send anything.
//
// Names of instances that are announced here are random, so they are not probed for before
// they are used (RFC 6762, section 8.1).
package dnssd

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// Service is one instance of a service.
type Service struct {
	Instance string            // one label, such as "a81f…"
	Type     string            // such as "_earlybench._tcp"
	Host     string            // one label; the instance's if ""
	Port     uint16            //
	Text     map[string]string // RFC 6763, section 6
	// Addresses are where it is reached. One that is announced with none gets those of the
	// interface on which it is announced.
	Addresses []netip.Addr
}

// How long records are good for (RFC 6762, section 10).
const (
	hostTTL  = 120 * time.Second
	otherTTL = 75 * time.Minute
)

// cacheFlush says that a record replaces those that were sent before (RFC 6762, section 10.2).
const cacheFlush = 1 << 15

// What is taken from a packet, and from an instance.
const (
	maxPacket    = 9000 // bytes; RFC 6762, section 17
	maxRecords   = 256
	maxTexts     = 32
	maxAddresses = 16
)

func (s *Service) host() string         { return cmp.Or(s.Host, s.Instance) + ".local." }
func (s *Service) instanceName() string { return s.Instance + "." + typeName(s.Type) }

func typeName(t string) string { return t + ".local." }

// name makes a DNS name. One that is too long is an error of packing.
func name(s string) dnsmessage.Name {
	n, err := dnsmessage.NewName(s)
	if err != nil {
		return dnsmessage.Name{}
	}
	return n
}

// records are all records of a service, as it is announced with addresses; ttl 0 says goodbye
// (RFC 6762, section 10.1).
func (s *Service) records(addresses []netip.Addr, goodbye bool) []dnsmessage.Resource {
	header := func(of string, ttl time.Duration, class dnsmessage.Class) dnsmessage.ResourceHeader {
		if goodbye {
			ttl = 0
		}
		return dnsmessage.ResourceHeader{Name: name(of), Class: class, TTL: uint32(ttl.Seconds())}
	}
	const shared, unique = dnsmessage.ClassINET, dnsmessage.ClassINET | cacheFlush
	var texts []string
	for k, v := range s.Text {
		texts = append(texts, k+"="+v)
	}
	slices.Sort(texts)
	if len(texts) == 0 {
		texts = []string{""}
	}
	out := []dnsmessage.Resource{
		{Header: header(typeName(s.Type), otherTTL, shared), Body: &dnsmessage.PTRResource{PTR: name(s.instanceName())}},
		{Header: header(s.instanceName(), hostTTL, unique), Body: &dnsmessage.SRVResource{Port: s.Port, Target: name(s.host())}},
		{Header: header(s.instanceName(), otherTTL, unique), Body: &dnsmessage.TXTResource{TXT: texts}},
	}
	for _, a := range addresses {
		if a.Is4() {
			out = append(out, dnsmessage.Resource{Header: header(s.host(), hostTTL, unique), Body: &dnsmessage.AResource{A: a.As4()}})
		} else {
			out = append(out, dnsmessage.Resource{Header: header(s.host(), hostTTL, unique), Body: &dnsmessage.AAAAResource{AAAA: a.As16()}})
		}
	}
	return out
}

// response packs records as an unsolicited answer.
func response(records []dnsmessage.Resource) ([]byte, error) {
	m := dnsmessage.Message{Header: dnsmessage.Header{Response: true, Authoritative: true}, Answers: records}
	return m.Pack()
}

// parse reads a packet. A packet with more records than are taken is refused.
func parse(packet []byte) (h dnsmessage.Header, questions []dnsmessage.Question, records []dnsmessage.Resource, err error) {
	if len(packet) > maxPacket {
		return h, nil, nil, fmt.Errorf("a packet of %d bytes", len(packet))
	}
	var p dnsmessage.Parser
	if h, err = p.Start(packet); err != nil {
		return h, nil, nil, err
	}
	for {
		q, err := p.Question()
		if err == dnsmessage.ErrSectionDone { //nolint:errorlint // it is returned as it is
			break
		}
		if err != nil || len(questions) == maxRecords {
			return h, nil, nil, fmt.Errorf("questions: %w", cmp.Or(err, errTooMany))
		}
		questions = append(questions, q)
	}
	for _, section := range []struct {
		next func() (dnsmessage.ResourceHeader, error)
		read func() (dnsmessage.Resource, error)
		skip func() error
	}{{p.AnswerHeader, p.Answer, p.SkipAnswer}, {p.AuthorityHeader, p.Authority, p.SkipAuthority}, {p.AdditionalHeader, p.Additional, p.SkipAdditional}} {
		for {
			rh, err := section.next()
			if err == dnsmessage.ErrSectionDone { //nolint:errorlint // as above
				break
			}
			if err != nil || len(records) == maxRecords {
				return h, nil, nil, fmt.Errorf("records: %w", cmp.Or(err, errTooMany))
			}
			switch rh.Type {
			case dnsmessage.TypeA, dnsmessage.TypeAAAA, dnsmessage.TypePTR, dnsmessage.TypeSRV, dnsmessage.TypeTXT:
				r, err := section.read()
				if err != nil {
					return h, nil, nil, fmt.Errorf("records: %w", err)
				}
				records = append(records, r)
			default:
				if err := section.skip(); err != nil {
					return h, nil, nil, fmt.Errorf("records: %w", err)
				}
			}
		}
	}
	return h, questions, records, nil
}

var errTooMany = fmt.Errorf("there are more than %d", maxRecords)

// texts reads the strings of a TXT record. Of a key that comes twice the first counts
// (RFC 6763, section 6.4).
func texts(t *dnsmessage.TXTResource) map[string]string {
	out := map[string]string{}
	for _, s := range t.TXT[:min(len(t.TXT), maxTexts)] {
		k, v, _ := strings.Cut(s, "=")
		k = strings.ToLower(k)
		if _, twice := out[k]; k != "" && !twice {
			out[k] = v
		}
	}
	return out
}

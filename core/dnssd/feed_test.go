package dnssd

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"
)

// Silent is a browser without a wire, for tests.
func Silent(kind string) *Browser {
	now := time.Now()
	return &Browser{cfg: BrowserConfig{Type: kind, Changed: func(Found) bool { return false }, Gone: func(string) {}}, instances: map[string]*instance{}, hosts: map[string]*host{},
		packets: budget{maxPackets, maxPackets, now}, fresh: budget{maxNew, maxNew, now}}
}

// Feed has it take a packet.
func (b *Browser) Feed(packet []byte) {
	if _, _, records, err := parse(packet); err == nil {
		b.take(time.Now(), records)
	}
}

func TestNamesTextsAndAddressesAreBounded(t *testing.T) {
	b := Silent("_lamp._tcp")
	var got Found
	b.cfg.Changed = func(f Found) bool { got = f; return false }
	s := Service{Instance: "one", Type: "_lamp._tcp", Port: 1, Text: map[string]string{}}
	var addresses []netip.Addr
	for n := range 100 {
		s.Text[string(rune('a'+n%26))+string(rune('a'+n/26))] = "x"
		addresses = append(addresses, netip.AddrFrom4([4]byte{10, 0, 0, byte(n)}))
	}
	packet, err := response(s.records(addresses, false))
	require.NoError(t, err)
	b.Feed(packet)
	require.Len(t, got.Addresses, maxAddresses)
	require.LessOrEqual(t, len(got.Text), maxTexts)
	for range 3 * maxInstances {
		s.Instance += "x"
		if len(s.Instance) > 60 {
			s.Instance = string(rune('a'+len(b.instances)%26)) + time.Now().Format("150405.000000000")
		}
		if packet, err = response(s.records(addresses[:1], false)); err == nil {
			b.fresh.left = maxNew
			b.Feed(packet)
		}
	}
	require.LessOrEqual(t, len(b.instances), maxInstances)
	require.LessOrEqual(t, len(b.hosts), maxInstances)
}

func TestAnInstanceThatIsNotHeardAgainIsForgotten(t *testing.T) {
	b := Silent("_lamp._tcp")
	told := map[string]bool{}
	b.cfg.Changed = func(f Found) bool { told[f.Instance] = true; return true }
	s := Service{Instance: "one", Type: "_lamp._tcp", Port: 1}
	packet, err := response(s.records([]netip.Addr{netip.MustParseAddr("10.0.0.1")}, false))
	require.NoError(t, err)
	b.Feed(packet)
	require.True(t, told["one"])
	later := time.Now().Add(otherTTL + time.Second)
	_, gone := b.outcome(later, map[string]bool{"one._lamp._tcp.local.": true})
	require.Equal(t, []string{"one"}, gone)
	require.Empty(t, b.hosts)
}

func TestRecordsThatAreNotAskedForAreSkipped(t *testing.T) {
	m := dnsmessage.Message{Header: dnsmessage.Header{Response: true}, Answers: []dnsmessage.Resource{
		{Header: dnsmessage.ResourceHeader{Name: name("x.local."), Class: dnsmessage.ClassINET}, Body: &dnsmessage.MXResource{MX: name("y.local.")}}}}
	packet, err := m.Pack()
	require.NoError(t, err)
	_, _, records, err := parse(packet)
	require.NoError(t, err)
	require.Empty(t, records)
}

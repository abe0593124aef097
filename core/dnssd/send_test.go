package dnssd_test

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/net/ipv4"
)

// sendTo returns a function that sends packets to a group on loopback.
func sendTo(t testing.TB, group netip.AddrPort) func(c net.PacketConn, packet []byte) {
	t.Helper()
	lo, err := net.InterfaceByName("lo")
	require.NoError(t, err)
	return func(c net.PacketConn, packet []byte) {
		ipv4.NewPacketConn(c).WriteTo(packet, &ipv4.ControlMessage{IfIndex: lo.Index, Src: net.IPv4(127, 0, 0, 1)}, net.UDPAddrFromAddrPort(group))
	}
}

// announcement is one of a lamp.
func announcement(t testing.TB, instance string) []byte {
	t.Helper()
	name := dnsmessage.MustNewName
	header := func(of string) dnsmessage.ResourceHeader {
		return dnsmessage.ResourceHeader{Name: name(of), Class: dnsmessage.ClassINET, TTL: 120}
	}
	m := dnsmessage.Message{Header: dnsmessage.Header{Response: true, Authoritative: true}, Answers: []dnsmessage.Resource{
		{Header: header("_lamp._tcp.local."), Body: &dnsmessage.PTRResource{PTR: name(instance + "._lamp._tcp.local.")}},
		{Header: header(instance + "._lamp._tcp.local."), Body: &dnsmessage.SRVResource{Port: 9, Target: name(instance + ".local.")}},
		{Header: header(instance + "._lamp._tcp.local."), Body: &dnsmessage.TXTResource{TXT: []string{"v=1"}}},
		{Header: header(instance + ".local."), Body: &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}}}}}
	packet, err := m.Pack()
	require.NoError(t, err)
	return packet
}

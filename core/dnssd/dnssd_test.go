package dnssd_test

import (
	"fmt"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/net/dns/dnsmessage"

	"earlybench.invalid/earlybench/core/dnssd"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// ownGroup is a group at a port that no other test uses.
func ownGroup(t *testing.T) netip.AddrPort {
	t.Helper()
	c, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer c.Close()
	return netip.AddrPortFrom(dnssd.Group.Addr(), uint16(c.LocalAddr().(*net.UDPAddr).Port))
}

// heard is what a browser has heard.
type heard struct {
	*dnssd.Browser
	mu  sync.Mutex
	now map[string]dnssd.Found
	n   int // how often something changed
}

func browse(t *testing.T, group netip.AddrPort, kind string) *heard {
	t.Helper()
	wire, err := dnssd.Listen(group)
	require.NoError(t, err)
	h := &heard{now: map[string]dnssd.Found{}}
	h.Browser = dnssd.Browse(wire, dnssd.BrowserConfig{Type: kind,
		Changed: func(f dnssd.Found) bool {
			h.mu.Lock()
			defer h.mu.Unlock()
			h.now[f.Instance] = f
			h.n++
			return f.Text["keep"] != ""
		},
		Gone: func(name string) { h.mu.Lock(); defer h.mu.Unlock(); delete(h.now, name) }})
	t.Cleanup(func() { h.Close() })
	return h
}

func (h *heard) get(name string) (dnssd.Found, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	f, ok := h.now[name]
	return f, ok
}

func (h *heard) count() int { h.mu.Lock(); defer h.mu.Unlock(); return len(h.now) }

func respond(t *testing.T, group netip.AddrPort) *dnssd.Responder {
	t.Helper()
	wire, err := dnssd.Listen(group)
	require.NoError(t, err)
	r := dnssd.Respond(wire)
	t.Cleanup(func() { r.Close() })
	return r
}

func lamp(instance string, port uint16) dnssd.Service {
	return dnssd.Service{Instance: instance, Type: "_lamp._tcp", Port: port, Addresses: []netip.Addr{netip.MustParseAddr("127.0.0.1")}, Text: map[string]string{"v": "1", "family": "wick"}}
}

const patience = 10 * time.Second

func TestAServiceIsHeardFromItsAnnouncementToItsGoodbye(t *testing.T) {
	group := ownGroup(t)
	h, r := browse(t, group, "_lamp._tcp"), respond(t, group)
	withdraw, err := r.Publish(lamp("one", 4711))
	require.NoError(t, err)
	require.Eventually(t, func() bool { _, ok := h.get("one"); return ok }, patience, time.Millisecond)
	f, _ := h.get("one")
	require.Equal(t, uint16(4711), f.Port)
	require.Equal(t, map[string]string{"v": "1", "family": "wick"}, f.Text)
	require.Equal(t, []netip.Addr{netip.MustParseAddr("127.0.0.1")}, f.Addresses)
	withdraw()
	require.Eventually(t, func() bool { return h.count() == 0 }, patience, time.Millisecond)
}

func TestAServiceThatWasThereBeforeAnswersTheFirstQuestion(t *testing.T) {
	group := ownGroup(t)
	r := respond(t, group)
	for n := range 30 {
		_, err := r.Publish(lamp(fmt.Sprint("n", n), uint16(5000+n)))
		require.NoError(t, err)
	}
	time.Sleep(1200 * time.Millisecond) // until the last announcement was sent
	began := time.Now()
	h := browse(t, group, "_lamp._tcp")
	require.Eventually(t, func() bool { return h.count() == 30 }, patience, time.Millisecond)
	require.Less(t, time.Since(began), 5*time.Second)
	other := browse(t, group, "_kettle._tcp")
	time.Sleep(300 * time.Millisecond)
	require.Zero(t, other.count(), "of another type")
}

func TestAServiceWhosePortOrTextHasChangedIsToldAgain(t *testing.T) {
	group := ownGroup(t)
	h, r := browse(t, group, "_lamp._tcp"), respond(t, group)
	withdraw, err := r.Publish(lamp("one", 1))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return h.count() == 1 }, patience, time.Millisecond)
	withdraw()
	next := lamp("one", 2)
	next.Text["family"] = "tarn"
	_, err = r.Publish(next)
	require.NoError(t, err)
	require.Eventually(t, func() bool { f, _ := h.get("one"); return f.Port == 2 && f.Text["family"] == "tarn" }, patience, time.Millisecond)
}

func TestAQuestionOfSomebodyWithoutMulticastIsAnsweredDirectly(t *testing.T) {
	group := ownGroup(t)
	r := respond(t, group)
	_, err := r.Publish(lamp("one", 4711))
	require.NoError(t, err)
	c, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer c.Close()
	q := dnsmessage.Message{Header: dnsmessage.Header{ID: 77}, Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName("_lamp._tcp.local."), Type: dnsmessage.TypePTR, Class: dnsmessage.ClassINET}}}
	packet, err := q.Pack()
	require.NoError(t, err)
	sender := sendTo(t, group)
	go func() {
		for range 20 {
			sender(c, packet)
			time.Sleep(50 * time.Millisecond)
		}
	}()
	require.NoError(t, c.SetReadDeadline(time.Now().Add(patience)))
	buffer := make([]byte, 9000)
	n, _, err := c.ReadFrom(buffer)
	require.NoError(t, err)
	var answer dnsmessage.Message
	require.NoError(t, answer.Unpack(buffer[:n]))
	require.Equal(t, uint16(77), answer.ID)
	require.Len(t, answer.Questions, 1)
	require.LessOrEqual(t, answer.Answers[0].Header.TTL, uint32(10))
}

func TestAFloodOfAnnouncementsCostsLittleAndTheWantedOnesStay(t *testing.T) {
	group := ownGroup(t)
	h, r := browse(t, group, "_lamp._tcp"), respond(t, group)
	kept := lamp("mine", 4711)
	kept.Text["keep"] = "yes"
	_, err := r.Publish(kept)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return h.count() == 1 }, patience, time.Millisecond)
	c, err := net.ListenPacket("udp4", group.String()) // from the port of the group, as others announce
	require.NoError(t, err)
	defer c.Close()
	send := sendTo(t, group)
	for n := range 20_000 {
		send(c, announcement(t, fmt.Sprint("bogus-", n)))
		if n%20 == 0 {
			time.Sleep(2 * time.Millisecond) // 10,000 a second
		}
	}
	require.LessOrEqual(t, h.count(), 1000)
	require.Positive(t, h.Dropped())
	_, ok := h.get("mine")
	require.True(t, ok)
}

func FuzzPackets(f *testing.F) {
	f.Add(announcement(f, "one"))
	f.Add([]byte{0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0xc0, 0x0c, 0, 12, 0, 1, 0, 0, 0, 9, 0, 2, 0xc0, 0x0c})
	f.Add([]byte{})
	b := dnssd.Silent("_lamp._tcp")
	f.Fuzz(func(t *testing.T, packet []byte) { b.Feed(packet) })
}

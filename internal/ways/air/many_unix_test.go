//go:build unix

package air_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"runtime"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/net/dns/dnsmessage"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// plainDevice is a device that admits anybody, and says nothing.
type plainDevice struct{}

func (plainDevice) Admission(string) device.Admittance {
	return device.Admittance{State: device.Admitted, For: "until withdrawn"}
}
func (plainDevice) Ask(_ context.Context, _ device.Visitor, report func(device.Admittance)) {
	report(device.Admittance{State: device.Admitted})
}
func (plainDevice) Introduce(device.Visitor) (link.Introduced, error) {
	return nil, link.ErrNotIntroduced
}
func (plainDevice) Control(ctx context.Context, method string, _ json.RawMessage, notify func(string, any) error) (any, error) {
	if method == link.MethodFactsFollow {
		if err := notify(link.MethodFactsAll, nil); err != nil {
			return nil, err
		}
		<-ctx.Done()
	}
	return nil, nil
}
func (plainDevice) Files() sftp.Handlers { return sftp.InMemHandler() }
func (plainDevice) Screen() rfb.Source   { return nil }

// crowd is many devices that are known to a bench, not announced yet.
func crowd(b *benchtest.Bench, n int) (services []dnssd.Service) {
	b.T.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	var serving sync.WaitGroup
	b.T.Cleanup(func() { cancel(); serving.Wait() })
	for i := range n {
		_, own, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(b.T, err)
		key, err := ssh.NewSignerFromKey(own)
		require.NoError(b.T, err)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(b.T, err)
		b.T.Cleanup(func() { l.Close() })
		serving.Go(func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				serving.Go(func() { link.Serve(ctx, c, key, plainDevice{}) })
			}
		})
		fingerprint := ssh.FingerprintSHA256(key.PublicKey())
		_, err = b.Rack.Introduced(b.T.Context(), fingerprint, introduction.Description{Family: "wick", Model: "W2", Serial: fmt.Sprint("W ", i)}, "")
		require.NoError(b.T, err)
		services = append(services, dnssd.Service{Instance: link.AnnouncementName(fingerprint), Type: link.ServiceType, Port: l.Addr().(*net.TCPAddr).AddrPort().Port(),
			Addresses: []netip.Addr{netip.MustParseAddr("127.0.0.1")}, Text: map[string]string{link.TextVersion: link.AnnouncementVersion, link.TextFamily: "wick"}})
	}
	return services
}

func linked(b *benchtest.Bench) (n int) {
	for _, k := range b.Rack.All() {
		if k.Session() != nil {
			n++
		}
	}
	return n
}

// used is the time that this process has computed.
func used(t *testing.T) time.Duration {
	var r syscall.Rusage
	require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &r))
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

func TestTwoHundredDevicesThatAnnounceThemselvesAtOnceAreLinkedSoonAndCostLittle(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	services := crowd(b, 200)
	wire, err := dnssd.Listen(group)
	require.NoError(t, err)
	r := dnssd.Respond(wire)
	t.Cleanup(func() { r.Close() })
	began := time.Now()
	for _, s := range services {
		_, err := r.Publish(s)
		require.NoError(t, err)
	}
	b.Eventually("all are heard", func() bool { return len(b.Air.List()) == len(services) })
	heardAfter := time.Since(began)
	b.Eventually("all are linked", func() bool { return linked(b) == len(services) })
	linkedAfter := time.Since(began)
	time.Sleep(3 * time.Second) // until what comes of it is over
	before, since := used(t), time.Now()
	time.Sleep(4 * time.Second)
	share := float64(used(t)-before) / float64(time.Since(since))
	t.Logf("200 devices: heard after %s, linked after %s; at rest %.1f %% of a core, with both sides", heardAfter.Round(time.Millisecond), linkedAfter.Round(time.Millisecond), 100*share)
	require.Less(t, heardAfter, 5*time.Second)
	require.Less(t, linkedAfter, 5*time.Second)
	require.Less(t, share, 0.1, "with both sides, in one process")
}

// bogus is the packet of an announcement that nobody has made.
func bogus(t *testing.T, n int) []byte {
	t.Helper()
	name := dnsmessage.MustNewName(fmt.Sprintf("%032x.%s.local.", n, link.ServiceType))
	class := dnsmessage.ResourceHeader{Class: dnsmessage.ClassINET, TTL: 120}
	header := func(of dnsmessage.Name, kind dnsmessage.Type) dnsmessage.ResourceHeader {
		h := class
		h.Name, h.Type = of, kind
		return h
	}
	host := dnsmessage.MustNewName(fmt.Sprintf("%032x.local.", n))
	m := dnsmessage.Message{Header: dnsmessage.Header{Response: true, Authoritative: true}, Answers: []dnsmessage.Resource{
		{Header: header(dnsmessage.MustNewName(link.ServiceType+".local."), dnsmessage.TypePTR), Body: &dnsmessage.PTRResource{PTR: name}},
		{Header: header(name, dnsmessage.TypeSRV), Body: &dnsmessage.SRVResource{Port: 9, Target: host}},
		{Header: header(name, dnsmessage.TypeTXT), Body: &dnsmessage.TXTResource{TXT: []string{"v=1", "family=wick"}}},
		{Header: header(host, dnsmessage.TypeA), Body: &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}}},
	}}
	raw, err := m.Pack()
	require.NoError(t, err)
	return raw
}

// heap is how much the program holds.
func heap() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// Ten thousand bogus announcements a second, against a whole bench.
func TestBogusAnnouncementsHarmNoKnownDevice(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	k := introduce(b, w, "")
	s := b.Linked(k)
	b.First(k, "registered")
	before := heap()
	seconds := 2
	if os.Getenv("SOAK") != "" {
		seconds = 10
	}
	c, err := net.ListenPacket("udp4", group.String()) // from the port of the group, as others announce
	require.NoError(t, err)
	defer c.Close()
	var packets [][]byte
	for n := range 20_000 {
		packets = append(packets, bogus(t, n))
	}
	began, sent, slowest := time.Now(), 0, time.Duration(0)
	for ; time.Since(began) < time.Duration(seconds)*time.Second; sent++ {
		if ahead := time.Duration(sent)*100*time.Microsecond - time.Since(began); ahead > 0 {
			time.Sleep(ahead)
		}
		c.WriteTo(packets[sent%len(packets)], net.UDPAddrFromAddrPort(group))
		if sent%1000 == 0 {
			asked := time.Now()
			require.NoError(t, s.Find(t.Context(), k.Device().Handle), "the known one answers")
			slowest = max(slowest, time.Since(asked))
		}
	}
	listed, grown := len(b.Air.List()), int64(heap())-int64(before)
	t.Logf("%d announcements in %s: %d listed, %.1f MB more held, a call took %s at most", sent, time.Since(began).Round(time.Millisecond), listed, float64(grown)/1e6, slowest.Round(time.Millisecond))
	require.Greater(t, sent, seconds*2000, "on a slow machine")
	require.Greater(t, listed, 100, "they were heard")
	require.LessOrEqual(t, listed, 1001)
	require.Less(t, grown, int64(32<<20))
	require.Equal(t, s, k.Session(), "its session stands")
}

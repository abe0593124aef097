package test

import (
	"context"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// line passes connections on to a service, at a rate that all of them share, and counts what
// the service sends.
type line struct {
	net.Listener
	to   string
	rate float64 // bytes a second
	sent atomic.Int64

	mu   sync.Mutex
	free time.Time // when the line is free again
	work sync.WaitGroup
	ctx  context.Context // ends with the test
}

func newLine(t *testing.T, to string, rate float64) *line {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &line{Listener: l, to: to, rate: rate}
	var end context.CancelFunc
	p.ctx, end = context.WithCancel(context.Background())
	p.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			p.work.Go(func() { p.pass(c) })
		}
	})
	t.Cleanup(func() { end(); l.Close(); p.work.Wait() })
	return p
}

func (p *line) pass(c net.Conn) {
	defer c.Close()
	s, err := net.Dial("tcp", p.to)
	if err != nil {
		return
	}
	defer s.Close()
	defer context.AfterFunc(p.ctx, func() { c.Close(); s.Close() })()
	c.(*net.TCPConn).SetWriteBuffer(64 << 10) // as on a line, little is on its way
	s.(*net.TCPConn).SetReadBuffer(64 << 10)
	go func() {
		io.Copy(s, c)
		s.Close()
	}()
	buf := make([]byte, 16<<10)
	for {
		n, err := s.Read(buf)
		if n > 0 {
			p.wait(n)
			p.sent.Add(int64(n))
			if _, err := c.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// wait waits until the line has carried n bytes.
func (p *line) wait(n int) {
	p.mu.Lock()
	if now := time.Now(); p.free.Before(now) {
		p.free = now
	}
	p.free = p.free.Add(time.Duration(float64(n) / p.rate * 1e9))
	until := p.free
	p.mu.Unlock()
	time.Sleep(time.Until(until))
}

// TestAFetchThatIsKilledGoesOnAtTheByte kills the service at random moments of a fetch: three
// times in one of 19 MB, or in an hour's soak 20 times in one of 380 MB on a line of 30 MB/s. The
// digest is right in the end, and little was fetched twice.
func TestAFetchThatIsKilledGoesOnAtTheByte(t *testing.T) {
	kills, smaller, rate := 3, "20", 6e6
	if n := soaked(t, kills, 20); n > 10 {
		kills, smaller, rate = n, "1", 30e6
	}
	d := startDemoIn(t, t.TempDir(), "--smaller", smaller)
	d.ok("standin", "depot", "well")
	d.ok("depot", "drop", "upland-depot")
	p := newLine(t, strings.TrimSuffix(strings.TrimPrefix(d.at.Depot, "https://"), "/"), rate)
	address := "https://" + p.Addr().String() + "/"
	found, err := d.api.LookAtDepot(context.Background(), address)
	require.NoError(t, err)
	_, err = d.api.AddDepot(context.Background(), client.NewDepot{URL: address, Accept: found.Accept})
	require.NoError(t, err)
	var pack client.SupportPack
	d.eventually("the pack is needed", func() bool {
		n, err := d.api.Needs(context.Background())
		for _, k := range n.Packs {
			if k.Release == "6.2" {
				pack = k
			}
		}
		return err == nil && pack.Size > 0
	})
	before := p.sent.Load()
	jobs, err := d.api.FetchNeeds(context.Background(), pack.Accept)
	require.NoError(t, err)
	whole := time.Duration(float64(pack.Size) / rate * 1e9)
	for n := range kills {
		time.Sleep(whole/time.Duration(2*kills) + time.Duration(rand.Int64N(int64(whole)/int64(2*kills))))
		bench := processOf(t, d.cmd.Process.Pid, "serve")
		require.NotZero(t, bench)
		require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))
		d.eventually("the service answers again", func() bool {
			_, err := d.api.Bench(context.Background())
			return err == nil && processOf(t, d.cmd.Process.Pid, "serve") != bench
		})
		_, err := d.api.Job(context.Background(), jobs[0].ID)
		require.NoError(t, err, "kill %d", n)
		t.Logf("kill %d at %s, %d bytes", n, time.Now().Format("05.000"), p.sent.Load())
	}
	require.Eventually(t, func() bool {
		j, err := d.api.Job(context.Background(), jobs[0].ID)
		return err == nil && j.Ended != nil
	}, whole+patience, 50*time.Millisecond)
	j, err := d.api.Job(context.Background(), jobs[0].ID)
	require.NoError(t, err)
	require.Equal(t, "done", j.State, "%+v", j.Error)
	t.Logf("done at %s", time.Now().Format("05.000"))
	packs, err := d.api.SupportPacks(context.Background(), client.Select{Where: `support.digest == "` + pack.Digest + `"`})
	require.NoError(t, err)
	require.True(t, packs[0].Here)
	sent := p.sent.Load() - before
	row(t, "kills in a fetch", kills, "%d bytes of a file of %d: %.3f times", sent, pack.Size, float64(sent)/float64(pack.Size))
	require.LessOrEqual(t, float64(sent), 1.1*float64(pack.Size)+float64(kills)*1e6, "little was fetched twice: with each kill, what the kernel had taken and the bench not yet")
}

package ways_test

import (
	"context"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/internal/ways"
	"earlybench.invalid/earlybench/standin/bodies"
	"earlybench.invalid/earlybench/standin/body"
)

// stream is a way that nobody else knows: the device link over a plain TCP stream.
type stream struct {
	address string
	key     ssh.Signer
}

func TestMain(m *testing.M) { leaks.None(m) }

func (s *stream) Kind() ways.Kind   { return "stream" }
func (s *stream) Place() ways.Place { return ways.Place{Port: s.address} }
func (s *stream) Scope() string     { return "stream:" + s.address }
func (s *stream) Pins() bool        { return true }

func (s *stream) Run(ctx context.Context, to ways.Sink) error {
	see := func(k fact.Key, src fact.Source) fact.Fact {
		return fact.Fact{Key: k, Value: fact.Of(true), Source: src}
	}
	to.Observe(see(fact.USBPresent, fact.Bus), see(fact.USBLink, fact.Bus), see(fact.DriverBound, fact.Host))
	for ctx.Err() == nil {
		if err := s.link(ctx, to); err != nil && ctx.Err() == nil {
			to.Down(err)
		}
		if clock.Sleep(ctx, clock.System{}, 20*time.Millisecond) != nil {
			break
		}
	}
	return nil
}

func (s *stream) link(ctx context.Context, to ways.Sink) error {
	c, err := net.Dial("tcp", s.address)
	if err != nil {
		return err
	}
	over, err := link.OpenStream(c, rand.Uint64())
	if err != nil {
		return err
	}
	session, err := link.Dial(ctx, over, s.key, func(key string) error { return to.Proven(ctx, key) })
	if err != nil {
		return err
	}
	defer session.Close()
	to.Up(session)
	select {
	case <-ctx.Done():
	case <-session.Done():
	}
	return nil
}

// serve serves a stand-in handset's link on loopback.
func serve(t *testing.T) (*body.Body, string) {
	t.Helper()
	specs, err := body.LoadSpecs(bodies.Files)
	require.NoError(t, err)
	b, err := body.New(body.Config{Name: "heron-2", Spec: specs["halden"], Model: "H4", Serial: "HH4 0077 3C1E", Dir: t.TempDir(), Clock: clock.System{},
		Begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"}}})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var serving sync.WaitGroup
	serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			serving.Go(func() { b.ServeLink(ctx, c) })
		}
	})
	t.Cleanup(func() { cancel(); l.Close(); serving.Wait(); b.Close() })
	return b, l.Addr().String()
}

func TestAWayOfATestsOwnTakesADeviceFromUnknownToTried(t *testing.T) {
	b := benchtest.New(t)
	handset, address := serve(t)
	k, err := b.Rack.Resolve(t.Context(), rack.Claim{USB: "f3e0:0104", Serial: "HH4 0077 3C1E", Address: address})
	require.NoError(t, err)
	k.Reach(&stream{address: address, key: b.Keys.Link})
	b.First(k, "admitted")

	asked := make(chan error, 1)
	go func() { _, err := b.Ask(t.Context(), k); asked <- err }()
	b.Eventually("somebody says yes", func() bool { return handset.Touch("Until withdrawn") == nil })
	require.NoError(t, <-asked)
	b.First(k, "")
	b.Linked(k)
	require.Equal(t, ways.Kind("stream"), b.Look(k).Ways[0].Kind)

	_, err = b.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, false))
	require.NoError(t, err)
	j, err := b.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/callout", Devices: []string{"heron-1"}, Try: true})
	require.NoError(t, err)
	done := b.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.Equal(t, "open", string(b.Outlook.Look(k, "fellgate/callout").Readiness.Gate("tried").State))
}

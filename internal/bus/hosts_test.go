package bus_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/store"
)

// sink keeps the newest bus.
type sink struct {
	mu  sync.Mutex
	bus hostlink.Bus
}

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func (s *sink) Bus(_ context.Context, _ store.Host, b hostlink.Bus) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.bus = b
}

func (s *sink) devices() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.bus.Devices)
}

// serve answers the host protocol at an address until its end.
func serve(t *testing.T, address string, version int) (at string, end func()) {
	t.Helper()
	network, path := "tcp", address
	if p, ok := strings.CutPrefix(address, "unix:"); ok {
		network, path = "unix", p
	}
	l, err := net.Listen(network, path)
	require.NoError(t, err)
	var conns sync.WaitGroup
	var mu sync.Mutex
	var open []*rpc.Conn
	conns.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			conn := rpc.New(c, func(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
				switch method {
				case hostlink.MethodHello:
					return hostlink.Hello{Name: "loft", Version: version}, nil
				case hostlink.MethodWatch:
					return hostlink.Bus{Devices: []hostlink.Device{{BusID: "1-1"}}}, nil
				case hostlink.MethodDriverOffer, hostlink.MethodDriverPiece:
					return hostlink.Have{}, nil // whatever it is sent
				}
				return rpc.NoMethod(ctx, c, method, params)
			})
			mu.Lock()
			open = append(open, conn)
			mu.Unlock()
		}
	})
	if network == "unix" {
		at = "unix:" + l.Addr().String()
	} else {
		at = l.Addr().String()
	}
	return at, func() {
		l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range open {
			c.Close()
		}
		conns.Wait()
	}
}

// Lost forgets what was there.
func (s *sink) Lost(ctx context.Context, h store.Host) { s.Bus(ctx, h, hostlink.Bus{}) }

func watch(t *testing.T, at string) (*bus.Hosts, *sink) {
	t.Helper()
	s := &sink{}
	h := bus.New(s, func(string) {}, nil, slog.New(slog.DiscardHandler))
	t.Cleanup(h.Close)
	h.Watch(store.Host{Name: "loft", Control: at})
	return h, s
}

func eventually(t *testing.T, f func() bool) {
	t.Helper()
	require.Eventually(t, f, 20*time.Second, 5*time.Millisecond)
}

func TestAHostThatGoesAwayIsWatchedAgainWhenItComesBack(t *testing.T) {
	at, end := serve(t, "127.0.0.1:0", 1)
	h, s := watch(t, at)
	eventually(t, func() bool { return s.devices() == 1 && h.Trouble("loft") == nil })
	end()
	eventually(t, func() bool { return s.devices() == 0 && h.Trouble("loft") != nil })
	_, end = serve(t, at, 1)
	defer end()
	eventually(t, func() bool { return s.devices() == 1 })
	h.Forget("loft")
	require.Zero(t, s.devices(), "what hung there is gone with it")
	require.ErrorContains(t, h.Trouble("loft"), "not watched")
}

func TestAHostThatNeverHasMoreOfTheFileIsGivenUp(t *testing.T) {
	at, end := serve(t, "127.0.0.1:0", 1)
	defer end()
	h, s := watch(t, at)
	eventually(t, func() bool { return s.devices() == 1 })
	file := filepath.Join(t.TempDir(), "drivers.zip")
	require.NoError(t, os.WriteFile(file, make([]byte, 1000), 0o600))
	_, err := h.Install(t.Context(), "loft", "d", file, func(int64) { require.Fail(t, "nothing was carried") })
	require.EqualError(t, err, "carry the driver set to loft: the host has 0 bytes of the file after a piece at 0 of 1000")
}

func TestAHostThatCannotBeSpokenToSaysWhy(t *testing.T) {
	at, end := serve(t, "127.0.0.1:0", 2)
	defer end()
	h, s := watch(t, at)
	eventually(t, func() bool {
		err := h.Trouble("loft")
		return err != nil && err.Error() == "host loft speaks version 2 of the host protocol, this bench 1"
	})
	require.Zero(t, s.devices())
	_, err := h.Install(t.Context(), "loft", "d", "f", nil)
	require.ErrorContains(t, err, "host loft cannot be reached")
	_, err = h.Install(t.Context(), "attic", "d", "f", nil)
	require.ErrorIs(t, err, store.ErrNotFound)

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n"))
			c.Close()
		}
	}()
	h.Watch(store.Host{Name: "loft", Control: l.Addr().String()})
	eventually(t, func() bool { return h.Trouble("loft") != nil })
	require.Zero(t, s.devices())
}

func TestWhetherSomebodyElseCanBeAtTheOtherEnd(t *testing.T) {
	for name, c := range map[string]struct {
		host store.Host
		want bool
	}{
		"this computer":                      {store.Host{USBIP: "127.0.0.1:3240"}, true},
		"this computer by its name":          {store.Host{USBIP: "localhost:3240"}, true},
		"this computer, IPv6":                {store.Host{USBIP: "[::1]:3240"}, true},
		"a socket on this computer":          {store.Host{USBIP: "unix:/run/attic/usbip"}, true},
		"a network":                          {store.Host{USBIP: "192.0.2.7:3240"}, false},
		"a name of a network":                {store.Host{USBIP: "attic.example:3240"}, false},
		"a name that only begins like it":    {store.Host{USBIP: "localhost.example:3240"}, false},
		"a server whose key was accepted":    {store.Host{USBIP: "192.0.2.7:3240", SSH: "ssh://ines@192.0.2.7", SSHKey: "SHA256:x"}, true},
		"a host that exports nothing at all": {store.Host{Control: "127.0.0.1:1"}, false},
	} {
		require.Equal(t, c.want, bus.Private(c.host), name)
	}
}

func TestAHostIsReachedByASocket(t *testing.T) {
	at, end := serve(t, "unix:"+filepath.Join(t.TempDir(), "control"), 1)
	defer end()
	_, s := watch(t, at)
	eventually(t, func() bool { return s.devices() == 1 })
}

// What keeps a host from being reached is told, also where it was not reached before.
func TestWhyAHostIsNotReachedIsToldEachTimeItIsAnother(t *testing.T) {
	told := make(chan string, 100)
	h := bus.New(&sink{}, func(name string) { told <- name }, nil, slog.New(slog.DiscardHandler))
	defer h.Close()
	dir := t.TempDir()
	h.WatchLocal(store.Host{Name: "moor-desk"}, bus.Local{Sys: dir})
	require.ErrorContains(t, h.Trouble("moor-desk"), "this computer shows no USB", "it was looked at")
	require.Equal(t, "moor-desk", <-told)
	h.Watch(store.Host{Name: "loft", Control: "unix:" + filepath.Join(dir, "nothing.sock")})
	require.Equal(t, "loft", <-told)
	require.ErrorContains(t, h.Trouble("loft"), "reach host loft")
}

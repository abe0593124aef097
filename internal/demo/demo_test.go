package demo

import (
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/standin/depot"
)

func TestMain(m *testing.M) { leaks.None(m) }

func TestThePortsFollowEachOtherAndOneThatIsTakenIsNamed(t *testing.T) {
	ports, err := choosePorts(0)
	require.NoError(t, err)
	require.Equal(t, [10]int{}, ports)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	taken := l.Addr().(*net.TCPAddr).Port
	_, err = choosePorts(taken)
	p, ok := errors.AsType[*service.PortTaken](err)
	require.True(t, ok)
	require.Equal(t, taken, p.Port)
	require.Contains(t, p.By, "demo.test (process ")
}

func TestTheScenarioHasOneReadyHandsetAndOneBrandNewOfAnotherModel(t *testing.T) {
	keys, err := depot.ReadKeys(t.TempDir(), publisher)
	require.NoError(t, err)
	made := sets{t.TempDir(), keys}
	sc, offered, err := scenario(Config{State: t.TempDir(), Few: true}, [10]int{0, 1, 2, 3}, netip.AddrPort{}, client.Bench{Name: "moor-desk", Fingerprint: "SHA256:x"}, made, nil)
	require.NoError(t, err)
	require.Len(t, sc.Bodies, 2)
	require.Equal(t, map[string]string{"SHA256:x": "moor-desk"}, sc.Bodies[0].Begin.Admits)
	require.Nil(t, sc.Bodies[1].Begin)
	require.NotEqual(t, sc.Bodies[0].Model, sc.Bodies[1].Model)
	s, err := driver.Open(strings.NewReader(string(offered)), int64(len(offered)))
	require.NoError(t, err)
	require.Equal(t, "f3e0:0104", s.About.Fits[0].USB)
	again, err := made.file(heron4Set)
	require.NoError(t, err)
	require.Equal(t, offered, again, "the same bytes each time, so that a consent goes on holding")
}

func TestTheDigestsOfThePacksAreThoseOfTheirFiles(t *testing.T) {
	keys, err := depot.ReadKeys(t.TempDir(), publisher)
	require.NoError(t, err)
	sc, err := depotScenario(Config{State: t.TempDir()}, 0, sets{t.TempDir(), keys})
	require.NoError(t, err)
	require.Len(t, sc.Packs, 2)
	for _, p := range sc.Packs {
		g, err := depot.Generate(p.Pack, p.Bytes)
		require.NoError(t, err)
		sum, err := g.Digest()
		require.NoError(t, err)
		require.Equal(t, sum, p.Digest, "of %s", p.Version)
	}
}

package supply_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/supply"
)

func TestMain(m *testing.M) { leaks.None(m) }

func start(t *testing.T) (*benchtest.Bench, *supply.Supply) {
	t.Helper()
	b := benchtest.New(t)
	return b, b.Supply
}

func asProblem(t *testing.T, err error) *problem.Problem {
	t.Helper()
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	return p
}

func TestADriverSetIsInstalledWithConsentToJustThatOne(t *testing.T) {
	b, s := start(t)
	k := b.Watch(benchtest.Handset(t, true))
	b.First(k, "driver")
	_, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: "", Actor: "owner/ada"})
	require.Contains(t, asProblem(t, err).Text, "No known driver set fits heron-1")

	raw := benchtest.DriverSet(t, "halden-link")
	d, err := s.Add(t.Context(), raw)
	require.NoError(t, err)
	require.Equal(t, bundle.Digest(raw), d.Digest)
	_, err = s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: "", Actor: "owner/ada"})
	p := asProblem(t, err)
	require.Equal(t, problem.Person, p.Kind)
	require.Contains(t, p.Remedy, d.Digest)
	_, err = s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: "0123", Actor: "owner/ada"})
	require.Equal(t, problem.Refused, asProblem(t, err).Kind)
	b.First(k, "driver")

	j, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: d.Digest, Despite: []string{driver.Unsigned}, Actor: "owner/ada"})
	require.NoError(t, err)
	_, err = s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: d.Digest, Despite: []string{driver.Unsigned}, Actor: "owner/ada"})
	if err != nil { // the first may have ended already
		require.Contains(t, asProblem(t, err).Text, "is busy: Install halden-link on loft")
	}
	done := b.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.Equal(t, int64(len(raw)), done.Phases[0].Total)
	b.First(k, "admitted")
}

func TestAnInstallOnAHostThatHasGoneSaysSo(t *testing.T) {
	b, s := start(t)
	k := b.Watch(benchtest.Handset(t, true))
	b.First(k, "driver")
	d, err := s.Add(t.Context(), benchtest.DriverSet(t, "halden-link"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(b.Files.Path(d.Digest)))
	j, err := s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: d.Digest, Despite: []string{driver.Unsigned}, Actor: "owner/ada"})
	require.NoError(t, err)
	require.Contains(t, b.Ended(j).Error.Text, "is gone")

	b.Hosts.Forget("loft")
	b.First(k, "seen")
	_, err = s.Install(t.Context(), supply.Consent{Device: "heron-1", Accept: d.Digest, Despite: []string{driver.Unsigned}, Actor: "owner/ada"})
	require.Equal(t, "seen", asProblem(t, err).Gate)
}

func TestWhatIsNoDriverSetIsNotTakenIn(t *testing.T) {
	b, s := start(t)
	for _, bad := range [][]byte{nil, []byte("hello"), benchtest.DriverSet(t, "x")[:500], bytes.Repeat([]byte("PK\x03\x04"), 100)} {
		_, err := s.Add(t.Context(), bad)
		require.Equal(t, problem.Invalid, problem.KindOf(err))
	}
	all, err := b.Store.DriverSets(t.Context())
	require.NoError(t, err)
	require.Empty(t, all)
	entries, _ := os.ReadDir(b.Files.Dir)
	require.Empty(t, entries, "nothing is left of them")
}

func TestTheNewestSetThatFitsIsOffered(t *testing.T) {
	b, s := start(t)
	k := b.Watch(benchtest.Handset(t, true))
	for _, name := range []string{"halden-link", "halden-link-next"} {
		_, err := s.Add(t.Context(), benchtest.DriverSet(t, name))
		require.NoError(t, err)
	}
	require.NotNil(t, b.Look(k).Offered)
	require.Contains(t, b.Look(k).Words["set"], "halden-link")
}

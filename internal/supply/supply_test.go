package supply_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/supply"
)

func start(t *testing.T) (*benchtest.Bench, *supply.Supply) {
	t.Helper()
	b := benchtest.New(t)
	return b, &supply.Supply{Store: b.Store, Files: b.Files, Rack: b.Rack, Hosts: b.Hosts, Jobs: b.Jobs}
}

func problem(t *testing.T, err error) *job.Problem {
	t.Helper()
	var p *job.Problem
	require.ErrorAs(t, err, &p)
	return p
}

func TestADriverSetIsInstalledWithConsentToJustThatOne(t *testing.T) {
	b, s := start(t)
	k := b.Watch(benchtest.Handset(t, true))
	b.First(k, "driver")
	_, err := s.Install(t.Context(), "heron-1", "")
	require.Contains(t, problem(t, err).Text, "No driver set here fits heron-1")

	raw := benchtest.DriverSet(t, "halden-link")
	d, err := s.Add(t.Context(), raw)
	require.NoError(t, err)
	require.Equal(t, bundle.Digest(raw), d.Digest)
	_, err = s.Install(t.Context(), "heron-1", "")
	p := problem(t, err)
	require.Equal(t, job.Person, p.Kind)
	require.Contains(t, p.Remedy, d.Digest)
	_, err = s.Install(t.Context(), "heron-1", "0123")
	require.Equal(t, job.Refused, problem(t, err).Kind)
	b.First(k, "driver")

	j, err := s.Install(t.Context(), "heron-1", d.Digest)
	require.NoError(t, err)
	_, err = s.Install(t.Context(), "heron-1", d.Digest)
	if err != nil { // the first may have ended already
		require.Contains(t, problem(t, err).Text, "is busy: Install halden-link on loft")
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
	j, err := s.Install(t.Context(), "heron-1", d.Digest)
	require.NoError(t, err)
	require.Contains(t, b.Ended(j).Error.Text, "the driver set's file is gone")

	b.Hosts.Forget("loft")
	b.First(k, "seen")
	_, err = s.Install(t.Context(), "heron-1", d.Digest)
	require.Equal(t, "seen", problem(t, err).Gate)
}

func TestWhatIsNoDriverSetIsNotTakenIn(t *testing.T) {
	b, s := start(t)
	for _, bad := range [][]byte{nil, []byte("hello"), benchtest.DriverSet(t, "x")[:500], bytes.Repeat([]byte("PK\x03\x04"), 100)} {
		_, err := s.Add(t.Context(), bad)
		require.ErrorIs(t, err, supply.ErrRefused)
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
	require.NotNil(t, k.Look(t.Context(), "").Offered)
	require.Contains(t, k.Look(t.Context(), "").Words["set"], "halden-link")
}

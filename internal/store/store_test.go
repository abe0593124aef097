package store_test

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/store"
)

var now = time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func open(t *testing.T) (*store.Store, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "bench.db")
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, file
}

var heron = store.Device{ID: "1", Handle: "heron-2", USB: "f3e0:0104", Serial: "HH4", Family: "tarn", Maker: "Halden", Code: "H4", Model: "Heron 4", Created: now}

func TestFactsComeBackAndWhatTheyReplaceIsHistory(t *testing.T) {
	s, file := open(t)
	require.NoError(t, s.AddDevice(t.Context(), heron))
	seen := func(v bool, at time.Time) fact.Fact {
		return fact.Fact{Key: fact.USBLink, Value: fact.Of(v), Source: fact.Bus, At: at, Scope: "cable:1"}
	}
	told := fact.Fact{Key: "told.tap", Value: fact.Of(true), Source: fact.Person, At: now, By: "you"}
	require.NoError(t, s.Observe(t.Context(), observed(heron, []fact.Fact{seen(false, now), told}...)))
	require.NoError(t, s.Observe(t.Context(), observed(heron, []fact.Fact{seen(false, now.Add(time.Second))}...)))
	require.NoError(t, s.Observe(t.Context(), observed(heron, []fact.Fact{seen(true, now.Add(2*time.Second))}...)))
	got := factsOf(t, s, heron.ID)
	require.ElementsMatch(t, []fact.Fact{seen(true, now.Add(2*time.Second)), told}, got)

	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	count := func() (n int) {
		require.NoError(t, db.QueryRow(`SELECT count(*) FROM history WHERE key = 'usb.link'`).Scan(&n))
		return n
	}
	require.Equal(t, 2, count(), "what only repeats is no history")
	require.NoError(t, s.TrimHistory(t.Context(), now.Add(200*24*time.Hour)))
	require.Zero(t, count())
}

func TestAHandleBelongsToOneDevice(t *testing.T) {
	s, _ := open(t)
	require.NoError(t, s.AddDevice(t.Context(), heron))
	other := heron
	other.ID, other.Serial = "2", "HH5"
	require.ErrorIs(t, s.AddDevice(t.Context(), other), store.ErrTaken)
	other.Handle = "heron-3"
	require.NoError(t, s.AddDevice(t.Context(), other))
	all, err := s.Devices(t.Context())
	require.NoError(t, err)
	require.Equal(t, []store.Device{heron, other}, all)
}

func TestEveryChangeIsAnEventInItsOrder(t *testing.T) {
	s, _ := open(t)
	changed := s.Changed()
	require.NoError(t, s.AddDevice(t.Context(), heron))
	<-changed
	require.NoError(t, s.Save(t.Context(), job.Job{ID: "j1", State: job.Running, Created: now}))
	events, err := s.Events(t.Context(), 0, 10)
	require.NoError(t, err)
	require.Equal(t, []string{"device.changed heron-2", "job.changed j1"}, []string{events[0].Type + " " + events[0].Subject, events[1].Type + " " + events[1].Subject})
	after, err := s.Events(t.Context(), events[0].Sequence, 10)
	require.NoError(t, err)
	require.Len(t, after, 1)
	last, err := s.Last(t.Context())
	require.NoError(t, err)
	require.Equal(t, events[1].Sequence, last)
}

func TestJobsThatAKilledServiceLeftBehindAreFoundWithWhatTheyHadKept(t *testing.T) {
	s, file := open(t)
	cut := job.Job{ID: "j1", Parent: "j0", State: job.Running, Created: now, Kept: []byte(`{"at":40}`)}
	require.NoError(t, s.Save(t.Context(), cut))
	require.NoError(t, s.Save(t.Context(), job.Job{ID: "j2", State: job.Done, Created: now.Add(time.Second)}))
	s.Close()
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	defer s.Close()
	open, err := s.OpenJobs(t.Context())
	require.NoError(t, err)
	require.Equal(t, []job.Job{cut}, open)
	children, err := s.Children(t.Context(), "j0")
	require.NoError(t, err)
	require.Equal(t, open, children)
	all, err := s.Jobs(t.Context(), "", 10)
	require.NoError(t, err)
	require.Equal(t, "j2", all[0].ID, "newest first")
	_, err = s.Job(t.Context(), "j9")
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestManyWritersDoNotDisturbEachOther(t *testing.T) {
	s, _ := open(t)
	var writers sync.WaitGroup
	for i := range 8 {
		writers.Go(func() {
			d := heron
			d.ID, d.Serial, d.Handle = string(rune('a'+i)), string(rune('a'+i)), "h-"+string(rune('a'+i))
			require.NoError(t, s.AddDevice(t.Context(), d))
			for n := range 20 {
				require.NoError(t, s.ChangeDevice(t.Context(), d.ID, d.Handle, store.DeviceChange{HandsURL: &d.Handle}))
				require.NoError(t, s.Observe(t.Context(), observed(d, []fact.Fact{{Key: "x", Value: fact.Of(n), Source: fact.Bus, At: now}}...)))
			}
		})
	}
	writers.Wait()
	last, err := s.Last(t.Context())
	require.NoError(t, err)
	require.LessOrEqual(t, last, int64(328))
	require.Greater(t, last, int64(168))
}

func TestFilesAreKeptByWhatIsInThem(t *testing.T) {
	f := store.Files{Dir: filepath.Join(t.TempDir(), "files")}
	digest, n, err := f.Put(strings.NewReader("hello"))
	require.NoError(t, err)
	require.Equal(t, "2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824", digest)
	require.Equal(t, int64(5), n)
	_, _, err = f.Put(strings.NewReader("hello"))
	require.NoError(t, err)
	entries, err := os.ReadDir(f.Dir)
	require.NoError(t, err)
	require.Len(t, entries, 1, "once, and nothing half-written beside it")
	r, err := f.Open(digest)
	require.NoError(t, err)
	r.Close()
	for _, bad := range []string{"", "../bench.db", "00"} {
		_, err := f.Open(bad)
		require.ErrorIs(t, err, store.ErrNotFound)
	}
}

func TestAFileThatIsDamagedOrGoneIsNamed(t *testing.T) {
	f := store.Files{Dir: filepath.Join(t.TempDir(), "files")}
	digest, _, err := f.Put(strings.NewReader("hello"))
	require.NoError(t, err)
	require.NoError(t, f.Whole(t.Context(), digest))
	require.NoError(t, os.WriteFile(f.Path(digest), []byte("hellp"), 0o600))
	err = f.Whole(t.Context(), digest)
	require.ErrorContains(t, err, f.Path(digest)+" is damaged")
	require.ErrorContains(t, err, "backup restore")
	require.FileExists(t, filepath.Join(f.Dir, "damaged-"+digest), "nothing is removed")
	_, err = f.Open(digest)
	require.ErrorContains(t, err, "is gone")
	_, _, err = f.Put(strings.NewReader("hello"))
	require.NoError(t, err)
	require.NoError(t, f.Whole(t.Context(), digest), "it was taken in again")
}

func TestWhatKilledWritingLeavesIsSwept(t *testing.T) {
	f := store.Files{Dir: t.TempDir()}
	require.NoError(t, os.WriteFile(filepath.Join(f.Dir, ".coming-1"), make([]byte, 500), 0o600))
	digest, _, err := f.Put(strings.NewReader("hello"))
	require.NoError(t, err)
	bytes, err := f.Sweep()
	require.NoError(t, err)
	require.EqualValues(t, 500, bytes)
	entries, err := os.ReadDir(f.Dir)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.Equal(t, digest, entries[0].Name())
}

func TestSessionsEnd(t *testing.T) {
	s, _ := open(t)
	has := func(at time.Time) bool {
		n, err := s.SessionBy(t.Context(), "d", at)
		if errors.Is(err, store.ErrNotFound) {
			return false
		}
		require.NoError(t, err)
		require.Equal(t, "d", n.Secret)
		return true
	}
	require.NoError(t, s.SaveSession(t.Context(), store.Session{Secret: "d", Created: now, Ends: now.Add(time.Hour)}))
	require.True(t, has(now))
	require.False(t, has(now.Add(2*time.Hour)))
	require.NoError(t, s.DropSession(t.Context(), "d"))
	require.False(t, has(now))

	// One that is used stays, but not for ever; one that is not used ends.
	require.NoError(t, s.SaveSession(t.Context(), store.Session{Secret: "d", Created: now, Ends: now.Add(store.SessionIdle)}))
	at := now
	for at.Sub(now) < store.SessionMost-store.SessionIdle {
		at = at.Add(store.SessionIdle - time.Hour)
		require.True(t, has(at), at.Sub(now))
		require.Eventually(t, func() bool {
			all, err := s.Sessions(t.Context(), at)
			return err == nil && len(all) == 1 && all[0].Used.Equal(at)
		}, 5*time.Second, time.Millisecond)
	}
	require.False(t, has(now.Add(store.SessionMost)), "it was used all the time")
	require.NoError(t, s.SaveSession(t.Context(), store.Session{Secret: "e", Created: now, Ends: now.Add(store.SessionIdle)}))
	require.False(t, has(now.Add(store.SessionIdle+store.SessionMost)))
	n, err := s.DropSessions(t.Context())
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
	all, err := s.Sessions(t.Context(), now)
	require.NoError(t, err)
	require.Empty(t, all)
}

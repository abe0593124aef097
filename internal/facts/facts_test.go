package facts_test

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/store"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var heron = facts.Subject{Kind: facts.Device, ID: "1"}

// book opens a book on a database in a directory.
func book(t *testing.T, dir string) (*facts.Book, func()) {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	r, err := fact.NewRegistry(fact.Builtin()...)
	require.NoError(t, err)
	b := facts.New(s, clock.System{}, r, slog.New(slog.DiscardHandler))
	require.NoError(t, b.Load(t.Context()))
	var once sync.Once
	end := func() { once.Do(func() { require.NoError(t, s.Close()) }) }
	t.Cleanup(end)
	return b, end
}

func network(v string, at time.Time) fact.Fact {
	return fact.Fact{Key: fact.AirNetwork, Value: fact.Of(v), Source: fact.Person, At: at, By: "ada"}
}

func value(b *facts.Book) string {
	for _, f := range b.Of(heron).View().All() {
		if f.Key == fact.AirNetwork {
			return f.Value.Text()
		}
	}
	return "(none)"
}

func TestWhatIsToldLaterCountsThoughTheClockHasSteppedBack(t *testing.T) {
	dir := t.TempDir()
	b, end := book(t, dir)
	now := time.Now()
	require.NoError(t, b.Observe(t.Context(), heron, network("same", now)))
	require.NoError(t, b.Observe(t.Context(), heron, network("other", now.Add(-2*time.Second))))
	require.Equal(t, "other", value(b))
	end()
	again, _ := book(t, dir)
	require.Equal(t, "other", value(again), "view and records agree")
}

func TestViewAndRecordsAgreeHoweverManyObserveAtOnce(t *testing.T) {
	dir := t.TempDir()
	b, end := book(t, dir)
	var many sync.WaitGroup
	for n := range 200 {
		many.Go(func() {
			if err := b.Observe(context.Background(), heron, network(fmt.Sprint(n), time.Now())); err != nil {
				t.Error(err)
			}
		})
	}
	many.Wait()
	last := value(b)
	end()
	again, _ := book(t, dir)
	require.Equal(t, last, value(again))
}

func TestWhatCannotBeKeptIsNotAnsweredAsKept(t *testing.T) {
	dir := t.TempDir()
	b, end := book(t, dir)
	require.NoError(t, b.Observe(t.Context(), heron, network("same", time.Now())))
	other, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "bench.db")+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer other.Close()
	one, err := other.Conn(t.Context())
	require.NoError(t, err)
	_, err = one.ExecContext(t.Context(), `BEGIN IMMEDIATE`)
	require.NoError(t, err)

	err = b.Observe(t.Context(), heron, network("other", time.Now()))
	require.Equal(t, problem.Unavailable, problem.KindOf(err), "%v", err)
	require.ErrorContains(t, err, "Nothing was saved")
	require.Equal(t, "same", value(b), "the view has only what is on disk")

	kept := make(chan struct{})
	go func() { // who cannot ask anybody tries again
		defer close(kept)
		b.Of(heron).ObserveUntilKept(context.Background(), network("hotspot", time.Now()))
	}()
	time.Sleep(50 * time.Millisecond)
	_, err = one.ExecContext(t.Context(), `ROLLBACK`)
	require.NoError(t, err)
	require.NoError(t, one.Close())
	<-kept
	require.Equal(t, "hotspot", value(b))
	end()
	again, _ := book(t, dir)
	require.Equal(t, "hotspot", value(again))
}

func TestFactsOfAScopeAreGoodAsLongAsThatLasts(t *testing.T) {
	b, _ := book(t, t.TempDir())
	r := b.Of(heron)
	r.Begin("cable:1")
	f := fact.Fact{Key: fact.USBPresent, Value: fact.Of(true), Source: fact.Bus, At: time.Now(), Scope: "cable:1"}
	require.NoError(t, r.Observe(t.Context(), f))
	_, good := r.View().Get(fact.USBPresent, time.Now())
	require.True(t, good)
	r.End("cable:1")
	_, good = r.View().Get(fact.USBPresent, time.Now())
	require.False(t, good)
}

func TestWhatTwoWaysTellIsTwoFactsUntilOneOfThemEnds(t *testing.T) {
	b, _ := book(t, t.TempDir())
	r := b.Of(heron)
	for _, scope := range []string{"cable", "air"} {
		r.Begin(scope)
		require.NoError(t, r.Observe(t.Context(), fact.Fact{Key: fact.LinkUp, Value: fact.Of(true), Source: fact.Device, At: time.Now(), Scope: scope}))
	}
	r.End("air") // told last
	_, good := r.View().Get(fact.LinkUp, time.Now())
	require.True(t, good, "the cable's is still good")
	r.End("cable")
	_, good = r.View().Get(fact.LinkUp, time.Now())
	require.False(t, good)
	require.Len(t, r.View().All(), 1, "of what is over the last is shown")
}

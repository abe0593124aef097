package store_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
)

// observed is an observation of a device.
func observed(d store.Device, facts ...fact.Fact) store.Observation {
	return store.Observation{Subject: d.ID, Event: "fact.changed", Name: d.Handle, Facts: facts}
}

// factsOf are the latest facts of a subject, without their numbers.
func factsOf(t *testing.T, s *store.Store, id string) (out []fact.Fact) {
	t.Helper()
	require.NoError(t, s.AllFacts(t.Context(), func(subject string, facts []fact.Fact) {
		if subject == id {
			for _, f := range facts {
				f.Seq = 0
				out = append(out, f)
			}
		}
	}))
	return out
}

func TestFactsThatComeTogetherAreAllKeptAndSaidOnceADevice(t *testing.T) {
	s, _ := open(t)
	const devices, each = 5, 60
	var saving sync.WaitGroup
	racked := make([]store.Device, devices)
	for i := range racked {
		racked[i] = heron
		racked[i].ID, racked[i].Serial, racked[i].Handle = fmt.Sprint(i), fmt.Sprint(i), fmt.Sprintf("heron-%d", i+10)
		require.NoError(t, s.AddDevice(t.Context(), racked[i]))
	}
	for _, d := range racked {
		for n := range each {
			saving.Go(func() {
				key := fact.Key(fmt.Sprintf("key.%d", n))
				if err := s.Observe(t.Context(), observed(d, fact.Fact{Key: key, Value: fact.Of(n), Source: fact.Bus, At: now})); err != nil {
					t.Error(err)
				}
			})
		}
	}
	saving.Wait()
	for i := range devices {
		all := factsOf(t, s, fmt.Sprint(i))
		require.Len(t, all, each, "none is lost")
	}
	events, err := s.Events(t.Context(), devices, 10_000)
	require.NoError(t, err)
	require.Less(t, len(events), devices*each, "what comes together is said once")
}

func TestFactsAreRefusedOnceTheRecordsAreClosed(t *testing.T) {
	s, _ := open(t)
	require.NoError(t, s.AddDevice(t.Context(), heron))
	require.NoError(t, s.Close())
	require.ErrorContains(t, s.Observe(t.Context(), observed(heron, []fact.Fact{{Key: "x", Value: fact.Of(1), Source: fact.Bus, At: now}}...)), "closed")
}

// A device that changes a large fact without end fills no disk: its history grows by a budget, and says
// what is missing.
func TestTheHistoryOfASubjectGrowsByABudgetOnly(t *testing.T) {
	s, _ := open(t)
	large := strings.Repeat("x", 50_000)
	for i := range 200 {
		one := fact.Fact{Key: fact.Language, Value: fact.Of(fmt.Sprint(i, large)), Source: fact.Device, At: time.Now()}
		require.NoError(t, s.Observe(t.Context(), store.Observation{Subject: "device/a", Facts: []fact.Fact{one}}))
	}
	require.NoError(t, s.Observe(t.Context(), store.Observation{Subject: "device/b", Facts: []fact.Fact{{Key: fact.Language, Value: fact.Of("en"), Source: fact.Device, At: time.Now()}}}))
	types := func(fact.Key) (fact.Type, bool) { return fact.Text, true }
	lines, err := s.History(t.Context(), "device/a", types, 0, 1000)
	require.NoError(t, err)
	require.Less(t, len(lines), 10)
	require.NotEmpty(t, lines)
	require.NoError(t, s.AllFacts(t.Context(), func(subject string, facts []fact.Fact) {
		if subject == "device/a" {
			require.True(t, strings.HasPrefix(facts[0].Value.Text(), "199"), "the latest counts all the same")
		}
	}))
	lines, err = s.History(t.Context(), "device/b", types, 0, 1000)
	require.NoError(t, err)
	require.Len(t, lines, 1, "another subject has a budget of its own")
}

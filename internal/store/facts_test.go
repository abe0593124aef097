package store_test

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
)

func TestFactsThatComeTogetherAreAllKeptAndSaidOnceADevice(t *testing.T) {
	s, _ := open(t)
	const devices, each = 5, 60
	var saving sync.WaitGroup
	racked := make([]store.Device, devices)
	for i := range racked {
		racked[i] = heron
		racked[i].ID, racked[i].Serial, racked[i].Handle = fmt.Sprint(i), fmt.Sprint(i), fmt.Sprintf("heron-%d", i+10)
		require.NoError(t, s.SaveDevice(t.Context(), racked[i]))
	}
	for _, d := range racked {
		for n := range each {
			saving.Go(func() {
				key := fact.Key(fmt.Sprintf("key.%d", n))
				if err := s.SaveFacts(t.Context(), d, []fact.Fact{{Key: key, Value: fact.Of(n), Source: fact.Bus, At: now}}, n == 0); err != nil {
					t.Error(err)
				}
			})
		}
	}
	saving.Wait()
	for i := range devices {
		all, err := s.Facts(t.Context(), fmt.Sprint(i))
		require.NoError(t, err)
		require.Len(t, all, each, "none is lost")
	}
	events, err := s.Events(t.Context(), devices, 10_000)
	require.NoError(t, err)
	require.Less(t, len(events), devices*each, "what comes together is said once")
	kinds := map[string]map[string]bool{}
	for _, e := range events {
		if kinds[e.Subject] == nil {
			kinds[e.Subject] = map[string]bool{}
		}
		kinds[e.Subject][e.Type] = true
	}
	for subject, k := range kinds {
		require.True(t, k["device.changed"], "%s: one fact altered how it stands", subject)
	}
}

func TestFactsAreRefusedOnceTheRecordsAreClosed(t *testing.T) {
	s, _ := open(t)
	require.NoError(t, s.SaveDevice(t.Context(), heron))
	require.NoError(t, s.Close())
	require.ErrorContains(t, s.SaveFacts(t.Context(), heron, []fact.Fact{{Key: "x", Value: fact.Of(1), Source: fact.Bus, At: now}}, true), "closed")
}

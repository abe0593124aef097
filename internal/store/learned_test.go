package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
)

func TestCasesAreCountedByFamilyAndHostAndCanBeForgotten(t *testing.T) {
	s, _ := open(t)
	learn := func(family, host, cause string, after time.Duration) {
		require.NoError(t, s.Learn(t.Context(), family, host, cause, now.Add(after)))
	}
	learn("tarn", "loft", "way-hidden", 0)
	learn("tarn", "loft", "way-hidden", time.Hour)
	learn("tarn", "attic", "way-hidden", 0)
	learn("", "loft", "port-dead", 0)
	all, err := s.Learned(t.Context())
	require.NoError(t, err)
	require.Equal(t, []store.Learned{
		{Family: "", Host: "loft", Cause: "port-dead", Cases: 1, Last: now},
		{Family: "tarn", Host: "attic", Cause: "way-hidden", Cases: 1, Last: now},
		{Family: "tarn", Host: "loft", Cause: "way-hidden", Cases: 2, Last: now.Add(time.Hour)},
	}, all)
	n, err := s.Unlearn(t.Context(), "tarn", false)
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
	all, err = s.Learned(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	n, err = s.Unlearn(t.Context(), "", true)
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
}

func TestAWordThatIsTakenBackStaysInTheHistory(t *testing.T) {
	s, _ := open(t)
	require.NoError(t, s.AddDevice(t.Context(), heron))
	said := fact.Fact{Key: "said.lamp", Value: fact.Of("no"), Source: fact.Person, At: now, By: "ines"}
	seen := fact.Fact{Key: "said.lamp", Value: fact.Of("yes"), Source: fact.Device, At: now}
	odd := fact.Fact{Key: "mode.gone", Value: fact.Of(3), Source: fact.Device, At: now.Add(time.Second)}
	require.NoError(t, s.Observe(t.Context(), observed(heron, []fact.Fact{said, seen, odd}...)))
	before, err := s.Last(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.Observe(t.Context(), store.Observation{Subject: heron.ID, Event: "fact.changed", Name: heron.Handle, From: fact.Person, Forget: []fact.Key{"said.lamp", "said.none"}}))
	left := factsOf(t, s, heron.ID)
	require.ElementsMatch(t, []fact.Fact{seen, odd}, left, "only that source's word goes")
	events, err := s.Events(t.Context(), before, 10)
	require.NoError(t, err)
	require.Equal(t, "heron-2", events[0].Subject, "others hear of it")

	types := func(k fact.Key) (fact.Type, bool) { return fact.Text, k == "said.lamp" }
	history, err := s.History(t.Context(), heron.ID, types, 0, 10)
	require.NoError(t, err)
	odd.Value = fact.Value{}
	require.Equal(t, []store.Known{{ID: 3, Fact: odd}, {ID: 2, Fact: seen}, {ID: 1, Fact: said}}, history, "the newest first; of a key that no sheet knows any more the value is not read")
	history, err = s.History(t.Context(), heron.ID, types, 3, 1)
	require.NoError(t, err)
	require.Equal(t, []store.Known{{ID: 2, Fact: seen}}, history, "behind a line")
}

func TestTheLastGoodSheetsAreReplacedAsAWhole(t *testing.T) {
	s, _ := open(t)
	files := []store.SheetFile{{Name: "/s/a.yaml", Text: []byte("sheet: a"), Taken: now}, {Name: "/s/b.yaml", Text: []byte("sheet: b\n# ü"), Taken: now.Add(time.Second)}}
	require.NoError(t, s.SaveSheetFiles(t.Context(), files))
	got, err := s.SheetFiles(t.Context())
	require.NoError(t, err)
	require.Equal(t, files, got)
	require.NoError(t, s.SaveSheetFiles(t.Context(), files[1:]))
	got, err = s.SheetFiles(t.Context())
	require.NoError(t, err)
	require.Equal(t, files[1:], got)
}

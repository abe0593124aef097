package where_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/where"
)

type part struct {
	Name string `json:"name"`
}

type thing struct {
	ID      string            `json:"id"`
	Count   int               `json:"count"`
	Good    bool              `json:"good"`
	Share   float64           `json:"share"`
	Names   []string          `json:"names"`
	Gates   map[string]string `json:"gates"`
	Created time.Time         `json:"created"`
	Ended   *time.Time        `json:"ended"`
	Part    *part             `json:"part"`
	Hidden  string            `json:"-"`
}

var at = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

func TestAnExpressionChoosesByTheMembersOfAnItem(t *testing.T) {
	item := where.Of[thing]("thing")
	lang, err := item.Language()
	require.NoError(t, err)
	it := thing{ID: "a", Count: 3, Good: true, Share: 0.5, Names: []string{"x", "y"}, Gates: map[string]string{"mode": "open"}, Created: at, Part: &part{"p"}}
	for text, want := range map[string]bool{
		`thing.id == "a"`:                                               true,
		`thing.id == "b"`:                                               false,
		`thing.count > 2 && thing.good`:                                 true,
		`thing.share < 0.6`:                                             true,
		`"x" in thing.names`:                                            true,
		`thing.names.exists(n, n == "y")`:                               true,
		`thing.names.all(n, n == "y")`:                                  false,
		`thing.gates["mode"] == "open"`:                                 true,
		`thing.gates.mode == "open"`:                                    true,
		`thing.gates["none"] == "open"`:                                 false,
		`thing.created < timestamp("2027-01-01T00:00:00Z")`:             true,
		`thing.part.name == "p"`:                                        true,
		`thing.id.startsWith("a") || thing.count > 9`:                   true,
		`thing.ended > timestamp("2020-01-01T00:00:00Z")`:               false, // not known
		`thing.good || thing.ended > timestamp("2020-01-01T00:00:00Z")`: true,
		`!(thing.ended > timestamp("2020-01-01T00:00:00Z"))`:            false, // still not known
	} {
		e, err := lang.Compile(text)
		require.NoError(t, err, text)
		got, err := e.Holds(func(name string) (any, bool) { return item.Value(it, name) })
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
}

func TestAMistakeIsToldWithItsPlaceAndWhatThereIs(t *testing.T) {
	lang, err := where.Of[thing]("thing").Language()
	require.NoError(t, err)
	for text, want := range map[string]string{
		`thing.cuont > 2`:              "1:1: there is no thing.cuont (did you mean thing.count?)",
		`thing.good && thnig.id == ""`: "1:15: there is no thnig.id (there are thing)",
		`thing.hidden == ""`:           "1:1: there is no thing.hidden",
		`thing.count`:                  "1:1: it has to be true or false, and this is a int",
		`thing.count == "a"`:           "1:13: == does not go with int and string",
		`thing.good &&`:                "it ends too early",
		``:                             "1:1: it ends too early",
		"thing.good &&\n  thing.bad":   "2:3: there is no thing.bad",
		`device.family == "tarn"`:      "there are thing",
	} {
		_, err := lang.Compile(text)
		var m *where.Mistake
		require.ErrorAs(t, err, &m, text)
		require.Contains(t, m.Error(), want, text)
	}
	_, err = lang.Compile(strings.Repeat("thing.good || ", 200) + "thing.good")
	require.ErrorContains(t, err, "longer than 2000 bytes")
}

func TestAnExpressionThatCostsTooMuchIsEnded(t *testing.T) {
	item := where.Of[thing]("thing")
	lang, err := item.Language()
	require.NoError(t, err)
	e, err := lang.Compile(`thing.names.all(a, thing.names.all(b, thing.names.all(c, a + b + c != "")))`)
	require.NoError(t, err)
	it := thing{Names: make([]string, 500)}
	for i := range it.Names {
		it.Names[i] = "name"
	}
	began := time.Now()
	_, err = e.Holds(func(name string) (any, bool) { return item.Value(it, name) })
	require.ErrorContains(t, err, "costs too much")
	require.Less(t, time.Since(began), 2*time.Second)
}

func FuzzCompile(f *testing.F) {
	for _, seed := range []string{`thing.id == "a"`, `thing.names.exists(n, n == "y")`, `thing.gates.mode`, `has(thing.part.name)`, `[1][`, "thing.\n id", `thing.id.matches("(a|b)*")`} {
		f.Add(seed)
	}
	lang, err := where.Of[thing]("thing").Language()
	require.NoError(f, err)
	item := where.Of[thing]("thing")
	f.Fuzz(func(t *testing.T, text string) {
		e, err := lang.Compile(text)
		if err != nil {
			var m *where.Mistake
			if !errors.As(err, &m) || m.Line < 0 {
				t.Fatalf("a mistake has a place: %v", err)
			}
			return
		}
		e.Holds(func(name string) (any, bool) { return item.Value(thing{}, name) })
	})
}

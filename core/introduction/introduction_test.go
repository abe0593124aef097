package introduction

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// vector is a case of testdata/vectors.json, which another program has computed by the
// document's text.
type vector struct {
	Title       string      `json:"title"`
	BenchNonce  string      `json:"bench_nonce"`
	Commitment  string      `json:"commitment"`
	DeviceNonce string      `json:"device_nonce"`
	SessionID   string      `json:"session_id"`
	DeviceKey   string      `json:"device_key"`
	BenchKey    string      `json:"bench_key"`
	Bench       string      `json:"bench"`
	Device      Description `json:"device"`
	Words       string      `json:"words"`
}

func bytesOf(t *testing.T, text string) []byte {
	raw, err := hex.DecodeString(text)
	require.NoError(t, err)
	return raw
}

func (v vector) exchange(t *testing.T) Exchange {
	return Exchange{BenchNonce: bytesOf(t, v.BenchNonce), DeviceNonce: bytesOf(t, v.DeviceNonce), SessionID: bytesOf(t, v.SessionID),
		DeviceKey: v.DeviceKey, BenchKey: v.BenchKey, Bench: v.Bench, Device: v.Device}
}

func TestWordsAndCommitmentsAreThoseOfTheVectors(t *testing.T) {
	raw, err := os.ReadFile("testdata/vectors.json")
	require.NoError(t, err)
	var all []vector
	require.NoError(t, json.Unmarshal(raw, &all))
	require.Greater(t, len(all), 10)
	for _, v := range all {
		t.Run(v.Title, func(t *testing.T) {
			require.Equal(t, v.Words, v.exchange(t).Words().String())
			require.Equal(t, v.Commitment, hex.EncodeToString(Commitment(bytesOf(t, v.BenchNonce))))
			require.NoError(t, Reveal(bytesOf(t, v.Commitment), bytesOf(t, v.BenchNonce)))
			require.ErrorIs(t, Reveal(bytesOf(t, v.Commitment), bytesOf(t, v.DeviceNonce)), ErrCommitment)
		})
	}
}

func TestEachOfTheListedWordsIsToldFromTheOthersByItsFirstFourLetters(t *testing.T) {
	require.Len(t, list(), 256)
	seen := map[string]string{}
	for i, w := range list() {
		require.Regexp(t, `^[a-z]{4,7}$`, w)
		require.Empty(t, seen[w[:4]], w)
		seen[w[:4]] = w
		if i > 0 {
			require.Less(t, list()[i-1], w)
		}
	}
}

func random(n int) []byte {
	raw := make([]byte, n)
	_, _ = rand.Read(raw) // it never fails
	return raw
}

func randomExchange() Exchange {
	text := func() string { return hex.EncodeToString(random(mathrand.IntN(20))) }
	return Exchange{BenchNonce: random(NonceSize), DeviceNonce: random(NonceSize), SessionID: random(32), DeviceKey: text(), BenchKey: text(), Bench: text(),
		Device: Description{Name: text(), Family: text(), Model: text(), Serial: text(), Release: text()}}
}

func TestAThousandExchangesGiveTheSameWordsOnBothSides(t *testing.T) {
	different := map[string]bool{}
	for range 1000 {
		bench := randomExchange()
		sent, err := json.Marshal(bench)
		require.NoError(t, err)
		var device Exchange
		require.NoError(t, json.Unmarshal(sent, &device))
		require.True(t, bench.Words().Equal(device.Words()))
		typed, err := Parse(strings.ToUpper(device.Words().String()))
		require.NoError(t, err)
		require.Equal(t, bench.Words(), typed)
		different[typed.String()] = true
	}
	require.Greater(t, len(different), 990)
}

func TestEveryFieldOfAnExchangeCounts(t *testing.T) {
	was := randomExchange()
	for name, change := range map[string]func(*Exchange){
		"nonce of the bench": func(t *Exchange) { t.BenchNonce = random(NonceSize) }, "nonce of the device": func(t *Exchange) { t.DeviceNonce = random(NonceSize) },
		"session": func(t *Exchange) { t.SessionID = random(32) }, "device key": func(t *Exchange) { t.DeviceKey += "x" }, "bench key": func(t *Exchange) { t.BenchKey += "x" },
		"bench": func(t *Exchange) { t.Bench += "x" }, "name": func(t *Exchange) { t.Device.Name += "x" }, "family": func(t *Exchange) { t.Device.Family += "x" },
		"model": func(t *Exchange) { t.Device.Model += "x" }, "serial": func(t *Exchange) { t.Device.Serial += "x" }, "release": func(t *Exchange) { t.Device.Release += "x" },
		"a letter moved to the next field": func(t *Exchange) { t.Device.Name += "x"; t.Bench = strings.TrimSuffix(t.Bench, "x") },
	} {
		now := was
		change(&now)
		require.NotEqual(t, was.Words(), now.Words(), name)
	}
}

func TestWordsAreReadAsPeopleTypeThem(t *testing.T) {
	want := Words{"tiger", "moss", "kettle"}
	for _, typed := range []string{"tiger moss kettle", " Tiger, Moss, Kettle ", "TIGER-MOSS-KETTLE", "tiger\tmoss\nkettle."} {
		got, err := Parse(typed)
		require.NoError(t, err, typed)
		require.Equal(t, want, got)
	}
	for typed, text := range map[string]string{"": "three words are needed, not 0", "tiger moss": "are needed, not 2", "tiger moss kettle kettle": "are needed, not 4",
		"tiger moss kettel": `"kettel" is not one of the words; did you mean "kettle"?`, "tiger moss xylo": "read it again", "tiger moss ket": "read it again"} {
		_, err := Parse(typed)
		require.ErrorContains(t, err, text)
	}
}

func TestDescriptionsAreBounded(t *testing.T) {
	good := Description{Name: "kittiwake-1", Family: "wick", Model: "W2"}
	require.NoError(t, good.Check())
	long := good
	long.Serial = strings.Repeat("x", 101)
	require.ErrorContains(t, long.Check(), "the serial has 101 bytes")
	require.Error(t, Description{Family: "wick"}.Check())
	require.Error(t, Description{Model: "W2"}.Check())
}

func TestThreeFailuresInARowPause(t *testing.T) {
	var turns Turns
	now := time.Date(2026, 11, 27, 10, 0, 0, 0, time.UTC)
	one := func(failed bool) {
		end, err := turns.Begin(now)
		require.NoError(t, err)
		_, err = turns.Begin(now)
		require.ErrorIs(t, err, ErrBusy)
		end(now, failed)
	}
	one(true)
	one(true)
	one(false) // consent: the count begins anew
	one(true)
	one(true)
	require.Zero(t, turns.Paused(now))
	one(true)
	_, err := turns.Begin(now)
	var paused *PausedError
	require.ErrorAs(t, err, &paused)
	require.Equal(t, PauseFor, paused.For)

	var again Turns // after a restart
	again.Restore(turns.Failures())
	require.Equal(t, 9*time.Minute, again.Paused(now.Add(time.Minute)))
	require.Equal(t, PauseFor, again.Paused(now.Add(-24*time.Hour)), "a clock that was set back does not make it longer")
	require.Zero(t, again.Paused(now.Add(-24*time.Hour+PauseFor)))
	turns = Turns{}
	one(true)
	require.Equal(t, 1, turns.Failures().InARow)
}

func FuzzParse(f *testing.F) {
	f.Add("tiger moss kettle")
	f.Add("tiger moss kettel")
	f.Fuzz(func(t *testing.T, typed string) {
		w, err := Parse(typed)
		if err != nil {
			require.Less(t, len(err.Error()), 300)
			return
		}
		again, err := Parse(w.String())
		require.NoError(t, err)
		require.Equal(t, w, again)
	})
}

func ExampleExchange_Words() {
	fmt.Println(Exchange{}.Words())
	// Output: lantern cake pitcher
}

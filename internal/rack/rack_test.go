package rack_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/ways"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// lane is a way whose device proves a key when the test says so.
type lane struct {
	scope string
	pins  bool
	prove chan string // a key; "" ends the way

	mu     sync.Mutex
	proven []error
}

func newLane(scope string, pins bool) *lane {
	return &lane{scope: scope, pins: pins, prove: make(chan string)}
}

func (l *lane) Kind() ways.Kind   { return "lane" }
func (l *lane) Place() ways.Place { return ways.Place{Host: "loft", Port: l.scope} }
func (l *lane) Scope() string     { return l.scope }
func (l *lane) Pins() bool        { return l.pins }

func (l *lane) Run(ctx context.Context, to ways.Sink) error {
	to.Observe(fact.Fact{Key: fact.USBPresent, Value: fact.Of(true), Source: fact.Bus})
	for {
		select {
		case <-ctx.Done():
			return nil
		case key := <-l.prove:
			switch key {
			case "":
				return nil
			case "hostile":
				panic("index out of range")
			}
			err := to.Proven(ctx, key)
			l.mu.Lock()
			l.proven = append(l.proven, err)
			l.mu.Unlock()
			if err == ways.ErrMoved { //nolint:errorlint // as it is
				return err
			}
		}
	}
}

// last is what was answered to the newest key.
func (l *lane) last() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.proven[len(l.proven)-1]
}

func (l *lane) answers() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.proven)
}

func proves(b *benchtest.Bench, l *lane, key string) {
	b.T.Helper()
	before := l.answers()
	l.prove <- key
	b.Eventually("the key is looked at", func() bool { return l.answers() > before })
}

// reach resolves a claim and runs a way of it.
func reach(b *benchtest.Bench, c rack.Claim, l *lane) *keeper.Keeper {
	b.T.Helper()
	k, err := b.Rack.Resolve(b.T.Context(), c)
	require.NoError(b.T, err)
	k.Reach(l)
	b.Eventually("it is seen", func() bool { return b.Look(k).Readiness.Gate("seen").State == "open" })
	return k
}

func key(n int) string { return fmt.Sprintf("SHA256:%043d", n) }

const heron4 = "f3e0:0104"

func TestTwoDevicesWithoutASerialStayTwo(t *testing.T) {
	b := benchtest.New(t)
	one := reach(b, rack.Claim{USB: heron4, Address: "loft 1"}, newLane("a", true))
	two := reach(b, rack.Claim{USB: heron4, Address: "loft 2"}, newLane("b", true))
	require.NotEqual(t, one.Device().ID, two.Device().ID)
	require.Len(t, b.Rack.All(), 2)
}

func TestADeviceWithoutASerialIsTakenToBeTheSameWhereItWas(t *testing.T) {
	b := benchtest.New(t)
	l := newLane("a", true)
	one := reach(b, rack.Claim{USB: heron4, Address: "loft 1"}, l)
	proves(b, l, key(1))
	l.prove <- ""
	b.First(one, "seen")
	again := reach(b, rack.Claim{USB: heron4, Address: "loft 1"}, newLane("b", true))
	require.Equal(t, one, again)
}

func TestADeviceThatWasOnlySeenBecomesTheKnownOneOnceItProvesItsKey(t *testing.T) {
	b := benchtest.New(t)
	first, second := newLane("a", true), newLane("b", true)
	known := reach(b, rack.Claim{USB: heron4, Address: "loft 1"}, first)
	proves(b, first, key(1))
	require.Equal(t, key(1), known.Device().Key)
	other := reach(b, rack.Claim{USB: heron4, Address: "loft 2"}, second) // seen beside it, so another
	require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(other), "device.language", "de"))
	first.prove <- ""
	b.First(known, "seen")
	second.prove <- key(1) // it is the known one, at another port
	b.Eventually("the way goes on at the known one", func() bool { return known.Reaches("b") })
	b.Eventually("one record is left", func() bool { return len(b.Rack.All()) == 1 })
	f, ok := known.Facts().View().Get(fact.Language, time.Now())
	require.True(t, ok, "what was said of it is taken over")
	require.Equal(t, "de", f.Value.Text())
	devices, err := b.Store.Devices(t.Context())
	require.NoError(t, err)
	require.Len(t, devices, 1)
	require.Equal(t, "heron-1", devices[0].Handle)
}

func TestAnotherKeyAtADeviceThatWasKnownByAHintOnlyIsAnotherDevice(t *testing.T) {
	b := benchtest.New(t)
	l := newLane("a", true)
	one := reach(b, rack.Claim{USB: heron4, Address: "loft 1"}, l)
	proves(b, l, key(1))
	l.prove <- key(2)
	b.Eventually("there are two", func() bool { return len(b.Rack.All()) == 2 })
	b.Eventually("the way is the new one's", func() bool { return !one.Reaches("a") })
	require.Equal(t, key(1), one.Device().Key)
}

func TestAnotherKeyThanThePinnedOneStopsWhereASerialSaysWhoItIs(t *testing.T) {
	b := benchtest.New(t)
	l := newLane("a", true)
	k := reach(b, rack.Claim{USB: heron4, Serial: "S", Address: "loft 1"}, l)
	proves(b, l, key(1))
	proves(b, l, key(2))
	require.Equal(t, &device.KeyChanged{Pinned: key(1), Shown: key(2)}, l.last())
	require.Equal(t, key(1), k.Device().Key)
}

func TestAWayThatMayNotPinAKeyDoesNot(t *testing.T) {
	b := benchtest.New(t)
	l := newLane("a", false)
	k := reach(b, rack.Claim{USB: heron4, Serial: "S", Address: "loft 1"}, l)
	proves(b, l, key(1))
	require.Equal(t, problem.Person, problem.KindOf(l.last()))
	require.Empty(t, k.Device().Key)
}

func TestARenameDuringTheFirstMeetingKeepsThePinnedKey(t *testing.T) {
	b := benchtest.New(t)
	for n := range 20 {
		l := newLane(fmt.Sprint("lane", n), true)
		k := reach(b, rack.Claim{USB: heron4, Serial: fmt.Sprint("S", n), Address: fmt.Sprint("loft ", n)}, l)
		name := fmt.Sprintf("pulse-%d", n)
		var both sync.WaitGroup
		both.Go(func() { l.prove <- key(n) })
		both.Go(func() {
			if err := b.Rack.Set(t.Context(), k.Device().Handle, rack.Change{Handle: &name}); err != nil {
				t.Error(err)
			}
		})
		both.Wait()
		b.Eventually("both are kept", func() bool { return k.Device().Key == key(n) && k.Device().Handle == name })
		devices, err := b.Store.Devices(t.Context())
		require.NoError(t, err)
		for _, d := range devices {
			if d.ID == k.Device().ID {
				require.Equal(t, []string{key(n), name}, []string{d.Key, d.Handle}, "on record, too")
			}
		}
	}
}

func TestWhatIsNoFingerprintIsNotPinned(t *testing.T) {
	b := benchtest.New(t)
	l := newLane("a", true)
	k := reach(b, rack.Claim{USB: heron4, Serial: "S", Address: "loft 1"}, l)
	for _, bad := range []string{"", "SHA256:xx", "hello", key(1) + "0"} {
		require.Equal(t, problem.Invalid, problem.KindOf(b.Rack.Set(t.Context(), "heron-1", rack.Change{Key: &bad})), bad)
	}
	good := key(7)
	require.NoError(t, b.Rack.Set(t.Context(), "heron-1", rack.Change{Key: &good}))
	require.Equal(t, good, k.Device().Key)
}

func TestADeviceHasSeveralWaysAtOnceAndTheFactsOfEachEndWithIt(t *testing.T) {
	b := benchtest.New(t)
	one, two := newLane("a", true), newLane("b", true)
	k := reach(b, rack.Claim{USB: heron4, Serial: "S", Address: "loft 1"}, one)
	k.Reach(two)
	b.Eventually("both are there", func() bool { return len(b.Look(k).Ways) == 2 })
	one.prove <- ""
	b.Eventually("one has ended", func() bool { return len(b.Look(k).Ways) == 1 })
	b.Eventually("the other's facts are good", func() bool { return b.Look(k).Readiness.Gate("seen").State == "open" })
	two.prove <- ""
	b.First(k, "seen")
	require.Equal(t, keeper.Reached{}, append(b.Look(k).Ways, keeper.Reached{})[0])
}

func TestTheAddressOfAHandsPageIsOneOfThisComputer(t *testing.T) {
	b := benchtest.New(t)
	_, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	for text, good := range map[string]bool{
		"": true, "http://localhost:7423/held/heron-2": true, "https://127.0.0.1:8443/x": true, "http://[::1]:80/": true, "http://bench-1.localhost/": true,
		"http://elsewhere.example/": false, "http://192.0.2.7/": false, "javascript:alert(1)": false, "http://user@localhost/": false, "file:///etc/passwd": false,
		"http://localhost.example/": false, "//localhost/": false, "http://localhost/\u202e": false, "http://localhost/" + strings.Repeat("x", 2048): false,
	} {
		err := b.Rack.Set(t.Context(), "kittiwake-1", rack.Change{HandsURL: &text})
		require.Equal(t, good, err == nil, "%.60q: %v", text, err)
	}
}

// What a hostile device makes panic ends its own way, and nothing else.
func TestAWayThatPanicsEndsAloneAndIsCounted(t *testing.T) {
	b := benchtest.New(t)
	bad, good := newLane("1", false), newLane("2", false)
	for i, l := range []*lane{bad, good} {
		k, err := b.Rack.Add(t.Context(), fmt.Sprintf("kittiwake-%d", i+1), "Kittiwake")
		require.NoError(t, err)
		k.Reach(l)
	}
	before := 0
	if all, _ := defect.All(); len(all) > 0 {
		before = all[len(all)-1].Count
	}
	bad.prove <- "hostile"
	b.Eventually("its way has ended", func() bool {
		k, err := b.Rack.Find("kittiwake-1")
		require.NoError(t, err)
		return len(k.Ways()) == 0
	})
	k, err := b.Rack.Find("kittiwake-2")
	require.NoError(t, err)
	require.Len(t, k.Ways(), 1, "the other goes on")
	all, _ := defect.All()
	last := all[len(all)-1]
	require.Equal(t, "a way to a device", last.In)
	require.Contains(t, last.Text, "index out of range")
	require.Greater(t, last.Count, before)
	good.prove <- ""
}

func TestADeviceIsOnTheRackAlthoughWhoAskedHasLeft(t *testing.T) {
	b := benchtest.New(t)
	ctx, leave := context.WithCancel(t.Context())
	leave()
	k, err := b.Rack.Presented(ctx, "wick", "W2", "WK-1", "a line")
	require.NoError(t, err)
	again, err := b.Rack.Presented(t.Context(), "wick", "W2", "WK-1", "another line")
	require.NoError(t, err)
	require.Same(t, k, again)
	require.Equal(t, "another line", k.Device().Place)
}

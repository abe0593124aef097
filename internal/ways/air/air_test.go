package air_test

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/ways"
	"earlybench.invalid/earlybench/standin/air"
	"earlybench.invalid/earlybench/standin/bodies"
	"earlybench.invalid/earlybench/standin/body"
)

func TestMain(m *testing.M) { leaks.None(m) }

// watch is a stand-in watch that announces itself.
type watch struct {
	*body.Body
	t     *testing.T
	group netip.AddrPort
	air   *air.Air
}

func newWatch(t *testing.T, group netip.AddrPort, serial string) *watch {
	t.Helper()
	specs, err := body.LoadSpecs(bodies.Files)
	require.NoError(t, err)
	b, err := body.New(body.Config{Name: "kittiwake", Spec: specs["wick"], Model: "W2", Serial: serial, Dir: t.TempDir(), Clock: clock.System{}, Answer: 10 * time.Second,
		Begin: &body.Beginning{Settings: map[string]string{"loose": "yes"}}})
	require.NoError(t, err)
	b.Plugged() // on its cradle, so that it does not fall asleep
	w := &watch{Body: b, t: t, group: group}
	w.on()
	t.Cleanup(func() { w.off(); b.Close() })
	return w
}

// on puts the watch on the network, at a port that it did not have before.
func (w *watch) on() {
	w.t.Helper()
	var err error
	w.air, err = air.Start(air.Config{Address: netip.MustParseAddr("127.0.0.1"), Group: w.group, Log: slog.New(slog.DiscardHandler)})
	require.NoError(w.t, err)
	w.air.Add(w.Body)
}

func (w *watch) off() {
	if w.air != nil {
		require.NoError(w.t, w.air.Close())
		w.air = nil
	}
}

// words reads the three words from the screen.
func (w *watch) words() string {
	w.t.Helper()
	var words string
	require.Eventually(w.t, func() bool {
		words = w.Read().Title
		_, err := introduction.Parse(words)
		return err == nil
	}, benchtest.Patience, 5*time.Millisecond, "it shows words")
	return words
}

func (w *watch) touch(text string) {
	w.t.Helper()
	require.Eventually(w.t, func() bool { return w.Touch(text) == nil }, benchtest.Patience, 5*time.Millisecond, "touch %s", text)
}

func hearing(t *testing.T, dir string, group netip.AddrPort) *benchtest.Bench {
	return benchtest.Hearing(t, dir, service.Announcements{Group: group})
}

// heard waits until something is heard, and returns it.
func heard(b *benchtest.Bench, state network.EntryState) network.Entry {
	b.T.Helper()
	var found network.Entry
	b.Eventually("something is heard that is "+string(state), func() bool {
		for _, e := range b.Air.List() {
			if e.State == state {
				found = e
				return true
			}
		}
		return false
	})
	return found
}

// introduce introduces a watch, and returns its keeper.
func introduce(b *benchtest.Bench, w *watch, as string) *keeper.Keeper {
	b.T.Helper()
	return introduceFor(b, w, as, "Always")
}

// introduceFor is introduce with the owner's answer.
func introduceFor(b *benchtest.Bench, w *watch, as, answer string) *keeper.Keeper {
	b.T.Helper()
	_, err := b.Introductions.Meet(b.T.Context(), heard(b, network.NotMet).Name, as)
	require.NoError(b.T, err)
	_, err = b.Introductions.Type(b.T.Context(), w.words())
	require.NoError(b.T, err)
	w.touch(answer)
	b.Eventually("it is introduced", func() bool { m, _ := b.Introductions.Meeting(); return m.State == network.Done })
	m, _ := b.Introductions.Meeting()
	k, err := b.Rack.Find(m.As)
	require.NoError(b.T, err)
	return k
}

func wireless(k *keeper.Keeper) []keeper.Reached {
	var out []keeper.Reached
	for _, w := range k.Ways() {
		if w.Kind == ways.Wireless {
			out = append(out, w)
		}
	}
	return out
}

func TestAWatchIsIntroducedAndComesBackAtAnotherAddress(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	e := heard(b, network.NotMet)
	require.Equal(t, "wick", e.Family)
	require.Empty(t, b.Rack.All(), "what is only heard is not on the rack")

	k := introduce(b, w, "")
	require.Equal(t, "W 2 0007", k.Device().Serial)
	require.Equal(t, w.Fingerprint(), k.Device().Key)
	b.Linked(k)
	require.Equal(t, e.Addresses[0], wireless(k)[0].Place.Port)
	require.Equal(t, k.Device().Handle, heard(b, network.Known).Device)
	b.First(k, "registered") // it has told all of itself

	w.off()
	b.Eventually("it has gone", func() bool { return len(k.Ways()) == 0 && len(b.Air.List()) == 0 })
	b.First(k, "seen")
	w.on()
	b.Linked(k)
	require.NotEqual(t, e.Addresses[0], wireless(k)[0].Place.Port, "at another port")
	require.Len(t, b.Rack.All(), 1)
}

func TestAWatchThatWasPutOnTheRackByHandIsIntroducedAsThat(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	k, err := b.Rack.Add(t.Context(), "pulse", "W2")
	require.NoError(t, err)
	_, err = b.Rack.Add(t.Context(), "slab", "H4")
	require.NoError(t, err)
	w := newWatch(t, group, "W 2 0007")
	b.First(k, "admitted")
	require.Equal(t, "not-introduced", b.Look(k).Why.Causes[0].ID)
	_, err = b.Introductions.Meet(t.Context(), heard(b, network.NotMet).Name, "slab")
	require.ErrorContains(t, err, "slab is a Heron 4")
	require.Same(t, k, introduce(b, w, "pulse"))
	b.Linked(k)
	b.Eventually("that it is near is over", func() bool { return b.Look(k).Readiness.First == "registered" })
}

func TestAWatchThatWasLetInForAVisitIsAskedAgainAndNotIntroduced(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	k := introduceFor(b, w, "", "This time")
	b.Linked(k)
	w.off()
	b.Eventually("it has gone", func() bool { return len(k.Ways()) == 0 })
	w.on()
	b.First(k, "admitted")
	b.Eventually("it is asked", func() bool { n := b.Look(k).Readiness.Next; return n != nil && n.ID == "admit" })
	go w.touch("Always")
	_, err := b.Ask(t.Context(), k)
	require.NoError(t, err)
	b.Linked(k)
}

func TestARetiredWatchDoesNotComeBackByItself(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	k := introduce(b, w, "")
	b.Linked(k)
	w.off()
	b.Eventually("it has gone", func() bool { return len(k.Ways()) == 0 })
	require.NoError(t, k.Retire(t.Context(), func(*store.Retirement) (*store.Retirement, error) {
		return &store.Retirement{Since: time.Now(), Ended: time.Now()}, nil
	}))
	w.on()
	heard(b, network.NotMet)
	time.Sleep(300 * time.Millisecond)
	require.Empty(t, k.Ways())
	_, err := b.Introductions.Meet(t.Context(), heard(b, network.NotMet).Name, "")
	require.NoError(t, err)
	_, err = b.Introductions.Type(t.Context(), w.words())
	require.NoError(t, err)
	b.Linked(k) // it has let the bench in before
	require.Nil(t, k.Device().Retirement)
}

func TestWrongWordsEndTheIntroductionAndTypingMistakesDoNot(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	name := heard(b, network.NotMet).Name
	for n := range 3 {
		_, err := b.Introductions.Meet(t.Context(), name, "")
		require.NoError(t, err, n)
		w.words()
		_, err = b.Introductions.Type(t.Context(), "maple otter bugel")
		require.Equal(t, problem.Invalid, problem.KindOf(err))
		m, err := b.Introductions.Meeting()
		require.NoError(t, err)
		require.Equal(t, network.Words, m.State)
		_, err = b.Introductions.Meet(t.Context(), name, "")
		require.Equal(t, problem.Taken, problem.KindOf(err), "one at a time")
		_, err = b.Introductions.Type(t.Context(), "maple otter bugle")
		require.Equal(t, problem.Refused, problem.KindOf(err))
		_, err = b.Introductions.Type(t.Context(), "maple otter bugle")
		require.Equal(t, problem.Changed, problem.KindOf(err), "there is no second guess")
		b.Eventually("the watch has ended it", func() bool { return !strings.Contains(w.Read().Text, "Three words") })
	}
	_, err := b.Introductions.Meet(t.Context(), name, "")
	require.ErrorContains(t, err, "Three introductions in a row failed")
	require.Empty(t, b.Rack.All())
}

func TestAnIntroductionEndsWithTheOwnersNoAndWhenItIsGivenUp(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	name := heard(b, network.NotMet).Name
	failed := func() *problem.Problem {
		b.Eventually("it has failed", func() bool { m, _ := b.Introductions.Meeting(); return m.State == network.Failed })
		m, _ := b.Introductions.Meeting()
		return m.Trouble
	}
	_, err := b.Introductions.Meet(t.Context(), name, "")
	require.NoError(t, err)
	_, err = b.Introductions.Type(t.Context(), w.words())
	require.NoError(t, err)
	w.touch("No")
	require.Contains(t, failed().Text, "owner refused")

	_, err = b.Introductions.Meet(t.Context(), name, "")
	require.NoError(t, err)
	w.words()
	require.NoError(t, b.Introductions.StopMeeting())
	require.Contains(t, failed().Text, "cancelled")
	require.ErrorIs(t, b.Introductions.StopMeeting(), network.ErrNoMeeting)

	_, err = b.Introductions.Meet(t.Context(), name, "")
	require.NoError(t, err)
	w.words()
	w.touch("Snuff it")
	require.Contains(t, failed().Text, "The device ended the introduction")

	_, err = b.Introductions.Meet(t.Context(), name, "")
	require.NoError(t, err)
	w.words()
	w.off()
	require.Contains(t, failed().Text, "or was lost")
	require.Empty(t, b.Rack.All())
}

func TestADeviceIsReachedByItsAddressWhereAnnouncementsDoNotPass(t *testing.T) {
	group := benchtest.Group(t)
	dir := t.TempDir()
	b := benchtest.In(t, dir) // it hears nothing
	w := newWatch(t, group, "W 2 0007")
	address := addressOf(t, w)
	for _, bad := range []string{"", "nowhere", "127.0.0.1", "127.0.0.1:0", "127.0.0.1:x", ":4022", "a b:1", "http://127.0.0.1:80"} {
		_, err := b.Air.Add(t.Context(), bad)
		require.Equal(t, problem.Invalid, problem.KindOf(err), bad)
	}
	e, err := b.Air.Add(t.Context(), address)
	require.NoError(t, err)
	require.Equal(t, network.NotMet, e.State)
	k := introduce(b, w, "")
	b.Linked(k)
	b.End()

	again := benchtest.In(t, dir)
	k, err = again.Rack.Find(k.Device().Handle)
	require.NoError(t, err)
	again.Linked(k)
	require.Equal(t, k.Device().Handle, heard(again, network.Known).Device)
	require.NoError(t, again.Air.Drop(t.Context(), address))
	require.Empty(t, again.Air.List())
	require.Equal(t, problem.NotFound, problem.KindOf(again.Air.Drop(t.Context(), address)))
}

// addressOf learns where a watch listens, as its owner does from its screen.
func addressOf(t *testing.T, w *watch) string {
	t.Helper()
	found := make(chan string, 100)
	wire, err := dnssd.Listen(w.group)
	require.NoError(t, err)
	b := dnssd.Browse(wire, dnssd.BrowserConfig{Type: link.ServiceType, Gone: func(string) {}, Changed: func(f dnssd.Found) bool {
		found <- netip.AddrPortFrom(f.Addresses[0], f.Port).String()
		return false
	}})
	defer b.Close()
	select {
	case a := <-found:
		return a
	case <-time.After(benchtest.Patience):
		require.Fail(t, "it is not heard")
		return ""
	}
}

func TestABenchThatIsStartedAgainReachesADeviceWhereItAnsweredLast(t *testing.T) {
	group := benchtest.Group(t)
	dir := t.TempDir()
	b := hearing(t, dir, group)
	w := newWatch(t, group, "W 2 0007")
	k := introduce(b, w, "")
	b.Linked(k)
	b.End()
	deaf := benchtest.In(t, dir)
	k, err := deaf.Rack.Find(k.Device().Handle)
	require.NoError(t, err)
	deaf.Linked(k)
}

// repeater announces a device's own name, at the address of another device.
func repeat(t *testing.T, group netip.AddrPort, name, address string) {
	t.Helper()
	wire, err := dnssd.Listen(group)
	require.NoError(t, err)
	r := dnssd.Respond(wire)
	t.Cleanup(func() { r.Close() })
	at := netip.MustParseAddrPort(address)
	_, err = r.Publish(dnssd.Service{Instance: name, Host: "elsewhere", Type: link.ServiceType, Port: at.Port(), Addresses: []netip.Addr{at.Addr()},
		Text: map[string]string{link.TextVersion: link.AnnouncementVersion, link.TextFamily: "wick"}})
	require.NoError(t, err)
}

func TestSomebodyElseUnderADevicesNameIsStoppedAtAndWarnedOf(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	k := introduce(b, w, "")
	b.Linked(k)
	pinned := k.Device().Key
	w.off()
	b.Eventually("it has gone", func() bool { return len(k.Ways()) == 0 })

	other := newWatch(t, benchtest.Group(t), "W 2 0009") // heard by nobody
	repeat(t, group, link.AnnouncementName(pinned), addressOf(t, other))
	b.Eventually("it stops and warns", func() bool {
		f, ok := k.Facts().View().Get(fact.LinkShown, time.Now())
		return ok && f.Value.Text() == other.Fingerprint()
	})
	require.Equal(t, pinned, k.Device().Key)
	require.Nil(t, k.Session())
	require.Len(t, b.Rack.All(), 1)
	w.on() // the device itself is linked all the same
	b.Linked(k)
	require.Equal(t, pinned, k.Device().Key)
}

// A silent peer, one who is no SSH server, and one who leaves at once.
func TestWhoeverAnswersNonsenseAtAnAddressIsGivenUp(t *testing.T) {
	b := benchtest.New(t)
	for name, serve := range map[string]func(net.Conn){
		"nothing at all":   func(c net.Conn) { c.Close() },
		"another protocol": func(c net.Conn) { c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n")); c.Close() },
		"endless lines": func(c net.Conn) {
			for {
				if _, err := c.Write([]byte(strings.Repeat("x", 4000) + "\r\n")); err != nil {
					return
				}
			}
		},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		var serving sync.WaitGroup
		serving.Go(func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				serving.Go(func() { serve(c) })
			}
		})
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		e, err := b.Air.Add(ctx, l.Addr().String())
		cancel()
		require.NoError(t, err, name)
		require.Equal(t, network.Silent, e.State, name)
		require.NotEmpty(t, e.Trouble)
		require.Less(t, len(e.Trouble), 200)
		_, err = b.Introductions.Meet(t.Context(), e.Name, "")
		require.Error(t, err, name)
		require.NoError(t, b.Air.Drop(t.Context(), e.Name))
		l.Close()
		serving.Wait()
	}
}

func TestNoWayWithoutACablePinsAKey(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	k, err := b.Rack.Add(t.Context(), "pulse", "W2")
	require.NoError(t, err)
	// By a name that only its key makes, and by its address.
	repeat(t, group, link.AnnouncementName(w.Fingerprint()), addressOf(t, w))
	_, err = b.Air.Add(t.Context(), addressOf(t, w))
	require.NoError(t, err)
	heard(b, network.NotMet)
	time.Sleep(500 * time.Millisecond)
	require.Empty(t, k.Device().Key)
	require.Empty(t, k.Ways())
	require.Len(t, b.Rack.All(), 1)
}

func TestAKeyThatIsPinnedByCableIsRecognisedOnTheNetwork(t *testing.T) {
	group := benchtest.Group(t)
	b := hearing(t, t.TempDir(), group)
	w := newWatch(t, group, "W 2 0007")
	heard(b, network.NotMet)
	k, err := b.Rack.Introduced(t.Context(), w.Fingerprint(), introduction.Description{Family: "wick", Model: "W2", Serial: "W 2 0007"}, "")
	require.NoError(t, err)
	require.Equal(t, k.Device().Handle, heard(b, network.Known).Device)
	b.Eventually("it is a visitor", func() bool { w := wireless(k); return len(w) == 1 && w[0].Up })
	own := ssh.FingerprintSHA256(b.Keys.Link.PublicKey())
	require.NotContains(t, own, w.Fingerprint())
	go w.touch("Always")
	_, err = b.Ask(t.Context(), k)
	require.NoError(t, err)
	b.Linked(k)
}

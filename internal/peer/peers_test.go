package peer_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// said is what a bench does for its peers in these tests: it tells by which name it knows them.
type said struct{}

func (said) Call(_ context.Context, from store.Peer, method string, _ json.RawMessage, _ func(string, any) error) (any, error) {
	if method != "who am I" {
		return nil, rpc.Errorf(rpc.CodeMethodNotFound, "there is no %q", method)
	}
	return from.Name, nil
}

func (said) File(context.Context, store.Peer, core.FileRef) (io.ReadCloser, error) {
	return nil, errors.ErrUnsupported
}

func (said) Stream(context.Context, store.Peer, json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	return nil, errors.New("there are no streams here")
}

// bench is one of the benches that meet.
type bench struct {
	*peer.Peers
	t     *testing.T
	dir   string
	key   ssh.Signer
	name  string
	at    string // where it listens
	clock *clock.Moved
	end   func()
}

func newBench(t *testing.T, name string) *bench {
	t.Helper()
	b := &bench{t: t, dir: t.TempDir(), name: name, at: "127.0.0.1:0", clock: &clock.Moved{}}
	b.start()
	return b
}

// start starts it on what it has on record.
func (b *bench) start() {
	b.t.Helper()
	st, err := store.Open(context.Background(), filepath.Join(b.dir, "bench.db"))
	require.NoError(b.t, err)
	keys, err := state.ReadKeys(b.dir)
	require.NoError(b.t, err)
	b.key = keys.Link
	b.Peers = peer.New(peer.Config{Records: st, Service: said{}, Key: keys.Link, Bench: func() string { return b.name }, Listen: b.at, Changed: func() {}, Clock: b.clock, Log: slog.New(slog.DiscardHandler)})
	require.NoError(b.t, b.Start(context.Background()))
	b.at = b.Address()
	var once sync.Once
	b.end = func() {
		once.Do(func() {
			b.Close()
			require.NoError(b.t, st.Close())
		})
	}
	b.t.Cleanup(func() { b.end() })
}

func (b *bench) fingerprint() string { return ssh.FingerprintSHA256(b.key.PublicKey()) }

func (b *bench) eventually(what string, f func() bool) {
	b.t.Helper()
	require.Eventually(b.t, f, 10*time.Second, 5*time.Millisecond, what)
}

// knows waits until a peer is connected.
func (b *bench) knows(name string) {
	b.t.Helper()
	b.eventually(b.name+" is connected to "+name, func() bool {
		for _, p := range b.List() {
			if p.Name == name && p.Connected {
				return true
			}
		}
		return false
	})
}

func TestABenchThatIsInvitedBecomesAPeerOnBothSides(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	i, err := harbour.Invite(t.Context(), store.PeerRights{All: "use"}, time.Hour, nil)
	require.NoError(t, err)
	require.Equal(t, []string{harbour.at}, i.Addresses)
	raw, err := json.Marshal(i)
	require.NoError(t, err)
	i, err = core.ParseInvitation(raw)
	require.NoError(t, err)
	added, err := moor.Add(t.Context(), i, "")
	require.NoError(t, err)
	require.Equal(t, "harbour-desk", added.Name)
	require.Equal(t, harbour.fingerprint(), added.Key)
	moor.knows("harbour-desk")
	harbour.knows("moor-desk")
	there := harbour.List()[0]
	require.Equal(t, moor.fingerprint(), there.Key)
	require.Equal(t, store.PeerRights{All: "use"}, there.Rights)
	require.Equal(t, store.PeerRights{}, moor.List()[0].Rights, "who is invited has given nothing")
	// Either side asks the other, although only one has connected.
	var name string
	require.NoError(t, moor.Ask(t.Context(), "harbour-desk", "who am I", nil, &name))
	require.Equal(t, "moor-desk", name)
	require.NoError(t, harbour.Ask(t.Context(), "moor-desk", "who am I", nil, &name))
	require.Equal(t, "harbour-desk", name)

	// It comes back after either has ended, and at the same place.
	harbour.end()
	moor.eventually("it has lost it", func() bool { return !moor.List()[0].Connected })
	err = moor.Ask(t.Context(), "harbour-desk", "who am I", nil, nil)
	require.ErrorContains(t, err, "There is no connection to harbour-desk now.")
	harbour.start()
	moor.knows("harbour-desk")
	moor.end()
	moor.start()
	harbour.knows("moor-desk")

	require.NoError(t, harbour.Drop(t.Context(), "moor-desk"))
	moor.eventually("one that was dropped is not connected", func() bool { return !moor.List()[0].Connected })
}

func TestAnInvitationIsGoodOnceAndForItsTimeAndForItsBench(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	i, err := harbour.Invite(t.Context(), store.PeerRights{}, time.Hour, nil)
	require.NoError(t, err)
	_, err = harbour.Add(t.Context(), i, "")
	require.ErrorContains(t, err, "was made by this bench")

	other := newBench(t, "other-desk")
	forged := i
	forged.Addresses = []string{other.at}
	_, err = moor.Add(t.Context(), forged, "")
	require.ErrorContains(t, err, "the bench that answers there is not harbour-desk")
	require.Empty(t, other.List(), "the secret was not even shown to it")

	wrong := i
	wrong.Secret = core.NewSecret()
	_, err = moor.Add(t.Context(), wrong, "")
	require.ErrorContains(t, err, "already used, or has expired")

	_, err = moor.Add(t.Context(), i, "")
	require.NoError(t, err)
	_, err = moor.Add(t.Context(), i, "")
	require.ErrorContains(t, err, "already a peer")
	_, err = other.Add(t.Context(), i, "")
	require.ErrorContains(t, err, "already used, or has expired")

	late, err := harbour.Invite(t.Context(), store.PeerRights{}, time.Hour, nil)
	require.NoError(t, err)
	harbour.clock.Move(2 * time.Hour)
	_, err = other.Add(t.Context(), late, "")
	require.ErrorContains(t, err, "already used, or has expired")
	require.Empty(t, other.List())
}

// meets begins an introduction of one bench to another.
func meets(t *testing.T, moor, harbour *bench) peer.AskingBench {
	t.Helper()
	m, err := moor.Meet(t.Context(), harbour.at, "", "", "")
	require.NoError(t, err)
	require.Equal(t, peer.Words, m.State)
	require.Equal(t, harbour.fingerprint(), m.Key)
	a, ok := harbour.Asking()
	require.True(t, ok)
	require.Equal(t, moor.fingerprint(), a.Key)
	require.NotEmpty(t, a.Words)
	return a
}

func (b *bench) meeting(s peer.MeetingState) peer.Meeting {
	b.t.Helper()
	var m peer.Meeting
	b.eventually("the introduction is "+string(s), func() bool {
		var err error
		m, err = b.Meeting()
		return err == nil && m.State == s
	})
	return m
}

func TestTwoBenchesAreIntroducedByThreeWords(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	a := meets(t, moor, harbour)
	require.Equal(t, "moor-desk", a.Name)
	require.ErrorContains(t, harbour.Answer(a.Key, true), "has not typed the three words yet")
	_, err := moor.Type("one two")
	require.ErrorContains(t, err, "three words are needed, not 2")
	m, err := moor.Type(a.Words)
	require.NoError(t, err)
	require.Equal(t, peer.Asked, m.State)
	harbour.eventually("its owner is asked", func() bool { a, ok := harbour.Asking(); return ok && a.Typed })
	require.Empty(t, moor.List())
	require.Empty(t, harbour.List())
	require.NoError(t, harbour.Answer(a.Key, true))
	require.Equal(t, "harbour-desk", moor.meeting(peer.Introduced).Name)
	moor.knows("harbour-desk")
	harbour.knows("moor-desk")
	_, ok := harbour.Asking()
	require.False(t, ok)
}

func TestAnOwnerWhoRefusesGetsNoPeer(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	a := meets(t, moor, harbour)
	_, err := moor.Type(a.Words)
	require.NoError(t, err)
	harbour.eventually("its owner is asked", func() bool { a, ok := harbour.Asking(); return ok && a.Typed })
	require.NoError(t, harbour.Answer(a.Key, false))
	require.ErrorContains(t, moor.meeting(peer.Failed).Trouble, "refused")
	require.Empty(t, moor.List())
	require.Empty(t, harbour.List())
}

// TestSomebodyBetweenTwoBenchesIsCaught has a third bench answer the one and ask the other, and pass the words on.
func TestSomebodyBetweenTwoBenchesIsCaught(t *testing.T) {
	moor, between, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk"), newBench(t, "harbour-desk")
	_, err := moor.Meet(t.Context(), between.at, "", "", "")
	require.NoError(t, err)
	a := meets(t, between, harbour) // its person reads these words to the one of moor-desk
	m, err := moor.Type(a.Words)
	require.NoError(t, err)
	require.Equal(t, peer.Failed, m.State)
	require.ErrorContains(t, m.Trouble, "somebody may be in between")
	between.eventually("it is over there", func() bool { _, ok := between.Asking(); return !ok })
	require.Empty(t, moor.List())
	require.Empty(t, between.List())
}

func TestThreeIntroductionsThatFailMakeABenchPause(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	for range 3 {
		meets(t, moor, harbour)
		_, err := moor.Type("acre acre acre")
		if err != nil {
			require.NoError(t, moor.StopMeeting())
		}
		harbour.eventually("it is over", func() bool { _, ok := harbour.Asking(); return !ok })
	}
	_, err := moor.Meet(t.Context(), harbour.at, "", "", "")
	require.ErrorContains(t, err, "three introductions in a row have failed")
	harbour.clock.Move(11 * time.Minute)
	meets(t, moor, harbour)
}

// peers makes two benches peers by an invitation.
func peers(t *testing.T, moor, harbour *bench) {
	t.Helper()
	i, err := harbour.Invite(t.Context(), store.PeerRights{}, time.Hour, nil)
	require.NoError(t, err)
	_, err = moor.Add(t.Context(), i, "")
	require.NoError(t, err)
	moor.knows("harbour-desk")
}

func TestABenchWithAnotherKeyIsNotThePeer(t *testing.T) {
	moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
	peers(t, moor, harbour)
	harbour.end()
	again := &bench{t: t, dir: t.TempDir(), name: "harbour-desk", at: harbour.at, clock: &clock.Moved{}}
	again.start()
	moor.eventually("it says that it is another one", func() bool {
		p := moor.List()[0]
		_, is := errors.AsType[*peer.OtherKey](p.Trouble)
		return is && !p.Connected
	})
}

func TestAVisitorGetsNothingButTheDoor(t *testing.T) {
	harbour, moor := newBench(t, "harbour-desk"), newBench(t, "moor-desk")
	c, err := net.Dial("tcp", harbour.at)
	require.NoError(t, err)
	l, err := core.Dial(t.Context(), c, moor.key, func(string) error { return nil }, nobody{})
	require.NoError(t, err)
	defer l.Close()
	for _, method := range []string{"who am I", core.MethodDevices, "loan.start"} {
		require.ErrorContains(t, l.Call(t.Context(), method, nil, nil), "does not know you")
	}
	_, err = l.Open(t.Context(), "x")
	require.ErrorContains(t, err, "does not know you")
	require.Error(t, l.Call(t.Context(), core.MethodReveal, core.Reveal{}, nil), "out of order")
	require.Error(t, l.Call(t.Context(), core.MethodTyped, nil, nil), "out of order")
}

type nobody struct{}

func (nobody) Call(context.Context, *core.Link, string, json.RawMessage, func(string, any) error) (any, error) {
	return nil, errors.New("nobody is here")
}

func (nobody) File(context.Context, *core.Link, core.FileRef) (io.ReadCloser, error) {
	return nil, errors.ErrUnsupported
}

func (nobody) Stream(context.Context, *core.Link, json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	return nil, errors.New("nobody is here")
}

func TestABenchThatDoesNotListenInvitesNobody(t *testing.T) {
	b := newBench(t, "moor-desk")
	b.end()
	b.at = ""
	b.start()
	_, err := b.Invite(t.Context(), store.PeerRights{}, time.Hour, nil)
	p, ok := errors.AsType[*problem.Problem](err)
	require.True(t, ok)
	require.Contains(t, p.Remedy, "serve --peers HOST:PORT")
}

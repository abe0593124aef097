package companion_test

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/device/devicetest"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/ways"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

func TestMain(m *testing.M) {
	if os.Getenv(serves) != "" {
		os.Exit(serve())
	}
	leaks.None(m)
}

// serves says that the program serves stand-ins instead of testing.
const serves = "EARLYBENCH_TEST_SERVES"

const watchName, handsetName = "kittiwake-2", "heron-1"

// desk is a bench with a handset that has let it in, and a watch beside that.
type desk struct {
	*benchtest.Bench
	socket string // of the stand-ins
	radio  *radio // between the two
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	b := benchtest.New(t)
	r := newRadio(t)
	at := stands(t, "loft", handset(b, handsetName, "HH3 0042 9A07", r.address), watch(watchName, "W 2 0019", r.to))
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: at.Hub, Control: at.Host})
	return &desk{b, at.Socket, r}
}

// scenario is stand-ins on a host of their own that needs no drivers.
func scenario(t *testing.T, host string, bodies ...standin.Entry) standin.Scenario {
	t.Helper()
	return standin.Scenario{Dir: t.TempDir(), Host: host, Drivers: true, Answer: "10s", HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0",
		Socket: filepath.Join(t.TempDir(), "s"), Bodies: bodies}
}

// stands starts stand-ins that end with the test.
func stands(t *testing.T, host string, bodies ...standin.Entry) standin.Addresses {
	t.Helper()
	rig, err := standin.Start(context.Background(), scenario(t, host, bodies...), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, rig.Close()) })
	return rig.Addresses()
}

// handset is an opened handset that has let a bench in, with what is beside it.
func handset(b *benchtest.Bench, name, serial, beside string) standin.Entry {
	return standin.Entry{Name: name, Body: "halden", Model: "H3", Serial: serial, Beside: []string{beside}, Begin: &body.Beginning{Opened: true,
		Settings: map[string]string{"computers": "debug and install"}, Admits: map[string]string{ssh.FingerprintSHA256(b.Keys.Link.PublicKey()): "moor-desk"}}}
}

func watch(name, serial, pair string) standin.Entry {
	return standin.Entry{Name: name, Body: "wick", Model: "W2", Serial: serial, Pair: pair, Begin: &body.Beginning{Settings: map[string]string{"loose": "yes"}}}
}

// near waits until something is heard through the handset.
func (d *desk) near(state network.EntryState) (found network.Entry) {
	d.T.Helper()
	d.Eventually("something is near that is "+string(state), func() bool {
		for _, e := range d.Companions.List() {
			if e.State == state {
				found = e
				return true
			}
		}
		return false
	})
	return found
}

// steers steers a stand-in, and takes the answer unless result is nil.
func (d *desk) steers(method, name, text string, off bool, result any) error {
	d.T.Helper()
	return benchtest.SteerAt(d.T, d.socket, method, standin.Steer{Body: name, Text: text, Off: off}, result)
}

// reads is what stands on a stand-in's screen.
func (d *desk) reads(name string) string {
	d.T.Helper()
	var r body.Reading
	require.NoError(d.T, d.steers(standin.MethodScreen, name, "", false, &r))
	return r.Title
}

func (d *desk) touches(text string) {
	d.T.Helper()
	d.Eventually("touch "+text, func() bool { return d.steers(standin.MethodTouch, watchName, text, false, nil) == nil })
}

func (d *desk) fault(name string, off bool) {
	d.T.Helper()
	require.NoError(d.T, d.steers(standin.MethodFault, watchName, name, off, nil))
}

// introduced introduces the watch, and returns its keeper.
func (d *desk) introduced() *keeper.Keeper {
	d.T.Helper()
	_, err := d.Introductions.Meet(d.T.Context(), d.near(network.NotMet).Name, "")
	require.NoError(d.T, err)
	words := ""
	d.Eventually("it shows words", func() bool {
		words = d.reads(watchName)
		_, err := introduction.Parse(words)
		return err == nil
	})
	_, err = d.Introductions.Type(d.T.Context(), words)
	require.NoError(d.T, err)
	d.touches("Always")
	d.Eventually("it is introduced", func() bool { m, _ := d.Introductions.Meeting(); return m.State == network.Done })
	m, _ := d.Introductions.Meeting()
	k, err := d.Rack.Find(m.As)
	require.NoError(d.T, err)
	d.Linked(k)
	return k
}

func TestAWatchIsIntroducedThroughItsHandset(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	e := d.near(network.NotMet)
	require.Equal(t, network.Entry{Name: e.Name, State: network.NotMet, Family: "wick", Through: handsetName, Since: e.Since}, e)
	k := d.introduced()
	require.Equal(t, "W 2 0019", k.Device().Serial)
	require.Equal(t, d.fingerprint(watchName), k.Device().Key)
	require.Equal(t, k.Device().Handle, d.near(network.Known).Device)
	require.Equal(t, []keeper.Reached{{Kind: ways.Companion, Place: ways.Place{Port: handsetName}, Linked: true, Up: true}}, k.Ways())
	d.First(k, "registered")
}

func (d *desk) fingerprint(name string) string {
	var all []standin.Status
	require.NoError(d.T, d.steers(standin.MethodBodies, "", "", false, &all))
	return all[slices.IndexFunc(all, func(s standin.Status) bool { return s.Name == name })].Key
}

func TestAWatchThatSleepsIsWokenForWhatNeedsIt(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	k := d.introduced()
	d.First(k, "registered")
	d.fault("asleep", false)
	d.Eventually("it sleeps", k.Sleeps)
	require.WithinDuration(t, time.Now(), k.Ways()[0].Asleep, 5*time.Second)
	require.False(t, d.near(network.Known).Asleep.IsZero())
	require.NoError(t, d.Outlook.Reachable(k))
	_, err := d.Outlook.SessionNow(k)
	require.Error(t, err, "nobody has woken it")
	d.First(k, "registered") // that it sleeps is no obstacle

	s, err := d.Outlook.Session(t.Context(), k)
	require.NoError(t, err)
	require.NoError(t, s.Find(t.Context(), k.Device().Handle))
	require.False(t, k.Sleeps())

	d.fault("asleep", false)
	select {
	case <-s.Done():
	case <-time.After(benchtest.Patience):
		require.Fail(t, "its sessions end as it falls asleep")
	}
	next := k.Elsewhere(t.Context(), string(ways.Companion))
	require.NotNil(t, next, "it is woken again for what goes on")
	require.NoError(t, next.Find(t.Context(), k.Device().Handle))

	d.fault("asleep", false)
	d.Eventually("it sleeps", k.Sleeps)
	_, err = d.Outlook.Await(t.Context(), k)
	require.NoError(t, err, "and for work that was resumed")
}

func TestAWatchThatDoesNotWakeIsSaidSo(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	k := d.introduced()
	d.fault("asleep", false)
	d.fault("wakes-not", false)
	d.Eventually("it sleeps", k.Sleeps)
	soon, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	_, err := d.Outlook.Session(soon, k)
	require.ErrorIs(t, err, context.DeadlineExceeded, "who asks may give up")
	began := time.Now()
	_, err = d.Outlook.Session(t.Context(), k)
	require.Equal(t, "kittiwake-1 was not reached within 30s: heron-1 cannot connect to it: it sleeps and does not wake. Wake it by its button, or lay it on its cradle, then try again.", err.Error())
	require.Less(t, time.Since(began), 40*time.Second)
	require.Equal(t, "linked", d.Look(k).Readiness.First)
	require.Contains(t, d.Look(k).Why.Text, "through heron-1 could not be made")

	d.fault("wakes-not", true)
	_, err = d.Outlook.Session(t.Context(), k)
	require.NoError(t, err)
	d.First(k, "registered")
}

func TestAWatchComesAndGoesWithItsHandset(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	k := d.introduced()
	require.NoError(t, d.steers(standin.MethodPull, handsetName, "", false, nil))
	d.Eventually("it is not heard", func() bool { return len(k.Ways()) == 0 && len(d.Companions.List()) == 0 })
	d.First(k, "seen")
	_, err := d.Outlook.Session(t.Context(), k)
	require.Equal(t, problem.Blocked, problem.KindOf(err))
	require.NoError(t, d.steers(standin.MethodPlug, handsetName, "", false, nil))
	d.Linked(k)
	d.fault("out-of-reach", false)
	d.Eventually("it is not heard", func() bool { return len(k.Ways()) == 0 })
	d.fault("out-of-reach", true)
	d.Linked(k)
}

// What is heard of a device that people say is reached through another one is told apart from what
// is heard of others.
func TestAWatchThatWasPutOnTheRackByHandIsNearOnceItsHandsetHearsIt(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	of, err := d.Rack.Add(t.Context(), "pulse", "W2")
	require.NoError(t, err)
	require.NoError(t, of.Facts().Observe(t.Context(), of.Seen(fact.CompanionOf, fact.Of(handsetName), fact.Person)))
	other, err := d.Rack.Add(t.Context(), "other", "W2")
	require.NoError(t, err)
	require.NoError(t, of.Facts().Observe(t.Context(), of.Seen("mode.loose", fact.Of(true), fact.Person)))
	d.First(of, "admitted")
	require.Equal(t, "not-introduced", d.Look(of).Why.Causes[0].ID)
	require.NotEqual(t, "admitted", d.Look(other).Readiness.First)
	require.Equal(t, []string{"pulse"}, d.Introductions.MayBe(d.near(network.NotMet)))
	require.Equal(t, []string{"other"}, d.Introductions.MayBe(network.Entry{State: network.NotMet, Family: "wick"}))
	d.radio.set(away)
	d.First(of, "seen")
	require.Equal(t, "companion-away", d.Look(of).Why.Causes[0].ID)
}

// A handset in between can do no more than keep the two apart, and that is said.
func TestAHandsetThatDoesNotPassOnWhatItGetsIsSaidSo(t *testing.T) {
	for _, c := range []struct {
		name string
		mode mode
		text string
	}{
		{"it changes what it passes on", altering, "what arrives through heron-1 is not what it sent"},
		{"it leaves bytes out", dropping, "it has not answered through heron-1 within 10s"},
		{"it ends what it passes on", cutting, "the stream through heron-1 was cut"},
		{"it holds all back", holding, "it has not answered through heron-1 within 10s"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t)
			k := d.introduced()
			require.NoError(t, d.steers(standin.MethodPlug, watchName, "", false, nil)) // on its cradle it stays awake
			d.radio.set(c.mode)
			d.Eventually("it is said", func() bool {
				w := k.Ways()
				return len(w) == 1 && w[0].Down != nil && strings.HasPrefix(w[0].Down.Error(), c.text)
			})
			d.First(k, "admitted")
			d.Eventually("why says so", func() bool { return strings.Contains(d.Look(k).Why.Text, "heron-1 could not be made: "+c.text) })
			d.radio.set(well)
			d.Linked(k)
		})
	}
}

// In the middle of what goes on, too.
func TestASessionThatIsChangedOnItsWayEndsWithASentence(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	k := d.introduced()
	d.radio.alterNow()
	d.Eventually("it is said", func() bool {
		f, ok := k.Facts().View().Get(fact.LinkTrouble, time.Now())
		return ok && f.Value.Text() != ""
	})
	d.Linked(k)
}

func TestAHandsetThatConnectsToAnotherWatchIsStopped(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	k := d.introduced()
	second := benchtest.FreeAddress(t)
	stands(t, "shed", watch("kittiwake-3", "W 2 0020", second))
	d.radio.streamsTo(second)
	d.Eventually("it stops", func() bool {
		w := k.Ways()
		if len(w) != 1 || w[0].Down == nil {
			return false
		}
		_, changed := errors.AsType[*device.KeyChanged](w[0].Down)
		return changed
	})
	d.First(k, "admitted")
}

func TestASessionThroughAHandsetFulfilsTheContract(t *testing.T) {
	devicetest.Test(t, func(t *testing.T) devicetest.Rig {
		d := newDesk(t)
		return devicetest.Rig{Session: d.Linked(d.introduced()), Silence: d.radio.hush}
	})
}

// A handset may repeat the name of a watch that another one hears, and lead elsewhere: that keeps
// nobody from the watch.
func TestAHandsetThatRepeatsTheNameOfAWatchKeepsNobodyFromIt(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	k := d.introduced()
	second := benchtest.FreeAddress(t)
	liar := newRadio(t)
	liar.mu.Lock()
	liar.to, liar.streams = d.radio.to, second // what it hears is the watch, and where it leads is another one
	liar.mu.Unlock()
	at := stands(t, "shed", watch("kittiwake-3", "W 2 0020", second), handset(d.Bench, "heron-3", "HH3 0042 9A08", liar.address))
	d.Hosts.Watch(store.Host{Name: "shed", USBIP: at.Hub, Control: at.Host})
	d.Eventually("both hear it", func() bool {
		n := 0
		for _, e := range d.Companions.List() {
			if e.Device == k.Device().Handle {
				n++
			}
		}
		return n == 2
	})
	for range 3 {
		d.radio.cut()
		d.Eventually("its session ends", func() bool { return k.Session() == nil || k.Ways()[0].Linked })
		d.Linked(k)
	}
	require.Equal(t, ways.Place{Port: handsetName}, k.Ways()[0].Place)
}

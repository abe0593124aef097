package cable_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// heron is a handset on a bus of a host that exports nothing.
func heron(port string, plugging int) hostlink.Bus {
	return hostlink.Bus{Devices: []hostlink.Device{{BusID: "1-" + port, Port: "port " + port, Plugging: plugging, Run: "r", USB: "f3e0:0104", Serial: "HH4"}}}
}

func host(name string) store.Host { return store.Host{Name: name, USBIP: "127.0.0.1:1"} }

func only(b *benchtest.Bench) *keeper.Keeper {
	b.T.Helper()
	all := b.Rack.All()
	require.Len(b.T, all, 1)
	return all[0]
}

func breaks(k *keeper.Keeper) int64 {
	f, _ := k.Facts().View().Get(fact.USBBreaks, time.Now())
	n, _ := f.Value.Any().(int64)
	return n
}

func seen(b *benchtest.Bench, k *keeper.Keeper, state string) {
	b.T.Helper()
	b.Eventually("seen is "+state, func() bool { return string(b.Look(k).Readiness.Gate("seen").State) == state })
}

func TestADeviceThatMovesToAnotherHostIsNotEndedByTheFirstOnesNews(t *testing.T) {
	b := benchtest.New(t)
	b.Cables.Bus(t.Context(), host("loft"), heron("1", 1))
	k := only(b)
	seen(b, k, "open")
	b.Cables.Bus(t.Context(), host("attic"), heron("4", 1)) // it is there already
	b.Eventually("it is at both", func() bool { return len(k.Ways()) == 2 })
	b.Cables.Bus(t.Context(), host("loft"), hostlink.Bus{}) // and the first says so later
	b.Eventually("it is at the second", func() bool { w := k.Ways(); return len(w) == 1 && w[0].Place.Host == "attic" })
	seen(b, k, "open")
	require.Same(t, k, only(b))
}

func TestALostHostIsNoBreakOfEveryCableOnIt(t *testing.T) {
	b := benchtest.New(t)
	b.Cables.Bus(t.Context(), host("loft"), heron("1", 1))
	k := only(b)
	seen(b, k, "open")
	for n := range 5 {
		b.Cables.Lost(t.Context(), host("loft"))
		b.First(k, "seen")
		b.Cables.Bus(t.Context(), host("loft"), heron("1", 1))
		seen(b, k, "open")
		require.Zero(t, breaks(k), "after %d", n+1)
	}
	b.Cables.Bus(t.Context(), host("loft"), heron("1", 2)) // pulled and plugged in between two looks
	b.Eventually("that is one", func() bool { return breaks(k) == 1 })
}

func TestTheReasonForNoLinkIsOverOnceThereIsOne(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	at := rig.Addresses()
	// The exporter cannot be reached at first.
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: "127.0.0.1:1", Control: at.Host})
	b.Eventually("it says why there is no link", func() bool {
		for _, k := range b.Rack.All() {
			if f, ok := k.Facts().View().Get(fact.LinkTrouble, time.Now()); ok {
				return f.Value.Text() != ""
			}
		}
		return false
	})
	k := only(b)
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: at.Hub, Control: at.Host})
	b.First(k, "admitted")
	b.Eventually("the trouble is over", func() bool {
		_, trouble := k.Facts().View().Get(fact.LinkTrouble, time.Now())
		key, known := k.Facts().View().Get(fact.LinkKey, time.Now())
		return !trouble && known && key.Value.Text() == "known"
	})
	go benchtest.Touch(t, rig, "Until withdrawn")
	_, err := b.Ask(t.Context(), k)
	require.NoError(t, err, "and it can be asked")
}

func TestWhileADeviceAsksAnotherAskingIsTheSameOne(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "admitted")
	one, err := b.Prep.Ask(t.Context(), "heron-1", "owner/ada", 0)
	require.NoError(t, err)
	two, err := b.Prep.Ask(t.Context(), "heron-1", "browser/ada", 0)
	require.NoError(t, err)
	require.Equal(t, one.ID, two.ID)
	_, err = k.Lease(t.Context(), "Retire heron-1", keeper.Exclusive)
	require.ErrorContains(t, err, "is busy: Ask heron-1 to let this bench in")
	benchtest.Touch(t, rig, "Until withdrawn")
	require.Equal(t, "done", string(b.Ended(one).State))
}

// keyboard is something that no sheet fits, whose interface has this driver.
func keyboard(driver string) hostlink.Bus {
	return hostlink.Bus{Devices: []hostlink.Device{{BusID: "1-3", Port: "port 3", Plugging: 1, Run: "r", USB: "f3e9:0001", Interfaces: []hostlink.Interface{{Class: "03/01/01", Driver: driver}}}}}
}

func TestWhatTheSystemHasDriversForIsNotCalledUnrecognised(t *testing.T) {
	b := benchtest.New(t)
	b.Cables.Bus(t.Context(), host("loft"), keyboard("")) // as it is just after it was plugged in
	require.Len(t, b.Rack.Unrecognised(), 1)
	b.Cables.Bus(t.Context(), host("loft"), keyboard("keys"))
	require.Empty(t, b.Rack.Unrecognised(), "it is a keyboard")
	b.Cables.Bus(t.Context(), host("loft"), keyboard("keys"))
	require.Empty(t, b.Rack.Unrecognised())
	b.Cables.Bus(t.Context(), host("loft"), keyboard(""))
	require.Len(t, b.Rack.Unrecognised(), 1, "its driver was taken away")
	b.Cables.Bus(t.Context(), host("loft"), hostlink.Bus{})
	require.Empty(t, b.Rack.Unrecognised())
}

func TestADeviceThatItsHostMayNotOpenIsKnownByWhatTheHostHasRead(t *testing.T) {
	b := benchtest.New(t)
	closed := heron("1", 1)
	closed.Devices[0].Denied = "its node is closed to ada"
	closed.Devices[0].Interfaces = []hostlink.Interface{{Number: 1, Class: "ff/00/00", Name: usb.LinkName}}
	b.Cables.Bus(t.Context(), host("loft"), closed)
	k := only(b)
	b.First(k, "driver")
	why := b.Look(k).Why
	require.Equal(t, "node-closed", why.Causes[0].ID)
	require.Greater(t, why.Causes[0].Probability, 0.99)
	require.Contains(t, why.Causes[0].Text, "its node is closed to ada")
	open := heron("1", 1)
	open.Devices[0].Interfaces = []hostlink.Interface{{Number: 1, Class: "ff/00/00", Name: usb.LinkName, Driver: "system"}}
	b.Cables.Bus(t.Context(), host("loft"), open)
	b.Eventually("the gate opens", func() bool { return string(b.Look(k).Readiness.Gate("driver").State) == "open" })
}

func TestTransfersThatFailOnAWornCableAreCounted(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "admitted")
	go benchtest.Touch(t, rig, "Until withdrawn")
	_, err := b.Ask(t.Context(), k)
	require.NoError(t, err)
	b.Linked(k)
	failed := func() int64 {
		f, _ := k.Facts().View().Get(fact.USBErrors, time.Now())
		return f.Value.Int()
	}
	require.Zero(t, failed())
	require.NoError(t, benchtest.Steer(t, rig, standin.MethodFault, standin.Steer{Body: "heron-2", Text: "cable-worn"}))
	content := bytes.Repeat([]byte("rota "), 40_000)
	b.Eventually("transfers have failed", func() bool {
		if s := k.Session(); s != nil {
			if files, err := s.Files(); err == nil {
				files.Put(t.Context(), "incoming", "rota", bytes.NewReader(content), 0, int64(len(content)), func(int64) {})
			}
		}
		return failed() > 0
	})
}

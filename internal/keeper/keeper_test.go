package keeper_test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
)

func TestMain(m *testing.M) { leaks.None(m) }

// value is the good value of a fact, as text.
func value(k *keeper.Keeper, key fact.Key) string {
	f, ok := k.Facts().View().Get(key, time.Now())
	if !ok {
		return "(not known)"
	}
	return f.Value.String()
}

func TestADeviceIsSeenNamedAndLinkedByItself(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	k := b.Watch(rig)
	require.Equal(t, "heron-1", k.Device().Handle, "the first of its stem")
	b.First(k, "admitted")
	b.Eventually("it is a visitor", func() bool { return value(k, fact.AdmitState) == "none" })
	require.Equal(t, "06/01/01 Files, ff/00/00 Early Bench device link 1", value(k, fact.USBInterfaces))
	require.Equal(t, "12", value(k, fact.OSRelease))
	require.NotEmpty(t, k.Device().Key, "its key is pinned at the first meeting")

	go benchtest.Touch(t, rig, "Until withdrawn")
	state, err := b.Ask(t.Context(), k)
	require.NoError(t, err)
	require.Equal(t, device.Admitted, state)
	b.First(k, "")
	b.Eventually("it tells of itself", func() bool { return value(k, fact.ModeComputers) == "install" })
	b.Eventually("and of its battery", func() bool { return value(k, fact.Battery) == "81" })
	apps, err := b.Linked(k).Apps()
	require.NoError(t, err)
	list, err := apps.List(t.Context())
	require.NoError(t, err)
	require.Empty(t, list)
}

func TestEverythingSeenOverACableEndsWithItAndComesBack(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "admitted")
	require.NoError(t, b.Outlook.Tell(t.Context(), b.Said(k), "find"))
	b.Eventually("its key is pinned", func() bool { return k.Device().Key != "" })
	key := k.Device().Key

	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPull, standin.Steer{Body: "heron-2"}))
	b.First(k, "seen")
	require.Equal(t, "(not known)", value(k, fact.USBLink))
	require.Equal(t, "(not known)", value(k, sheet.Told("find")))
	require.Equal(t, "12", value(k, fact.OSRelease), "what it is stays known")
	_, err := b.Outlook.Session(t.Context(), k)
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, "seen", p.Gate)

	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPlug, standin.Steer{Body: "heron-2"}))
	b.First(k, "admitted")
	require.Equal(t, key, k.Device().Key)
	require.Len(t, b.Rack.All(), 1, "the same device, not another")
}

func TestADriverThatTheHostBindsIsNoticed(t *testing.T) {
	rig := benchtest.Handset(t, true)
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "driver")
	require.Equal(t, "no", value(k, fact.DriverBound))
	require.Equal(t, "", value(k, fact.DriverOffered))

	digest, _, err := b.Files.Put(bytes.NewReader(benchtest.DriverSet(t, "halden-link")))
	require.NoError(t, err)
	_, err = b.Hosts.Install(t.Context(), "loft", digest, b.Files.Path(digest), func(int64) {})
	require.NoError(t, err)
	b.First(k, "admitted")
	require.Equal(t, "halden-link", value(k, fact.DriverSet))
}

func TestARackThatIsOpenedAgainKnowsItsDevicesButClaimsNothing(t *testing.T) {
	rig := benchtest.Handset(t, false)
	dir := t.TempDir()
	b := benchtest.In(t, dir)
	k := b.Watch(rig)
	b.First(k, "mode")
	b.Hosts.Forget("loft")
	b.First(k, "seen")
	b.End()
	again := benchtest.In(t, dir)
	all := again.Rack.All()
	require.Len(t, all, 1)
	require.Equal(t, "seen", again.Look(all[0]).Readiness.First)
	require.Equal(t, "unseen", string(again.Look(all[0]).Readiness.Summary))
}

func TestWhatNoSheetFitsIsShownAsUnrecognised(t *testing.T) {
	b := benchtest.New(t)
	h := store.Host{Name: "loft", USBIP: "127.0.0.1:1"}
	b.Cables.Bus(t.Context(), h, hostlink.Bus{Devices: []hostlink.Device{{BusID: "1-4", Port: "hub port 4", USB: "f3e1:0102",
		Interfaces: []hostlink.Interface{{Class: "ff/00/00", Name: "slate-sync"}}}}})
	require.Empty(t, b.Rack.All())
	require.Len(t, b.Rack.Unrecognised(), 1)
	x := b.Rack.Unrecognised()[0]
	require.Equal(t, []string{"unknown-1", "loft", "hub port 4", "f3e1:0102", "ff/00/00 slate-sync"}, append([]string{x.Name, x.Host, x.Port, x.USB}, x.Interfaces...))
	b.Cables.Bus(t.Context(), h, hostlink.Bus{})
	require.Empty(t, b.Rack.Unrecognised())
}

func TestHandlesAreChangedButNotToNonsense(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	b.Watch(rig)
	name := func(s string) rack.Change { return rack.Change{Handle: &s} }
	require.NoError(t, b.Rack.Set(t.Context(), "heron-1", name("casualty-pulse")))
	_, err := b.Rack.Find("heron-1")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorContains(t, err, "casualty-pulse")
	for _, bad := range []string{"", "Heron", "2nd", "a b", "a/b", "heron_2"} {
		require.Equal(t, problem.Invalid, problem.KindOf(b.Rack.Set(t.Context(), "casualty-pulse", name(bad))), bad)
	}
	require.ErrorIs(t, b.Rack.Set(t.Context(), "nobody", name("x")), store.ErrNotFound)
}

func TestOnlyStepsThatTheBenchCannotSeeAreTold(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	require.ErrorIs(t, b.Outlook.Tell(t.Context(), b.Said(k), "dance"), store.ErrNotFound)
	for _, sure := range []string{"plug", "driver", "admit", "link"} {
		require.Equal(t, problem.Invalid, problem.KindOf(b.Outlook.Tell(t.Context(), b.Said(k), sure)), sure)
	}
	require.NoError(t, b.Outlook.Tell(t.Context(), b.Said(k), "find"))
	s := b.Look(k)
	f, ok := s.View.Get(sheet.Told("find"), s.Now)
	require.True(t, ok)
	require.Equal(t, "ada", f.By)
	require.Equal(t, fact.Person, f.Source)
}

func TestALeaseIsForOneAndSaysWhoHasIt(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "mode")
	release, err := k.Lease(t.Context(), "Install halden-link on loft", keeper.Exclusive)
	require.NoError(t, err)
	require.Equal(t, "preparing", string(b.Look(k).Readiness.Summary))
	_, err = k.Lease(t.Context(), "another", keeper.Shared)
	require.ErrorContains(t, err, "heron-1 is busy: Install halden-link on loft")
	release()
	require.Empty(t, b.Look(k).Working)
}

func TestTheRevisionCountsOnlyWhatOneDecidesBy(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "mode")
	b.Eventually("it has settled", func() bool {
		before := b.Look(k).Revision
		time.Sleep(300 * time.Millisecond)
		return b.Look(k).Revision == before
	})
	before := b.Look(k).Revision
	require.NoError(t, k.Facts().Observe(t.Context(), k.Seen(fact.Battery, fact.Of(50), fact.Device)))
	require.NoError(t, b.Outlook.Check(k, before), "a fact that changes no gate")
	require.NoError(t, b.Outlook.Tell(t.Context(), b.Said(k), "find"))
	require.Equal(t, problem.Changed, problem.KindOf(b.Outlook.Check(k, before)), "another next step")
	require.Greater(t, b.Look(k).Revision, before)
}

func TestAskingADeviceThatIsNotThereSaysWhatIsInTheWay(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "mode")
	_, err := b.Prep.Ask(t.Context(), "heron-1", "owner/ada", 0)
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, "mode", p.Gate)
	require.NotContains(t, p.Remedy, "*", "plain words")
}

func TestAQuestionEndsWhenTheCableIsPulled(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "admitted")
	asked := make(chan error, 1)
	go func() {
		_, err := b.Ask(context.Background(), k)
		asked <- err
	}()
	b.Eventually("it asks", func() bool { return value(k, fact.AdmitState) == "asking" })
	require.Equal(t, "waiting", string(b.Look(k).Why.State))
	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPull, standin.Steer{Body: "heron-2"}))
	var p *problem.Problem
	require.ErrorAs(t, <-asked, &p)
	require.Equal(t, problem.Gone, p.Kind)
}

func TestADeviceThatSomebodyElseHoldsSaysSo(t *testing.T) {
	rig := benchtest.Handset(t, true)
	first := benchtest.New(t)
	k := first.Watch(rig)
	first.First(k, "driver")
	require.Equal(t, "", value(k, fact.USBHolder), "nobody else has it")
	second := benchtest.New(t)
	other := second.Watch(rig)
	second.Eventually("it is held", func() bool {
		why := second.Look(other).Why
		return len(why.Causes) > 0 && why.Causes[0].ID == "held-by-machine" && why.Causes[0].Probability > 0.99
	})
	first.Hosts.Forget("loft")
	second.First(other, "driver")
}

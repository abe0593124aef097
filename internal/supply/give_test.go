package supply_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
)

func TestADeviceIsTakenBackFromAVirtualMachineAndGivenToIt(t *testing.T) {
	b, s := start(t)
	rig := benchtest.HandsetOn(t, true, func(sc *standin.Scenario) { sc.Drivers, sc.Bodies[0].Held = true, true })
	k := b.Watch(rig)
	b.First(k, "seen")
	b.Eventually("why names the virtual machine", func() bool {
		c := b.Look(k).Why.Causes
		return len(c) > 0 && c[0].ID == "held-by-machine" && b.Look(k).Words["holder"] == "pit"
	})
	next := b.Look(k).Readiness.Next
	require.Equal(t, "host.give", next.Action)
	require.False(t, next.Missing)

	require.NoError(t, s.Give(t.Context(), "heron-1", "moor-desk", "moor-desk"))
	b.First(k, "admitted")
	require.NoError(t, s.Give(t.Context(), "heron-1", "moor-desk", "moor-desk"), "what one has stays")

	require.Equal(t, problem.NotFound, problem.KindOf(s.Give(t.Context(), "heron-1", "pit", "moor-desk")), "it is no host of this bench yet")
	b.Hosts.Watch(store.Host{Name: "pit", Control: rig.Addresses().Machine})
	require.NoError(t, b.Hosts.Await(t.Context(), "pit", benchtest.Patience))
	require.NoError(t, s.Give(t.Context(), "heron-1", "pit", "moor-desk"))
	b.First(k, "seen")
	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPull, standin.Steer{Body: "heron-2"}))
	b.Eventually("it has left the bus", func() bool { return b.Look(k).Words["holder"] == "" })
	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPlug, standin.Steer{Body: "heron-2"}))
	b.Eventually("the machine has it again after a break", func() bool { return b.Look(k).Words["holder"] == "pit" })
	require.NoError(t, s.Give(t.Context(), "heron-1", "moor-desk", "moor-desk"))
	b.First(k, "admitted")
}

func TestADeviceOnNoBusCannotBeGivenAway(t *testing.T) {
	b, s := start(t)
	_, err := b.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	require.Equal(t, problem.Blocked, problem.KindOf(s.Give(t.Context(), "kittiwake-1", "moor-desk", "moor-desk")))
	require.Equal(t, problem.NotFound, problem.KindOf(s.Give(t.Context(), "heron-7", "moor-desk", "moor-desk")))
}

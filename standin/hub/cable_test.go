package hub_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/standin/hub"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func shown(h *hub.Hub) bool { return len(h.List()) == 1 }

func TestACableWithoutDataShowsNothingHoweverLongOneWaits(t *testing.T) {
	for _, cable := range []hub.Cable{hub.Charge, hub.Dead} {
		e, h := start(t, true, true)
		require.NoError(t, h.SetCable("heron-2", cable))
		require.False(t, shown(h), string(cable))
		e.show(true)
		time.Sleep(20 * time.Millisecond)
		require.False(t, shown(h), "nor when the body changes")
		require.True(t, h.Ports()[0].Plugged, "the cable is in all the same")
		require.NoError(t, h.SetCable("heron-2", hub.Data))
		require.Eventually(t, func() bool { return shown(h) }, time.Second, time.Millisecond)
	}
}

func TestAWornCableBreaksForAMomentAgainAndAgain(t *testing.T) {
	_, h := start(t, true, true)
	require.NoError(t, h.SetCable("heron-2", hub.Worn))
	before := h.Ports()[0].Plugging
	require.Eventually(t, func() bool { return h.Ports()[0].Plugging >= before+2 }, 10*time.Second, 5*time.Millisecond)
	require.NoError(t, h.SetCable("heron-2", hub.Data))
	after := h.Ports()[0].Plugging
	time.Sleep(3500 * time.Millisecond)
	require.Equal(t, after, h.Ports()[0].Plugging, "another cable does not")
}

func TestWhatAVirtualMachineHoldsIsListedAndCannotBeClaimed(t *testing.T) {
	_, h := start(t, true, true)
	bench, pit := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)}, &net.TCPAddr{IP: net.IPv4(127, 0, 0, 9)}
	mine, _, release, err := h.Claim("1-1", bench)
	require.NoError(t, err)
	require.NoError(t, h.Release("1-1", "pit"))
	<-mine.Done()
	release()
	_, _, _, err = h.Claim("1-1", bench)
	require.ErrorIs(t, err, usb.ErrBusy, "it is kept for the machine")
	theirs, _, release, err := h.Claim("1-1", pit)
	require.NoError(t, err)
	require.True(t, shown(h), "it is still on the bus")
	require.Equal(t, "pit", h.Ports()[0].Held)
	require.NoError(t, h.Release("1-1", ""))
	<-theirs.Done()
	release()
	require.Empty(t, h.Ports()[0].Held)
	_, _, _, err = h.Claim("1-1", pit)
	require.ErrorIs(t, err, usb.ErrBusy, "it was taken away from the machine")
	_, _, release, err = h.Claim("1-1", bench)
	require.NoError(t, err)
	release()
	require.ErrorIs(t, h.Release("1-9", ""), usb.ErrNotFound)
	require.Error(t, h.Release("1-1", "nobody"))
	require.Error(t, h.SetCable("heron-9", hub.Worn))
}

func TestABodyThatRestartsLeavesTheBusAndComesBack(t *testing.T) {
	e, h := start(t, true, true)
	e.mu.Lock()
	e.off = true
	e.mu.Unlock()
	e.show(true)
	require.Eventually(t, func() bool { return !shown(h) }, time.Second, time.Millisecond)
	e.mu.Lock()
	e.off = false
	e.mu.Unlock()
	e.show(true)
	require.Eventually(t, func() bool { return shown(h) }, time.Second, time.Millisecond)
	unplugged, _ := e.count()
	require.Zero(t, unplugged, "nobody pulled its cable")
}

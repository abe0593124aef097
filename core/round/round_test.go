package round_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/round"
	"earlybench.invalid/earlybench/core/sheet"
)

func needs(handle, step string, who sheet.Who, port int) round.Device {
	return round.Device{Handle: handle, Family: "tarn", Step: step, Title: "Do " + step, Who: who, Host: "loft", Port: fmt.Sprintf("hub port %d", port), Mins: 1}
}

func titles(r round.Round) (out []string) {
	for _, g := range r.Groups {
		out = append(out, g.Title)
	}
	return out
}

func TestDevicesThatNeedTheSameAreOneGroupInTheOrderOfTheirPorts(t *testing.T) {
	r := round.Make([]round.Device{needs("heron-10", "tap", sheet.Hands, 10), needs("heron-2", "tap", sheet.Hands, 2), {Handle: "heron-1"}, needs("heron-9", "tap", sheet.Hands, 9)})
	require.Len(t, r.Groups, 1)
	require.Equal(t, 3, r.Groups[0].Minutes)
	var handles []string
	for _, d := range r.Groups[0].Devices {
		handles = append(handles, d.Handle)
	}
	require.Equal(t, []string{"heron-2", "heron-9", "heron-10"}, handles)
	require.Equal(t, "heron-1", r.Ready[0].Handle)
}

func TestTheHandsComeFirstAndTheBiggestGroupOfThem(t *testing.T) {
	r := round.Make([]round.Device{needs("a-1", "fetch", sheet.Automatic, 1), needs("a-2", "driver", sheet.Computer, 2), needs("a-3", "tap", sheet.Hands, 3), needs("a-4", "allow", sheet.Hands, 4), needs("a-5", "allow", sheet.Hands, 5)})
	require.Equal(t, []string{"Do allow", "Do tap", "Do driver", "Do fetch"}, titles(r))
}

func TestTheSameWordsOfTwoFamiliesAreTwoGroups(t *testing.T) {
	other := needs("k-1", "tap", sheet.Hands, 2)
	other.Family = "kestle"
	require.Len(t, round.Make([]round.Device{needs("a-1", "tap", sheet.Hands, 1), other}).Groups, 2)
}

func TestFromTheBiggestGroupTheNearestIsTakenAlways(t *testing.T) {
	elsewhere := needs("f-1", "far", sheet.Hands, 3)
	elsewhere.Host = "shed"
	r := round.Make([]round.Device{elsewhere, needs("d-9", "last", sheet.Hands, 9), needs("a-2", "big", sheet.Hands, 2), needs("a-3", "big", sheet.Hands, 3), needs("c-5", "near", sheet.Hands, 5)})
	require.Equal(t, []string{"Do big", "Do near", "Do last", "Do far"}, titles(r))
}

func TestARoundLosesNoDeviceAndWalksNoFartherThanByHandle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var devices []round.Device
		for i := range rapid.IntRange(0, 30).Draw(t, "devices") {
			d := needs(fmt.Sprintf("a-%d", i), rapid.SampledFrom([]string{"tap", "allow", "say-yes", "plug"}).Draw(t, "step"), sheet.Hands, i*7%31)
			if rapid.Bool().Draw(t, "ready") {
				d = round.Device{Handle: d.Handle}
			}
			devices = append(devices, d)
		}
		r := round.Make(devices)
		seen := map[string]int{}
		for _, g := range r.Groups {
			for _, d := range g.Devices {
				seen[d.Handle]++
			}
		}
		for _, d := range r.Ready {
			seen[d.Handle]++
		}
		require.Len(t, seen, len(devices))
		for h, n := range seen {
			require.Equal(t, 1, n, h)
		}
		// One who goes from group to group in the order of the handles, and within a
		// group in that of the handles, goes farther.
		require.LessOrEqual(t, r.Walked(), unordered(devices)+31)
	})
}

func unordered(devices []round.Device) float64 {
	r := round.Round{}
	at := map[string]int{}
	for _, d := range devices {
		if d.Title == "" {
			continue
		}
		i, ok := at[d.Step]
		if !ok {
			i = len(r.Groups)
			at[d.Step] = i
			r.Groups = append(r.Groups, round.Group{Who: sheet.Hands})
		}
		r.Groups[i].Devices = append(r.Groups[i].Devices, d)
	}
	return r.Walked()
}

package driver_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
)

// set is a candidate for the device link of some ids.
func set(digest, version, ids string, verified bool, systems ...driver.System) driver.Candidate {
	return driver.Candidate{Verified: verified, Held: driver.Held{Digest: digest, Manifest: driver.Manifest{Name: digest, Version: version, Systems: systems,
		Fits: []driver.Match{{USB: ids, Class: "ff/00/00", Interface: usb.LinkName}}}}}
}

func TestCandidatesAreRankedWithTheirReasons(t *testing.T) {
	vale := driver.LinkOf(usb.ID{Vendor: 0xf3e0, Product: 0x0104}, "vale", "3.10")
	ranked := driver.Rank([]driver.Candidate{
		set("another-vendor", "1", "f3e1:0104", true),
		set("similar", "9", "f3e0:0103", true),
		set("old-system", "9", "f3e0:0104", true, driver.System{Name: "vale", Below: "3.9"}),
		set("other-system", "9", "f3e0:0104", true, driver.System{Name: "fen"}),
		set("every-device", "9", "", true),
		set("range", "9", "f3e0:0100-01ff", true),
		set("exact-unsigned", "9", "f3e0:0104", false),
		set("exact-4.9", "4.9", "f3e0:0104", true, driver.System{Name: "fen"}, driver.System{Name: "vale", From: "3.9"}),
		set("exact-4.10", "4.10", "f3e0:0104", true),
		set("exact-4.10", "4.10", "f3e0:0104", true),
	}, vale)
	var order []string
	for _, c := range ranked {
		order = append(order, c.Digest)
		require.NotEmpty(t, c.Why, c.Digest)
		require.Equal(t, c.Fit >= driver.Generic, c.Fit.Automatic())
	}
	require.Equal(t, []string{"exact-4.10", "exact-4.9", "exact-unsigned", "range", "every-device", "old-system", "other-system", "similar"}, order)
	require.Contains(t, ranked[5].Why, "for vale below 3.9, but the host has vale 3.10")
	require.Contains(t, ranked[7].Why, "similar model")
	require.Empty(t, driver.Rank(nil, vale))
}

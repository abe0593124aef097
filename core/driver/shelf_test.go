package driver_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
)

func TestTheNewestSetIsTheOneWithTheHighestVersionByItsParts(t *testing.T) {
	held := func(version string) driver.Held {
		return driver.Held{Digest: version, Manifest: driver.Manifest{Version: version, Fits: []driver.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}}
	}
	var s driver.Shelf
	require.Nil(t, s.Fitting("f3e0:0104"))
	s.Set([]driver.Held{held("4.9"), held("4.10"), held("4.2")})
	require.Equal(t, "4.10", s.Fitting("f3e0:0104").Digest)
	require.Nil(t, s.Fitting("f3e0:0199"))
	require.Nil(t, s.Fitting("no id"))
}

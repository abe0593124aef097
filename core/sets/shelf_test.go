package sets_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/sets"
	"earlybench.invalid/earlybench/core/usb"
)

func TestTheNewestSetIsTheOneWithTheHighestVersionByItsParts(t *testing.T) {
	held := func(version string) sets.Held {
		return sets.Held{Digest: version, Manifest: sets.Manifest{Version: version, Fits: []sets.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}}
	}
	var s sets.Shelf
	require.Nil(t, s.Fitting("f3e0:0104"))
	s.Set([]sets.Held{held("4.9"), held("4.10"), held("4.2")})
	require.Equal(t, "4.10", s.Fitting("f3e0:0104").Digest)
	require.Nil(t, s.Fitting("f3e0:0199"))
	require.Nil(t, s.Fitting("no id"))
}

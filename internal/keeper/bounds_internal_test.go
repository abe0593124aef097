package keeper

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
)

func TestAppsWithoutEndAreCutWithAMark(t *testing.T) {
	var apps []device.App
	for i := range 5000 {
		apps = append(apps, device.App{ID: fmt.Sprintf("fellgate/a%d", i), Name: strings.Repeat("n", 5000)})
	}
	got := bounded(apps)
	require.Len(t, got, mostApps+1)
	require.Equal(t, "4500 more apps, not listed here", got[mostApps].Name)
	for _, a := range got {
		require.LessOrEqual(t, len(a.Name), mostAppText)
	}
	require.Len(t, apps, 5000)
	require.Len(t, bounded(apps[:3:3]), 3)
}

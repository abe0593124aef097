package device

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/strict"
)

func TestAppsWithoutEndAreCutWithAMark(t *testing.T) {
	var apps []App
	for i := range 5000 {
		apps = append(apps, App{ID: fmt.Sprintf("fellgate/a%d", i), Name: strings.Repeat("n", 5000)})
	}
	got := Bounded(apps)
	require.Len(t, got, mostApps+1)
	require.Equal(t, "4500 more apps, not listed here", got[mostApps].Name)
	for _, a := range got {
		require.LessOrEqual(t, len(a.Name), mostAppText)
	}
	require.Len(t, apps, 5000)
	require.Len(t, Bounded(apps[:3:3]), 3)
}

// FuzzApps reads app lists as devices tell them.
func FuzzApps(f *testing.F) {
	f.Add([]byte(`[{"id":"fellgate/callout","version":"2.3","digest":"d","name":"Callout","running":true}]`))
	f.Add([]byte(`[{},{},{"id":"` + string(make([]byte, 50)) + `"}]`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var apps []App
		if strict.NewerJSON(raw, &apps) != nil {
			return
		}
		got := Bounded(apps)
		if len(got) > mostApps+1 {
			t.Fatal(len(got), "apps")
		}
		for _, a := range got {
			if max(len(a.ID), len(a.Name), len(a.Version), len(a.Digest)) > mostAppText {
				t.Fatalf("%d bytes", len(a.Name))
			}
		}
	})
}

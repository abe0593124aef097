package keeper

import (
	"testing"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/strict"
)

// FuzzApps reads app lists as devices tell them.
func FuzzApps(f *testing.F) {
	f.Add([]byte(`[{"id":"fellgate/callout","version":"2.3","digest":"d","name":"Callout","running":true}]`))
	f.Add([]byte(`[{},{},{"id":"` + string(make([]byte, 50)) + `"}]`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var apps []device.App
		if strict.NewerJSON(raw, &apps) != nil {
			return
		}
		got := bounded(apps)
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

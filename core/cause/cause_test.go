package cause_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/sheets"
)

func TestEveryWayOfNotBeingLetInHasItsOwnSentence(t *testing.T) {
	now := time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	s := lib.Fits(usb.ID{Vendor: 0xf3e0, Product: 0x0104})
	words := map[string]string{"handle": "heron-2", "bench": "moor-desk", "fingerprint": "SHA256:x"}
	seen := map[string]string{}
	for _, state := range []string{"none", "asking", "refused", "expired", "busy"} {
		v := fact.NewView(s.Registry, nil,
			fact.Fact{Key: fact.USBPresent, Value: fact.Of(true), Source: fact.Bus, At: now},
			fact.Fact{Key: fact.USBLink, Value: fact.Of(true), Source: fact.Bus, At: now},
			fact.Fact{Key: fact.DriverBound, Value: fact.Of(true), Source: fact.Host, At: now},
			fact.Fact{Key: fact.AdmitState, Value: fact.Of(state), Source: fact.Device, At: now})
		r := ready.Evaluate(s, ready.Subject{}, v, now)
		e := cause.Explain(s, ready.Subject{}, r, v, now, words)
		require.Equal(t, "admitted", e.Gate)
		require.NotContains(t, e.Text+e.Remedy, "{")
		require.Contains(t, e.Text, "heron-2")
		require.NotEmpty(t, e.Remedy)
		require.NotContains(t, seen, e.Text, "%s says what %s says", state, seen[e.Text])
		seen[e.Text] = state
		require.Equal(t, fact.AdmitState, e.Evidence[0].Key, "the gate's own evidence comes first")
	}
}

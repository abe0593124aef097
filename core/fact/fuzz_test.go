package fact_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
)

// FuzzTold reads facts as devices tell them: of every type, refused or read, and then written as they were.
func FuzzTold(f *testing.F) {
	registry, err := fact.NewRegistry(fact.Builtin()...)
	require.NoError(f, err)
	keys := []fact.Key{"device.battery", "device.locked", "device.release", "usb.interfaces", "register.state", "device.clock"}
	for _, seed := range []string{`80`, `true`, `"12"`, `["06/01/01 Files"]`, `"in"`, `1e400`, `null`, `{"a":1}`, `-0`, "\"\xff\"", `12345678901234567890`} {
		f.Add(uint8(0), []byte(seed))
	}
	f.Fuzz(func(t *testing.T, key uint8, raw []byte) {
		spec, ok := registry.Lookup(keys[int(key)%len(keys)])
		if !ok {
			return
		}
		v, err := fact.ParseValue(spec.Type, raw)
		if err != nil {
			return
		}
		text, err := v.MarshalJSON()
		require.NoError(t, err)
		again, err := fact.ParseValue(spec.Type, text)
		require.NoError(t, err)
		require.Equal(t, v.String(), again.String())
	})
}

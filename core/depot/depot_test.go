package depot_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/depot"
)

const sum = "d2a84f4b8b650937ec8f73cd8be2c74add5a911ba64df27458ed8229da804a26"

// index is a valid index with one offer, in which a text may be replaced.
func index(old, replaced string) []byte {
	text := fmt.Sprintf(`{"format": 1, "name": "Upland depot", "made": "2026-11-01T08:00:00Z", "offers": [
		{"kind": "support", "name": "ostler-support", "version": "6.2.1", "maker": "Ostler House", "file": {"path": "support/a-b", "sha256": %[1]q, "size": 380000000},
		 "licence": {"name": "Licence 2", "path": "licences/2.txt", "sha256": %[1]q, "size": 900}, "for": {"family": "ostler", "release": "6.2"}, "later": true}]}`, sum)
	return []byte(strings.Replace(text, old, replaced, 1))
}

func TestAnIndexIsRead(t *testing.T) {
	x, err := depot.Parse(index("", ""))
	require.NoError(t, err)
	require.Equal(t, "ostler-support", x.Offers[0].Name)
	require.True(t, x.Offers[0].For.Suits("ostler", "WT", "6.2"))
	require.False(t, x.Offers[0].For.Suits("ostler", "WT", "6.20"), "exactly this release")
	require.NotEqual(t, x.Offers[0].Consent(), (&depot.Offer{File: x.Offers[0].File}).Consent(), "a consent is for the licence too")
}

func TestAnInvalidIndexIsRefusedWithItsReason(t *testing.T) {
	for name, c := range map[string]struct{ old, now, says string }{
		"another format":                {`"format": 1`, `"format": 2`, "format 2"},
		"no name":                       {"Upland depot", "", "its name"},
		"no time":                       {`"made": "2026-11-01T08:00:00Z",`, "", "it has no date"},
		"an unknown kind":               {`"kind": "support"`, `"kind": "rules"`, `kind "rules"`},
		"a driver set that fits none":   {`"kind": "support"`, `"kind": "driver"`, "it does not fit any device"},
		"a name that is a path":         {`"ostler-support"`, `"../support"`, "lower-case letters"},
		"a file elsewhere":              {"support/a-b", "https://else.invalid/a", "relative to the depot"},
		"a file on another host":        {"support/a-b", "//else.invalid/a", "relative to the depot"},
		"a file above the depot":        {"support/a-b", "../a", "relative to the depot"},
		"an escaped path above it":      {"support/a-b", "x/%2e%2e/%2e%2e/a", "relative to the depot"},
		"an absolute path":              {"support/a-b", "/a", "relative to the depot"},
		"a query":                       {"support/a-b", "a?b=c", "relative to the depot"},
		"a digest in capitals":          {sum, strings.ToUpper(sum), "hexadecimal"},
		"a negative size":               {"380000000", "-1", "size"},
		"a huge size":                   {"380000000", "99999999999999", "size"},
		"a licence of a gigabyte":       {`"size": 900`, `"size": 1000000000`, "licence"},
		"a pack for no release":         {`, "release": "6.2"`, "", "a family and a release"},
		"not JSON":                      {"{", "<", "invalid"},
		"a version of a thousand bytes": {"6.2.1", strings.Repeat("6", 1000), "version"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := depot.Parse(index(c.old, c.now))
			require.ErrorIs(t, err, depot.ErrIndex)
			require.ErrorContains(t, err, c.says)
		})
	}
	_, err := depot.Parse(bytes.Repeat([]byte(" "), depot.MaxIndex+1))
	require.ErrorContains(t, err, "over the limit")
}

func TestAPackIsReadAndComparedWithItsOffer(t *testing.T) {
	root := fstest.MapFS{"link.bin": {Data: []byte("files")}}
	files, err := bundle.List(root, []string{"link.bin"})
	require.NoError(t, err)
	raw, err := json.Marshal(depot.Pack{Format: 1, Kind: depot.Support, Name: "ostler-support", Version: "6.2.1", Maker: "Ostler House", For: depot.For{Family: "ostler", Release: "6.2"}, Files: files})
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, bundle.Write(&b, []bundle.Entry{{Name: depot.PackName, Data: raw}}, root, files))
	got, err := depot.OpenPack(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	require.Equal(t, "6.2", got.For.Release)
	o := got.Offer(sum, int64(b.Len()))
	require.NoError(t, got.Matches(&o))
	o.For.Release = "6.1"
	require.ErrorIs(t, got.Matches(&o), depot.ErrOtherPack)

	for what, change := range map[string][2]string{"another file": {"files", "filet"}, "another kind": {`"kind":"support"`, `"kind":"suppart"`}} {
		bad := bytes.ReplaceAll(b.Bytes(), []byte(change[0]), []byte(change[1]))
		require.NotEqual(t, b.Bytes(), bad, what)
		_, err = depot.OpenPack(bytes.NewReader(bad), int64(len(bad)))
		require.Error(t, err, what)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(index("", ""))
	f.Add(index(`"support/a-b"`, `"x/%2e%2e/%2e%2e/a"`))
	f.Add([]byte(`{"format":1,"name":"a","made":"2026-11-01T08:00:00Z","offers":[{"kind":"driver"}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		x, err := depot.Parse(raw)
		if err != nil {
			require.ErrorIs(t, err, depot.ErrIndex)
			return
		}
		again, err := json.Marshal(x)
		require.NoError(t, err)
		_, err = depot.Parse(again)
		require.NoError(t, err, "what was read can be written and read again")
		for _, o := range x.Offers {
			require.NotContains(t, o.File.Path, "..//")
			require.Positive(t, o.File.Size)
		}
	})
}

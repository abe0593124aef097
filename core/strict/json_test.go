package strict_test

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/handover"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/strict"
)

type record struct {
	ID    string         `json:"id"`
	Parts []part         `json:"parts"`
	More  map[string]int `json:"more"`
}

type part struct {
	Path string `json:"path"`
}

func TestJSONIsReadAsItStandsOrRefused(t *testing.T) {
	for name, c := range map[string]struct {
		text         string
		exact, newer bool
	}{
		"an object":                  {`{"id": "a", "parts": [{"path": "b"}], "more": {"x": 1}}`, true, true},
		"a member that there is not": {`{"id": "a", "colour": 1}`, false, true},
		"a name twice":               {`{"id": "a", "id": "b"}`, false, false},
		"a name twice, deep inside":  {`{"parts": [{"path": "a", "path": "b"}]}`, false, false},
		"a name twice in a map":      {`{"more": {"x": 1, "x": 2}}`, false, false},
		"a name twice, once escaped": {`{"id": "a", "\u0069d": "b"}`, false, false},
		"something behind it":        {`{"id": "a"} {"id": "b"}`, false, false},
		"no UTF-8":                   {"{\"id\": \"\xff\"}", false, false},
		"a half of a surrogate pair": {`{"id": "\ud800"}`, false, false},
		"nothing":                    {``, false, false},
	} {
		t.Run(name, func(t *testing.T) {
			var r record
			require.Equal(t, c.exact, strict.JSON([]byte(c.text), &r) == nil)
			require.Equal(t, c.newer, strict.NewerJSON([]byte(c.text), &r) == nil)
		})
	}
	var r record
	require.Error(t, strict.JSON([]byte(`{"ID": "a"}`), &r), "another case is another name")
	require.NoError(t, strict.NewerJSON([]byte(`{"ID": "a"}`), &r))
	require.Empty(t, r.ID)
}

// What is read is what a reader sees that takes the last of two names and does not look at case: there is
// nothing in it that could be seen in two ways.
func FuzzJSONIsSeenTheSameByOthers(f *testing.F) {
	f.Add(`{"id": "a", "parts": [{"path": "b"}], "more": {"x": 1}}`)
	f.Add(`{"id": "a", "ID": "b"}`)
	f.Add(`{"id": null, "parts": null}`)
	f.Fuzz(func(t *testing.T, text string) {
		var r, other record
		if strict.JSON([]byte(text), &r) != nil {
			return
		}
		if err := json.Unmarshal([]byte(text), &other); err != nil {
			t.Fatalf("the other reader refuses %q: %v", text, err)
		}
		one, _ := json.Marshal(r)
		two, _ := json.Marshal(other)
		if string(one) != string(two) && (len(r.Parts) > 0 || len(other.Parts) > 0) {
			t.Fatalf("%q is %s to one and %s to the other", text, one, two)
		}
	})
}

// Whoever reads what others have written reads it so.
func TestNoReaderOfOthersJSONTakesANameTwice(t *testing.T) {
	for name, c := range map[string]struct {
		member string
		read   func(raw []byte) error
	}{
		"an app's manifest":             {"id", func(raw []byte) error { _, err := appfile.ParseManifest(raw); return err }},
		"an index of a depot":           {"name", func(raw []byte) error { _, err := depot.Parse(raw); return err }},
		"an answer of an authority":     {"name", func(raw []byte) error { return authority.Read(raw, &authority.About{}) }},
		"a request for a handover":      {"format", func(raw []byte) error { _, err := handover.ReadRequest(bytes.NewReader(raw)); return err }},
		"parameters of a call":          {"id", func(raw []byte) error { _, err := rpc.Decode[record](raw); return err }},
		"a text that is JSON by itself": {"id", func(raw []byte) error { return strict.JSON(raw, &record{}) }},
	} {
		err := c.read([]byte(`{"` + c.member + `": null, "` + c.member + `": null}`))
		require.ErrorContains(t, err, "duplicate", name)
	}
}

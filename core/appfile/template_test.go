package appfile_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
)

const projectText = `# Fellgate's app
id: fellgate/callout   # as the authority knows it
name: Callout
version: "2.3"
families: [tarn]
build: {command: [go, build]}
files: [main.wasm]
entry: main.wasm
`

func TestSettingValuesLeavesAllElseAsItIs(t *testing.T) {
	got, err := appfile.Set([]byte(projectText), map[string]string{"id": "ridgeway/callout", "identity": "moor-desk 2026"})
	require.NoError(t, err)
	require.Equal(t, strings.Replace(projectText, "id: fellgate/callout   # as the authority knows it\n", "id: ridgeway/callout\nidentity: moor-desk 2026\n", 1), string(got))
	again, err := appfile.Set(got, map[string]string{"identity": `odd: "name" #1`})
	require.NoError(t, err)
	require.Contains(t, string(again), `identity: "odd: \"name\" #1"`)
	for name, c := range map[string]struct{ text, id string }{
		"an invalid id": {projectText, "Fellgate"}, "a file without an id": {"name: x\n", "a/b"}, "an id that is there twice": {projectText + "id: x/y\n", "a/b"},
	} {
		_, err := appfile.Set([]byte(c.text), map[string]string{"id": c.id})
		require.Error(t, err, name)
	}
}

func TestATemplateIsFilledIn(t *testing.T) {
	p := &appfile.Project{ID: "fellgate/callout", Version: "2.3", Identity: "moor-desk 2026"}
	secret := func(name string) ([]byte, error) {
		if name == "weather" {
			return []byte("planted"), nil
		}
		return nil, errors.New("no secret " + name)
	}
	text := "{{id}} {{ crew }} {{app}} {{version}} by {{identity}}: {{secret weather}}{{ secret weather }} {{unknown}} {{secret BAD}}"
	got, err := appfile.Fill([]byte(text), p.Values(), secret)
	require.NoError(t, err)
	require.Equal(t, "fellgate/callout fellgate callout 2.3 by moor-desk 2026: plantedplanted {{unknown}} {{secret BAD}}", string(got))
	require.Equal(t, []string{"weather"}, appfile.SecretsIn([]byte(text)))
	_, err = appfile.Fill([]byte("{{secret tides}}"), nil, secret)
	require.ErrorContains(t, err, "no secret tides")
}

func FuzzSet(f *testing.F) {
	f.Add(projectText, "ridgeway/callout")
	f.Fuzz(func(t *testing.T, text, id string) {
		if got, err := appfile.Set([]byte(text), map[string]string{"id": id}); err == nil {
			require.Contains(t, string(got), id)
		}
	})
}

package sheet_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/sheet"
)

const schemaFile = "../../docs/formats/prep-sheet.schema.json"

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	s, err := jsonschema.NewCompiler().Compile(schemaFile)
	require.NoError(t, err)
	return s
}

// plain reads YAML as JSON's types.
func plain(t *testing.T, text string) any {
	t.Helper()
	raw, err := yaml.YAMLToJSON([]byte(text))
	require.NoError(t, err)
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	require.NoError(t, err)
	return v
}

func TestTheShippedSheetsFitTheSchemaAndSayWhereItIs(t *testing.T) {
	s := schema(t)
	moth, err := os.ReadFile("../ready/testdata/moth.yaml")
	require.NoError(t, err)
	files := shipped(t)
	files["moth"] = string(moth)
	files["draft"] = sheet.Draft(sheet.Seen{Name: "slate", USB: "f3e1:0102"})
	for name, text := range files {
		require.NoError(t, s.Validate(plain(t, text)), name)
		require.Contains(t, strings.SplitN(text, "\n", 2)[0], "# yaml-language-server: $schema=", name)
	}
	for _, wrong := range []string{"sheet: x\nwalk: [scene]", "makr: x\nsheet: x", "sheet: x\nsteps: [{id: A B}]", "sheet: x\ncauses: [{weight: heavy}]"} {
		require.Error(t, s.Validate(plain(t, wrong)), wrong)
	}
}

// TestEveryFieldOfTheSchemaIsRead holds the schema and the reader together: what
// the schema knows the reader knows too. That the schema knows all that the
// reader does shows in the shipped sheets, which use every field.
func TestEveryFieldOfTheSchemaIsRead(t *testing.T) {
	raw, err := os.ReadFile(schemaFile)
	require.NoError(t, err)
	type object struct {
		Properties map[string]json.RawMessage
	}
	var all struct {
		object
		Defs map[string]object `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(raw, &all))
	places := map[string]string{"": "%s", "gate": "gates: {seen: {%s}}", "step": "steps: [{%s}]", "cause": "causes: [{%s}]", "check": "checks: [{%s}]",
		"fact": "facts: [{%s}]", "model": "models: [{%s}]", "release": "releases: [{%s}]"}
	all.Defs[""] = all.object
	for def, place := range places {
		require.NotEmpty(t, all.Defs[def].Properties, def)
		for field := range all.Defs[def].Properties {
			text := "sheet: x\n" + fmt.Sprintf(place, field+": x")
			if field == "sheet" {
				text = "sheet: x"
			}
			_, err := load(map[string]string{"x.yaml": text})
			es, _ := errors.AsType[sheet.Errors](err)
			require.False(t, slices.ContainsFunc(es, func(e *sheet.Error) bool { return strings.Contains(e.Text, "has no field") }), "%s %s: %v", def, field, err)
		}
	}
}

package appfile_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
)

const withBuilds = `id: fellgate/callout
name: Callout
version: "2.3"
families: [tarn]
build: {command: [make]}
files: [app.wasm]
entry: app.wasm
builds:
  field: {devices: any, debug: false, identity: moor-desk 2026, features: [background positions]}
  pocket: {command: [make, pocket], files: [pocket.wasm], entry: pocket.wasm}
`

func projectOf(t *testing.T, text string) (*appfile.Project, error) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, appfile.ProjectFile), []byte(text), 0o600))
	return appfile.ReadProject(dir)
}

func TestABuildChangesWhatItNamesAndLeavesTheRest(t *testing.T) {
	p, err := projectOf(t, withBuilds)
	require.NoError(t, err)
	plain, err := p.Named("")
	require.NoError(t, err)
	require.Empty(t, plain.Identity)
	require.True(t, plain.Manifest().Debug)
	field, err := p.Named("field")
	require.NoError(t, err)
	require.Equal(t, "moor-desk 2026", field.Identity)
	require.True(t, field.Any)
	require.False(t, field.Manifest().Debug)
	require.Equal(t, []string{"background positions"}, field.Manifest().Features)
	require.Equal(t, []string{"app.wasm"}, field.Files)
	pocket, err := p.Named("pocket")
	require.NoError(t, err)
	require.Equal(t, "pocket.wasm", pocket.Entry)
	require.Equal(t, []string{"make", "pocket"}, pocket.Build.Command)
	require.True(t, pocket.Debug)
	require.Equal(t, []string{"make"}, p.Build.Command, "the project stays as it is")
	_, err = p.Named("other")
	require.ErrorContains(t, err, "there are field, pocket")
	_, err = (&appfile.Project{ID: "fellgate/callout"}).Named("field")
	require.ErrorContains(t, err, "defines none under builds")
}

func TestAWrongBuildIsRefusedWithItsName(t *testing.T) {
	for old, wrong := range map[string]string{"devices: any": "devices: some", "field:": "Field One:"} {
		text := withBuilds
		require.Contains(t, text, old)
		_, err := projectOf(t, strings.Replace(text, old, wrong, 1))
		require.ErrorContains(t, err, "builds", wrong)
	}
}

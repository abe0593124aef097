package kits_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
)

const description = `
kit: fell-kit
about: Tools of Fellgate
holds:
  - {program: bin/fell-make, asked: version, prints: '^fell-make (?P<version>[0-9.]+)$'}
  - {directory: parts}
search: [bin]
variables: {FELL_KIT: .}
`

// makeKit writes a copy of the kit whose program runs a script.
func makeKit(t *testing.T, dir, script string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bin"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "parts"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bin", "fell-make"), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
	return dir
}

func TestAPathThatIsNearlyRightIsPutRight(t *testing.T) {
	b := benchtest.New(t)
	dir := t.TempDir()
	right := makeKit(t, filepath.Join(dir, "tools", "fell-kit-3"), "echo fell-make 3")
	for name, path := range map[string]string{
		"above it": filepath.Join(dir, "tools"), "below it": filepath.Join(right, "bin"), "a program of it": filepath.Join(right, "bin", "fell-make"), "beside it": filepath.Join(dir, "tools", "fell-kit-2"),
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Kits.Add(t.Context(), "fell-kit", path, []byte(description))
			p := problem.Of(err)
			require.Equal(t, problem.Invalid, p.Kind)
			require.Equal(t, "There is a fell-kit in "+right+"; give that path.", p.Remedy)
		})
	}
	_, err := b.Kits.Add(t.Context(), "fell-kit", t.TempDir(), []byte(description))
	require.Equal(t, "Give the directory that contains all of it.", problem.Of(err).Remedy)
	for _, k := range b.Kits.All() {
		require.NotEqual(t, "fell-kit", k.Name, "nothing of this is on record")
	}
	c, err := b.Kits.Add(t.Context(), "fell-kit", right+"/./", []byte(description))
	require.NoError(t, err)
	require.Equal(t, right, c.Path)
}

func TestWhatCannotBeAKitIsRefused(t *testing.T) {
	b := benchtest.New(t)
	dir := makeKit(t, t.TempDir(), "echo fell-make 3")
	for name, c := range map[string]struct{ kit, path, description, says string }{
		"a path that leads from nowhere":  {"fell-kit", "fell-kit", description, "absolute path"},
		"a path with a line break":        {"fell-kit", dir + "\n", description, "control character"},
		"a name that no file could have":  {"../x", dir, "", "kit name"},
		"a kit that nothing describes":    {"slate-kit", dir, "", "There is no description of a kit slate-kit, only of go"},
		"a description of another kit":    {"slate-kit", dir, description, "for the kit fell-kit, not for slate-kit"},
		"a description that is not whole": {"fell-kit", dir, "kit: fell-kit", "holds is missing"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Kits.Add(t.Context(), c.kit, c.path, []byte(c.description))
			require.ErrorContains(t, err, c.says)
		})
	}
}

func TestAProgramThatDoesNotAnswerHoldsUpNothingElse(t *testing.T) {
	b := benchtest.New(t)
	adding := make(chan error, 1)
	go func() {
		_, err := b.Kits.Add(t.Context(), "fell-kit", makeKit(t, t.TempDir(), "sleep 60"), []byte(description))
		adding <- err
	}()
	time.Sleep(200 * time.Millisecond)
	begun := time.Now()
	b.Kits.All()
	require.Less(t, time.Since(begun), time.Second, "what was seen last is told meanwhile")
	require.ErrorContains(t, <-adding, "did not print its version within 10s")
	require.Less(t, time.Since(begun), 20*time.Second)

	begun = time.Now()
	c, err := b.Kits.Add(t.Context(), "fell-kit", makeKit(t, t.TempDir(), "sleep 20 & echo fell-make 3"), []byte(description))
	require.NoError(t, err, "one that leaves something running has answered")
	require.EqualValues(t, "3", c.Version)
	require.Less(t, time.Since(begun), 10*time.Second)
}

func TestAProgramIsAskedAgainOnlyWhenSomethingHasChanged(t *testing.T) {
	b := benchtest.New(t)
	count := filepath.Join(t.TempDir(), "asked")
	dir := makeKit(t, t.TempDir(), "echo x >>"+count+"; cat parts/version")
	version := filepath.Join(dir, "parts", "version")
	require.NoError(t, os.WriteFile(version, []byte("fell-make 3.1\n"), 0o600))
	_, err := b.Kits.Add(t.Context(), "fell-kit", dir, []byte(description))
	require.NoError(t, err)
	first, err := os.ReadFile(count)
	require.NoError(t, err)
	for range 5 {
		_, err := b.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit"})
		require.NoError(t, err)
	}
	again, err := os.ReadFile(count)
	require.NoError(t, err)
	require.Equal(t, string(first), string(again))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "parts", "x"), nil, 0o600)) // in a directory that is not watched by itself
	require.NoError(t, os.WriteFile(version, []byte("fell-make 3.2\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bin", "y"), nil, 0o600))
	b.Eventually("the new version is seen", func() bool {
		c, err := b.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit", From: "3.2"})
		return err == nil && c.Copy.Version == "3.2"
	})
	_, err = b.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit", From: "4"})
	require.Equal(t, "kit", problem.Of(err).Gate)
	_, err = b.Kits.Version(t.Context(), "fell-kit", "9")
	require.ErrorContains(t, err, "there is no fell-kit 9 here; there is 3.2")
}

func TestAnUnknownKitIsForgottenByItsPathOnly(t *testing.T) {
	b := benchtest.New(t)
	dir := makeKit(t, t.TempDir(), "echo fell-make 3")
	_, err := b.Kits.Add(t.Context(), "fell-kit", dir, []byte(description))
	require.NoError(t, err)
	require.ErrorContains(t, b.Kits.Drop(t.Context(), "fell-kit", "/nothing"), "no fell-kit in /nothing was added")
	require.NoError(t, b.Kits.Drop(t.Context(), "fell-kit", dir))
	_, err = os.Stat(filepath.Join(dir, "bin", "fell-make"))
	require.NoError(t, err, "nothing is removed from the disk")
	_, err = b.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit"})
	require.ErrorContains(t, err, "not on this computer")
}

package kits_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/facts"
)

func TestMain(m *testing.M) { leaks.None(m) }

func project(t *testing.T, dir, minimum string) {
	t.Helper()
	text := "id: fellgate/callout\nname: Callout\nversion: \"1\"\nfamilies: [tarn]\nminimum: \"" + minimum + "\"\nbuild: {command: [moor-kit, build]}\nfiles: [x]\nentry: x\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(text), 0o600))
}

func TestAKitAndAProjectAreSeenWhenTheyChange(t *testing.T) {
	bin, dir := t.TempDir(), t.TempDir()
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	b := benchtest.New(t)
	project(t, dir, "9")
	_, err := b.Tryouts.AddProject(t.Context(), dir)
	require.NoError(t, err)
	known := func(k fact.Key) string {
		f, _ := b.Book.Of(facts.Subject{Kind: facts.App, ID: "fellgate/callout"}).View().Get(k, time.Now())
		return f.Value.String()
	}
	require.Equal(t, []string{"program", "moor-kit", "9"}, []string{known(fact.KitState), known(fact.KitName), known(fact.AppNeeds)})
	require.NoError(t, os.WriteFile(filepath.Join(bin, "moor-kit"), []byte("#!/bin/sh\n"), 0o755))
	b.Eventually("the kit is seen", func() bool { return known(fact.KitState) == "here" })
	project(t, dir, "10")
	b.Eventually("so is the edited project", func() bool { return known(fact.AppNeeds) == "10" })
	require.NoError(t, os.Remove(filepath.Join(bin, "moor-kit")))
	b.Eventually("and that the kit has gone", func() bool { return known(fact.KitState) == "program" })
}

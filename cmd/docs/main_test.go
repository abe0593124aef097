package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/cli"
)

func TestEveryCommandHasAManPageAndEveryShellItsCompletion(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, write(dir))
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Hidden || c.IsAdditionalHelpTopicCommand() {
			return
		}
		page, err := os.ReadFile(filepath.Join(dir, "man", strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"))
		require.NoError(t, err)
		require.Contains(t, string(page), `.TH "`+strings.ToUpper(strings.ReplaceAll(c.CommandPath(), " ", "-")))
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(cli.Command())
	for _, name := range []string{"earlybench.bash", "_earlybench", "earlybench.fish"} {
		text, err := os.ReadFile(filepath.Join(dir, "completions", name))
		require.NoError(t, err)
		require.Contains(t, string(text), "__complete")
	}
}

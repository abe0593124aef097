package test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// formerWords were used for what has one other word now. They are taken apart, so
// that this file does not have them itself.
var formerWords = []string{
	"bench" + " link", "ready" + "ing", "laps" + "ing", "sister" + " model", "support" + " set", "in" + " vain", "what we" + " go by",
	"put" + "ting away", "earlybench" + " sets", "stra" + "nge", "in" + " force", "its whole" + " way", "told" + " by",
}

// skipped are directories of what others wrote or what is built.
var skipped = []string{".git", "node_modules", "dist", "bin", "fonts", "build"}

func TestFormerWordsAreNowhere(t *testing.T) {
	words := regexp.MustCompile(`(?i)\b(` + strings.Join(formerWords, "|") + `)`)
	seen := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			for _, s := range skipped {
				if d.Name() == s {
					return fs.SkipDir
				}
			}
			return nil
		}
		switch filepath.Ext(path) {
		case ".go", ".yaml", ".md", ".ts", ".tsx", ".json", ".js", ".html", ".sh":
		default:
			return nil
		}
		if d.Name() == "package-lock.json" {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		seen++
		for i, line := range strings.Split(string(raw), "\n") {
			require.Empty(t, words.FindString(line), "%s:%d", path, i+1)
		}
		return nil
	}))
	require.Greater(t, seen, 300)
}

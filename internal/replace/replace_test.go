package replace_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/replace"
)

func TestAFileIsReplacedAsAWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	require.NoError(t, replace.File(path, []byte("one"), 0o600))
	require.NoError(t, replace.File(path, []byte("two"), 0o644))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "two", string(raw))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o644), info.Mode().Perm())

	require.NoError(t, os.Mkdir(filepath.Join(dir, "b"), 0o700))
	require.Error(t, replace.File(filepath.Join(dir, "b"), []byte("three"), 0o600), "a directory is not replaced")
	require.Error(t, replace.File(filepath.Join(dir, "none", "c"), nil, 0o600))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, left, 2, "nothing of what failed is left")
}

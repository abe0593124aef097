package state_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/internal/state"
)

func TestTheStateDirectoryIsTheOneGivenElseTheVariablesElseTheUsualOne(t *testing.T) {
	t.Setenv("EARLYBENCH_STATE", "/from/variable")
	t.Setenv("XDG_STATE_HOME", "/from/xdg")
	dir, err := state.Dir("/given")
	require.NoError(t, err)
	require.Equal(t, "/given", dir)
	dir, _ = state.Dir("")
	require.Equal(t, "/from/variable", dir)
	t.Setenv("EARLYBENCH_STATE", "")
	dir, _ = state.Dir("")
	require.Equal(t, "/from/xdg/earlybench", dir)
}

func TestASocketWithALongPathGoesToTheRuntimeDirectory(t *testing.T) {
	t.Setenv("XDG_RUNTIME_DIR", "/run/user/1")
	require.Equal(t, "/s/run/bench.sock", state.Socket("/s", "bench"))
	long := state.Socket("/"+strings.Repeat("x", 120), "bench")
	require.True(t, strings.HasPrefix(long, "/run/user/1/earlybench/"))
	require.LessOrEqual(t, len(long), 100)
	require.NotEqual(t, long, state.Socket("/"+strings.Repeat("y", 120), "bench"))
}

func TestASocketsDirectoryIsItsOwnersOnly(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "run")
	require.NoError(t, os.MkdirAll(dir, 0o777))
	require.NoError(t, state.SocketDir(filepath.Join(dir, "bench.sock")))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	elsewhere := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(t.TempDir(), elsewhere))
	require.Error(t, state.SocketDir(filepath.Join(elsewhere, "bench.sock")), "a link is not followed")
}

func TestAStateDirectoryIsPrivateAndNoLinkInItIsFollowed(t *testing.T) {
	dir, foreign := t.TempDir(), filepath.Join(t.TempDir(), "diary")
	require.NoError(t, os.WriteFile(foreign, []byte("dear diary"), 0o600))
	require.NoError(t, os.Chmod(dir, 0o755))
	release, err := state.Lock(dir)
	require.NoError(t, err)
	release()
	info, err := os.Stat(dir)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm(), "it was readable for others")

	for _, name := range []string{"lock", "bench.db", "files"} {
		other := filepath.Join(t.TempDir(), "state")
		require.NoError(t, os.Mkdir(other, 0o700))
		require.NoError(t, os.Symlink(foreign, filepath.Join(other, name)))
		_, err = state.Lock(other)
		require.ErrorContains(t, err, filepath.Join(other, name)+" is a link")
	}
	raw, err := os.ReadFile(foreign)
	require.NoError(t, err)
	require.Equal(t, "dear diary", string(raw), "nothing was cut")

	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(dir, link))
	_, err = state.Lock(link)
	require.ErrorContains(t, err, "is a link")
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = state.Lock(file)
	require.Error(t, err)

	if os.Getuid() == 0 { // only then something can be given away
		theirs := filepath.Join(t.TempDir(), "theirs")
		require.NoError(t, os.Mkdir(theirs, 0o700))
		require.NoError(t, os.Chown(theirs, 65534, 65534))
		_, err = state.Lock(theirs)
		require.ErrorContains(t, err, "belongs to somebody else")
		require.NoError(t, os.WriteFile(filepath.Join(dir, "bench.db"), nil, 0o600))
		require.NoError(t, os.Chown(filepath.Join(dir, "bench.db"), 65534, 65534))
		_, err = state.Lock(dir)
		require.ErrorContains(t, err, "bench.db belongs to somebody else")
	}
}

func TestASocketBelowTheTemporaryDirectoryIsInNobodyElsesHands(t *testing.T) {
	tmp := t.TempDir()
	t.Setenv("TMPDIR", tmp)
	t.Setenv("XDG_RUNTIME_DIR", "")
	long := "/" + strings.Repeat("x", 120)
	socket := state.Socket(long, "bench")
	require.True(t, strings.HasPrefix(socket, tmp), socket)
	require.NoError(t, os.Chmod(tmp, 0o777|os.ModeSticky))
	require.NoError(t, state.SocketDir(socket))
	require.NoError(t, os.Chmod(tmp, 0o777))
	require.ErrorContains(t, state.SocketDir(socket), "can be changed by others")
	require.NoError(t, os.Chmod(tmp, 0o700))
	above := filepath.Dir(filepath.Dir(filepath.Dir(socket)))
	require.NoError(t, os.Chmod(above, 0o777))
	require.ErrorContains(t, state.SocketDir(socket), "can be changed by others")
}

func TestAStateDirectoryIsHeldByOneProcess(t *testing.T) {
	dir := t.TempDir()
	release, err := state.Lock(dir)
	require.NoError(t, err)
	_, err = state.Lock(dir)
	held, ok := errors.AsType[*state.Held](err)
	require.True(t, ok)
	require.NotEmpty(t, held.By)
	require.ErrorContains(t, err, "--state")
	release()
	release, err = state.Lock(dir)
	require.NoError(t, err)
	release()
}

func TestTheBenchsKeysAreMadeOnceAndTheirOwnersOnly(t *testing.T) {
	dir := t.TempDir()
	one, err := state.ReadKeys(dir)
	require.NoError(t, err)
	two, err := state.ReadKeys(dir)
	require.NoError(t, err)
	require.Equal(t, one.Link.PublicKey().Marshal(), two.Link.PublicKey().Marshal())
	info, err := os.Stat(filepath.Join(dir, "bench.key"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bench.key"), []byte("no key"), 0o600))
	_, err = state.ReadKeys(dir)
	require.ErrorContains(t, err, "bench.key")
}

func TestAKeyThatIsMadeTwiceAtOnceIsOneKey(t *testing.T) {
	dir := t.TempDir()
	made := make(chan string, 8)
	for range cap(made) {
		go func() {
			key, err := state.ReadKeys(dir)
			if err != nil {
				made <- err.Error()
				return
			}
			made <- ssh.FingerprintSHA256(key.Link.PublicKey())
		}()
	}
	first := <-made
	for range cap(made) - 1 {
		require.Equal(t, first, <-made)
	}
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, files, 1, "nothing else is left")
}

package peer_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
)

// forwards runs OpenSSH's client, which forwards an address of this side or of the other one until the test ends.
func forwards(t *testing.T, jump *benchtest.Board, key, how, forward string) {
	t.Helper()
	_, port, err := net.SplitHostPort(jump.Address)
	require.NoError(t, err)
	c := exec.Command("ssh", "-N", "-F", "none", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-o", "ExitOnForwardFailure=yes", "-o", "IdentitiesOnly=yes",
		"-i", key, "-p", port, how, forward, jump.User+"@127.0.0.1")
	require.NoError(t, c.Start())
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
}

// What OpenSSH's client forwards is an address like any other: from this side of a router, or kept open from behind it.
func TestAPeerIsReachedThroughWhatOpenSSHsClientForwards(t *testing.T) {
	for how, name := range map[string]string{"-L": "a forward of this side", "-R": "a reverse connection that the far side keeps open"} {
		t.Run(name, func(t *testing.T) {
			jump := benchtest.StartBoard(t, benchtest.OpenSSH)
			key := filepath.Join(t.TempDir(), "key")
			out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput()
			require.NoError(t, err, "%s", out)
			raw, err := os.ReadFile(key + ".pub")
			require.NoError(t, err)
			public, _, _, _, err := ssh.ParseAuthorizedKey(raw)
			require.NoError(t, err)
			jump.LetIn(t, public)

			moor, harbour := newBench(t, "moor-desk"), newBench(t, "harbour-desk")
			at := benchtest.FreeAddress(t)
			forwards(t, jump, key, how, at+":"+harbour.at)
			moor.eventually("it is forwarded", func() bool {
				c, err := net.Dial("tcp", at)
				if err == nil {
					c.Close()
				}
				return err == nil
			})
			i, err := harbour.Invite(t.Context(), store.PeerRights{All: "look"}, time.Hour, []string{at})
			require.NoError(t, err)
			_, err = moor.Add(t.Context(), i, "")
			require.NoError(t, err)
			moor.knows("harbour-desk")
			harbour.knows("moor-desk")
			points, err := moor.Check(t.Context(), "harbour-desk")
			require.NoError(t, err)
			for _, p := range points {
				require.Empty(t, p.Wrong, "%+v", p)
			}
		})
	}
}

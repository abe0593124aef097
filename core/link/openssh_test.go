package link_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// OpenSSH's own client is a visitor as any other: it is let in by its key, and gets nothing.
func TestOpenSSHsClientIsAVisitorWhoGetsNothing(t *testing.T) {
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Skip("ssh is not installed")
	}
	key := signer(t)
	f, address := serve(t, key)
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	dir := t.TempDir()
	_, own, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(own, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "id"), pem.EncodeToMemory(block), 0o600))
	run := func(name string, args ...string) (string, int) {
		common := []string{"-F", "none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=accept-new", "-o", "UserKnownHostsFile=" + filepath.Join(dir, "known"),
			"-o", "IdentitiesOnly=yes", "-i", filepath.Join(dir, "id"), "-o", "ConnectTimeout=10"}
		cmd := exec.Command(name, append(common, args...)...)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	for name, args := range map[string][]string{
		"a shell": {"-p", port, "bench@127.0.0.1"}, "a command": {"-p", port, "bench@127.0.0.1", "true"}, "a subsystem": {"-p", port, "-s", "bench@127.0.0.1", "sftp"},
		"forwarding": {"-p", port, "-W", "127.0.0.1:22", "bench@127.0.0.1"},
	} {
		out, code := run("ssh", args...)
		require.NotZero(t, code, name)
		require.Regexp(t, `not admitted|open failed|refused`, out, name)
	}
	known, err := os.ReadFile(filepath.Join(dir, "known"))
	require.NoError(t, err)
	require.Contains(t, string(known), string(ssh.MarshalAuthorizedKey(key.PublicKey()))[:60], "it has seen the device key")
	require.Empty(t, f.admitted)
}

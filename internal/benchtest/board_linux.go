package benchtest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Board is a small computer with an SSH server: a process in a mount namespace with a user, a password
// file and, with dropbear, programs of its own, of which busybox is the only one.
type Board struct {
	Address string // host and port
	User    string
	Home    string
	Key     ssh.PublicKey // the device key
	stop    func()
}

// Servers of boards.
const (
	OpenSSH  = "openssh"
	Dropbear = "dropbear"
)

// StartBoard starts a board with a server of a kind. settings are further lines of sshd_config(5).
func StartBoard(t testing.TB, server string, settings ...string) *Board {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("a mount namespace needs root")
	}
	dir := t.TempDir()
	b := &Board{User: "board", Home: filepath.Join(dir, "home")}
	require.NoError(t, os.Mkdir(b.Home, 0o700))
	hash, err := exec.Command("openssl", "passwd", "-6", Password).Output()
	require.NoError(t, err)
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), mode))
		return path
	}
	passwd := write("passwd", fmt.Sprintf("root:x:0:0:root:/root:/bin/sh\nboard:x:0:0:board:%s:/bin/sh\nsshd:x:100:65534::/run/sshd:/usr/sbin/nologin\n", b.Home), 0o644)
	shadow := write("shadow", "root:*:19000::::::\nboard:"+strings.TrimSpace(string(hash))+":19000::::::\nsshd:*:19000::::::\n", 0o600)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b.Address = l.Addr().String()
	l.Close()
	script := fmt.Sprintf("mount --bind %s /etc/passwd && mount --bind %s /etc/shadow && mkdir -p /run/sshd && ", passwd, shadow)
	hostKey := filepath.Join(dir, "host_key")
	if server == Dropbear {
		script += dropbear(t, dir, hostKey, b.Address)
	} else {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", hostKey).CombinedOutput()
		require.NoError(t, err, "%s", out)
		script += "exec /usr/sbin/sshd -D -e -f " + write("sshd_config", strings.Join(append(settings, "ListenAddress "+b.Address, "HostKey "+hostKey, "PidFile none",
			"PermitRootLogin yes", "UsePAM no", "StrictModes no", "LogLevel ERROR"), "\n")+"\n", 0o600)
	}
	b.run(t, script)
	raw, err := os.ReadFile(hostKey + ".pub")
	require.NoError(t, err)
	b.Key, _, _, _, err = ssh.ParseAuthorizedKey(raw)
	require.NoError(t, err)
	return b
}

// dropbear prepares a system of busybox alone, and returns how its server is started.
func dropbear(t testing.TB, dir, hostKey, address string) string {
	t.Helper()
	programs := filepath.Join(dir, "programs")
	require.NoError(t, os.Mkdir(programs, 0o755))
	busybox, err := exec.LookPath("busybox")
	require.NoError(t, err)
	raw, err := os.ReadFile(busybox)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(programs, "busybox"), raw, 0o755)) //nolint:gosec // a program
	names, err := exec.Command(busybox, "--list").Output()
	require.NoError(t, err)
	for _, name := range strings.Fields(string(names)) {
		if name != "busybox" {
			require.NoError(t, os.Symlink("busybox", filepath.Join(programs, name)))
		}
	}
	out, err := exec.Command("dropbearkey", "-t", "ed25519", "-f", hostKey).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for line := range strings.Lines(string(out)) {
		if strings.HasPrefix(line, "ssh-ed25519 ") {
			require.NoError(t, os.WriteFile(hostKey+".pub", []byte(line), 0o600))
		}
	}
	return fmt.Sprintf("mount --bind %s /usr/bin && exec /usr/sbin/dropbear -F -E -m -r %s -p %s", programs, hostKey, address)
}

// run starts the board, and waits until its server listens.
func (b *Board) run(t testing.TB, script string) {
	t.Helper()
	cmd := exec.Command("unshare", "--mount", "--pid", "--fork", "--mount-proc", "--kill-child", "sh", "-c", script) // whatever it starts ends with it
	said, err := os.Create(filepath.Join(t.TempDir(), "said"))
	require.NoError(t, err)
	defer said.Close()
	cmd.Stderr = said
	require.NoError(t, cmd.Start())
	b.stop = func() { cmd.Process.Kill(); cmd.Wait() } //nolint:errcheck // it was killed
	t.Cleanup(b.stop)
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", b.Address)
		if err == nil {
			c.Close()
			return
		}
		if time.Since(began) > 10*time.Second {
			text, _ := os.ReadFile(said.Name())
			require.FailNow(t, "the board's server does not listen", "%s", text)
		}
	}
}

// LetIn lets a key in, as an administrator would.
func (b *Board) LetIn(t testing.TB, keys ...ssh.PublicKey) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(b.Home, ".ssh"), 0o700))
	var text string
	for _, k := range keys {
		text += string(ssh.MarshalAuthorizedKey(k))
	}
	require.NoError(t, os.WriteFile(filepath.Join(b.Home, ".ssh", "authorized_keys"), []byte(text), 0o600))
}

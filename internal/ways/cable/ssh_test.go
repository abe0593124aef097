package cable_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
)

// sshServer is Debian's SSH server on a port of its own.
type sshServer struct {
	t       *testing.T
	dir     string
	address string // ssh://USER@HOST:PORT
	cmd     *exec.Cmd
	said    bytes.Buffer
}

func startSSH(t *testing.T) *sshServer {
	t.Helper()
	path := "/usr/sbin/sshd"
	if _, err := os.Stat(path); err != nil {
		t.Skip("sshd is not installed")
	}
	if os.Getuid() == 0 { // it insists on an empty directory of root
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	me, err := user.Current()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	s := &sshServer{t: t, dir: t.TempDir(), address: fmt.Sprintf("ssh://%s@%s", me.Username, l.Addr())}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	conf := fmt.Sprintf("ListenAddress 127.0.0.1:%s\nHostKey %[2]s/host\nAuthorizedKeysFile %[2]s/keys\nPidFile none\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n", port, s.dir)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "conf"), []byte(conf), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "keys"), nil, 0o600))
	s.newKey()
	t.Cleanup(func() { s.stop() })
	return s
}

// newKey gives the server another key.
func (s *sshServer) newKey() {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(s.t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(s.t, err)
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, "host"), pem.EncodeToMemory(block), 0o600))
}

func (s *sshServer) admit(line string) {
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, "keys"), []byte(line+"\n"), 0o600))
}

func (s *sshServer) start() {
	s.t.Helper()
	s.cmd = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(s.dir, "conf"))
	s.cmd.Stderr = &s.said
	require.NoError(s.t, s.cmd.Start())
	_, at, _ := strings.Cut(s.address, "@")
	require.Eventually(s.t, func() bool {
		c, err := net.Dial("tcp", at)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, benchtest.Patience, 10*time.Millisecond)
}

// stop ends the server and the connections that it serves.
func (s *sshServer) stop() {
	if s.cmd == nil {
		return
	}
	exec.Command("pkill", "-P", fmt.Sprint(s.cmd.Process.Pid)).Run()
	s.cmd.Process.Kill()
	s.cmd.Wait()
	s.cmd = nil
}

// A host is reached inside an SSH connection to a server whose key was accepted: what is
// plugged in there, and the devices themselves.
func TestAHostIsReachedThroughSSH(t *testing.T) {
	server := startSSH(t)
	server.start()
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	b := benchtest.New(t)
	key, err := b.Hosts.LookSSH(t.Context(), server.address)
	require.NoError(t, err)
	fingerprint, err := exec.Command("ssh-keygen", "-l", "-f", filepath.Join(server.dir, "host")).Output()
	require.NoError(t, err)
	require.Contains(t, string(fingerprint), key, "as its own tool shows it")

	at := rig.Addresses()
	loft := store.Host{Name: "loft", USBIP: at.Hub, Control: at.Host, SSH: server.address, SSHKey: key}
	b.Hosts.Watch(loft)
	refused := func() *problem.Problem { return problem.Of(b.Hosts.Trouble("loft")) }
	b.Eventually("it is not let in", func() bool { return refused().Kind == problem.Person })
	line := refused().Remedy[strings.Index(refused().Remedy, "ssh-ed25519"):]
	server.admit(line)
	b.Eventually("the device is seen", func() bool { return len(b.Rack.All()) == 1 })
	k := only(b)
	b.First(k, "admitted")
	b.Eventually("its key is pinned: whose host it is, is known", func() bool { return k.Device().Key != "" })
	go benchtest.Touch(t, rig, "Until withdrawn")
	_, err = b.Ask(t.Context(), k)
	require.NoError(t, err)
	b.Linked(k)

	server.stop()
	b.Eventually("the host is lost", func() bool { return len(k.Ways()) == 0 && b.Hosts.Trouble("loft") != nil })
	server.start()
	b.Linked(k)

	server.stop()
	server.newKey()
	server.start()
	b.Eventually("another key is refused", func() bool {
		return strings.Contains(fmt.Sprint(b.Hosts.Trouble("loft")), "shows another key than the accepted one")
	})
	require.Contains(t, b.Hosts.Trouble("loft").Error(), key)
}

func TestAnSSHServerThatSaysNothingIsGivenUp(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	b := benchtest.New(t)
	short, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	began := time.Now()
	_, err = b.Hosts.LookSSH(short, "ssh://ines@"+l.Addr().String())
	require.Error(t, err)
	require.Less(t, time.Since(began), 5*time.Second)
}

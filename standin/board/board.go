// Package board runs OpenSSH's server on loopback as the stand-in for a board: a small computer with
// Linux. It is a real server on a real Linux; only the home directory of who logs in is one of its own, below
// the directory of the stand-ins.
package board

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
)

// Config is how a board is run.
type Config struct {
	Dir      string // where its files are
	Keys     []ssh.PublicKey
	SFTP     bool
	Port     int    // 0: a free one
	Settings string // further lines of sshd_config(5)
}

// Board is a running board.
type Board struct {
	User    string
	Address string // host and port
	Home    string
	Key     ssh.PublicKey // the device key

	end  context.CancelFunc
	done chan struct{}
}

// ErrNone is the error of a computer on which OpenSSH's server is not installed.
var ErrNone = errors.New("no OpenSSH server is installed on this computer")

// startWithin is how long the server may take to listen.
const startWithin = 10 * time.Second

// Find returns where OpenSSH's server is.
func Find() (string, error) {
	for _, p := range []string{"/usr/sbin/sshd", "/usr/local/sbin/sshd", "/usr/bin/sshd"} {
		if info, err := os.Stat(p); err == nil && info.Mode()&0o111 != 0 {
			return p, nil
		}
	}
	return "", ErrNone
}

// Start starts a board, which ends with ctx or Close, and with this process at the latest.
func Start(ctx context.Context, cfg Config) (*Board, error) {
	sshd, err := Find()
	if err != nil {
		return nil, err
	}
	who, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("find out who runs the board: %w", err)
	}
	b := &Board{User: who.Username, Home: filepath.Join(cfg.Dir, "home"), done: make(chan struct{})}
	if err := os.MkdirAll(filepath.Join(b.Home, ".ssh"), 0o700); err != nil {
		return nil, fmt.Errorf("make the board's home: %w", err)
	}
	if err := b.letIn(cfg.Keys); err != nil {
		return nil, err
	}
	if b.Key, err = hostKey(ctx, filepath.Join(cfg.Dir, "host_key")); err != nil {
		return nil, err
	}
	port, err := freePort(cfg.Port)
	if err != nil {
		return nil, err
	}
	b.Address = fmt.Sprintf("127.0.0.1:%d", port)
	settings := filepath.Join(cfg.Dir, "sshd_config")
	if err := os.WriteFile(settings, []byte(b.settings(cfg, port)), 0o600); err != nil {
		return nil, fmt.Errorf("write the board's settings: %w", err)
	}
	if os.Geteuid() == 0 {
		os.MkdirAll("/run/sshd", 0o755) //nolint:errcheck // the server says if it lacks it
	}
	ctx, b.end = context.WithCancel(ctx)
	var said strings.Builder
	cmd := exec.CommandContext(ctx, sshd, "-D", "-e", "-f", settings)
	cmd.Stderr = &said
	cmd.WaitDelay = time.Second // connections that stand have processes of their own, which hold on to that
	started := make(chan error, 1)
	go func() {
		defer close(b.done)
		run(cmd, started)
	}()
	if err := <-started; err != nil {
		b.end()
		return nil, fmt.Errorf("start the board: %w", err)
	}
	if err := b.untilUp(ctx); err != nil {
		b.Close()
		return nil, fmt.Errorf("start the board: %w: %s", err, strings.TrimSpace(said.String()))
	}
	return b, nil
}

// Close ends the board, with what runs on it.
func (b *Board) Close() {
	b.end()
	<-b.done
	b.endApps()
}

// endApps ends the apps that were started there, as switching a board off does: they are processes of this
// computer.
func (b *Board) endApps() {
	running, _ := filepath.Glob(filepath.Join(b.Home, ".local", "share", "early-bench", "apps", "*", "process"))
	for _, name := range running {
		raw, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		if pid, err := strconv.Atoi(strings.Fields(string(raw) + " 0")[0]); err == nil && pid > 1 {
			endGroup(pid)
		}
	}
}

// letIn lets keys in that are not in yet.
func (b *Board) letIn(keys []ssh.PublicKey) error {
	name := filepath.Join(b.Home, ".ssh", "authorized_keys")
	have, err := os.ReadFile(name)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("read the keys of the board: %w", err)
	}
	text := string(have)
	for _, k := range keys {
		if line := string(ssh.MarshalAuthorizedKey(k)); !strings.Contains(text, strings.TrimSpace(line)) {
			text += line
		}
	}
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		return fmt.Errorf("write the keys of the board: %w", err)
	}
	return nil
}

// hostKey makes the device key, unless it is there.
func hostKey(ctx context.Context, name string) (ssh.PublicKey, error) {
	if _, err := os.Stat(name); err != nil {
		out, err := exec.CommandContext(ctx, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", name).CombinedOutput()
		if err != nil {
			return nil, fmt.Errorf("make the board's key: %w: %s", err, out)
		}
	}
	raw, err := os.ReadFile(name + ".pub")
	if err != nil {
		return nil, fmt.Errorf("read the board's key: %w", err)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(raw)
	if err != nil {
		return nil, fmt.Errorf("read the board's key: %w", err)
	}
	return key, nil
}

func freePort(want int) (int, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", want))
	if err != nil {
		return 0, fmt.Errorf("find a port for the board: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// settings are those of the server: nobody but who runs it may log in, by keys, from this computer.
func (b *Board) settings(cfg Config, port int) string {
	lines := []string{
		fmt.Sprintf("ListenAddress 127.0.0.1:%d", port), "HostKey " + filepath.Join(cfg.Dir, "host_key"), "PidFile none",
		"AuthorizedKeysFile " + filepath.Join(b.Home, ".ssh", "authorized_keys"), "AllowUsers " + b.User, "PermitRootLogin prohibit-password",
		"PasswordAuthentication no", "KbdInteractiveAuthentication no", "UsePAM no", "StrictModes no", "LogLevel ERROR",
		"SetEnv HOME=" + b.Home,
	}
	if cfg.SFTP {
		lines = append(lines, "Subsystem sftp internal-sftp")
	}
	return strings.Join(append(lines, cfg.Settings), "\n") + "\n"
}

// untilUp waits until the server listens.
func (b *Board) untilUp(ctx context.Context) error {
	for began := time.Now(); ; {
		c, err := net.DialTimeout("tcp", b.Address, time.Second)
		if err == nil {
			return c.Close()
		}
		select {
		case <-b.done:
			return errors.New("it has ended at once")
		default:
		}
		if time.Since(began) > startWithin {
			return err
		}
		if err := clock.Sleep(ctx, clock.System{}, 20*time.Millisecond); err != nil {
			return err
		}
	}
}

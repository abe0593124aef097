package test

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/safe"
)

// byKey runs a command with an access key.
func (d *demo) byKey(ctx context.Context, key string, args ...string) *running {
	d.t.Setenv("EARLYBENCH_ACCESS", key)
	defer os.Unsetenv("EARLYBENCH_ACCESS")
	return d.command(ctx, args...)
}

func TestAPipelinesBuildWaitsForAPersonWhoConsents(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	ctx, cancel := context.WithTimeout(t.Context(), 2*patience)
	defer cancel()
	key := strings.TrimSpace(d.run("access", "add", "night-build", "--may", "use", "--for", "1h").out)
	b := d.signedInAt("/keys")
	b.sees("The safe is open")

	try := d.byKey(ctx, key, "try", "fellgate/callout", "heron-1")
	b.sees("night-build wants to sign an app")
	b.sees("1 request waits for you")
	s, err := d.api.Safe(ctx)
	require.NoError(t, err)
	require.Equal(t, "access/night-build", s.Requests[0].Actor)
	r := d.byKey(ctx, key, "safe", "consent", s.Requests[0].ID, "--key-file", filepath.Join(d.state, "demo", "unlock.key")).wait()
	require.Equal(t, 5, r.code, "a key never consents: %s", r.err)
	b.presses("Allow it once")
	require.Zero(t, try.wait().code)
	b.sees("consent: browser/")

	// Once is once; refused is refused, and by the command too.
	again := d.byKey(ctx, key, "try", "fellgate/callout", "heron-1")
	d.eventually("it asks again", func() bool {
		s, err = d.api.Safe(ctx)
		return err == nil && len(s.Requests) == 1
	})
	require.Equal(t, 6, d.run("safe", "consent", s.Requests[0].ID).code, "without a terminal nobody types a passphrase")
	d.ok("safe", "consent", s.Requests[0].ID, "--refuse")
	got := again.wait()
	require.Equal(t, 5, got.code, got.err)
	require.Contains(t, got.err, "refused that")

	// For a time: the same caller, app and purpose.
	third := d.byKey(ctx, key, "try", "fellgate/callout", "heron-1")
	d.eventually("it asks again", func() bool {
		s, err = d.api.Safe(ctx)
		return err == nil && len(s.Requests) == 1
	})
	d.ok("safe", "consent", s.Requests[0].ID, "--for", "1h", "--key-file", filepath.Join(d.state, "demo", "unlock.key"))
	require.Zero(t, third.wait().code)
	require.Zero(t, d.byKey(ctx, key, "try", "fellgate/callout", "heron-1", "--unattended").wait().code)
	require.NotContains(t, b.log.String(), "exception")
}

// planted is a passphrase that is nowhere else.
const planted = "planted-heather-4417 on the moor"

func TestTheSafeIsLockedAndOpenedInTheBrowserAndNothingOfItIsLeft(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	file := filepath.Join(t.TempDir(), "passphrase")
	require.NoError(t, os.WriteFile(file, []byte(planted+"\n"), 0o600))
	unlock, err := os.ReadFile(filepath.Join(d.state, "demo", "unlock.key"))
	require.NoError(t, err)
	lock, err := os.ReadFile(filepath.Join(d.state, "safe-lock.age"))
	require.NoError(t, err)
	own, err := safe.OpenByKey(lock, unlock)
	require.NoError(t, err)
	d.ok("safe", "set", "--new-passphrase-file", file, "--key-file", filepath.Join(d.state, "demo", "unlock.key"))

	b := d.signedInAt("/keys")
	b.presses("Lock it now")
	b.sees("The safe is locked.")
	require.Equal(t, 6, d.run("try", "fellgate/callout", "heron-1").code)
	enter := func(text string) {
		get(b, "into the field", chromedp.Evaluate[bool](`document.querySelector("input[type=password]").focus(), true`))
		get(b, "type a passphrase", chromedp.KeyEvent(text))
		b.sees(strconv.Itoa(len(text)) + " typed")
		b.presses("Unlock")
	}
	enter("not the passphrase")
	b.sees("does not open")
	enter(planted)
	b.sees("The safe is open")
	require.Zero(t, d.run("try", "fellgate/callout", "heron-1").code)
	d.ok("safe", "export", filepath.Join(t.TempDir(), "export.age"), "--passphrase-file", file, "--export-passphrase-file", file)
	require.Equal(t, 5, d.run("safe", "unlock", "--key-file", filepath.Join(d.state, "demo", "unlock.key")).code, "the old way in is closed")
	b.presses("Lock it now")
	b.sees("The safe is locked.")

	secrets := map[string][]byte{"the passphrase": []byte(planted), "the safe's own key": bytes.TrimSpace(own)}
	for what, secret := range secrets {
		require.NotContains(t, d.out.String(), string(secret), "logs: "+what)
		filesWithout(t, d.state, what, secret)
		for _, pid := range d.processes("serve") {
			require.False(t, inMemory(t, pid, secret), "%s is in the memory of the service while the safe is locked", what)
		}
		page := get(b, "read the page", chromedp.Evaluate[string](`document.documentElement.outerHTML`))
		require.NotContains(t, page, string(secret))
	}
	require.True(t, inMemory(t, os.Getpid(), []byte(planted)), "the search finds what is there")
}

// filesWithout looks for a secret in all files below a directory.
func filesWithout(t *testing.T, dir, what string, secret []byte) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return nil // it went meanwhile
		}
		if raw, err := os.ReadFile(path); err == nil {
			require.False(t, bytes.Contains(raw, secret), "%s holds %s", path, what)
		}
		return nil
	}))
}

// processes are those of the demo's program that run a command.
func (d *demo) processes(command string) (pids []int) {
	d.t.Helper()
	d.eventually("the service's process is found", func() bool {
		pids = nil
		all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, f := range all {
			raw, _ := os.ReadFile(f)
			args := strings.Split(string(raw), "\x00")
			if len(args) > 2 && args[0] == d.bin && args[1] == command && strings.Contains(string(raw), d.state) {
				pid, _ := strconv.Atoi(strings.Split(f, "/")[2])
				pids = append(pids, pid)
			}
		}
		return len(pids) == 1
	})
	return pids
}

// inMemory reports whether a process has something in memory that it may write to, as a core
// dump would show.
func inMemory(t *testing.T, pid int, secret []byte) bool {
	t.Helper()
	maps, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/maps")
	require.NoError(t, err)
	mem, err := os.Open("/proc/" + strconv.Itoa(pid) + "/mem")
	require.NoError(t, err)
	defer mem.Close()
	deadline := time.Now().Add(patience)
	for line := range strings.Lines(string(maps)) {
		f := strings.Fields(line)
		from, to, ok := strings.Cut(f[0], "-")
		if !ok || !strings.HasPrefix(f[1], "rw") {
			continue
		}
		a, _ := strconv.ParseInt(from, 16, 64)
		z, err := strconv.ParseInt(to, 16, 64)
		if err != nil {
			continue
		}
		buf := make([]byte, 1<<20)
		for at := a; at < z; at += int64(len(buf) - len(secret)) {
			require.True(t, time.Now().Before(deadline), "memory is searched within %s", patience)
			n, _ := mem.ReadAt(buf[:min(int64(len(buf)), z-at)], at)
			if bytes.Contains(buf[:n], secret) {
				return true
			}
		}
	}
	return false
}

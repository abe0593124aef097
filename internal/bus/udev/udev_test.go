package udev_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/bus/udev"
)

func rule(name, ids string) driver.Rule {
	return driver.Rule{Name: name, Version: "1", Digest: strings.Repeat("0a", 32), USB: []string{ids}}
}

func TestOnlyTheBenchsOwnFileIsWrittenAndRemoved(t *testing.T) {
	dir := t.TempDir()
	other := filepath.Join(dir, "99-other.rules")
	require.NoError(t, os.WriteFile(other, []byte("# somebody else's\n"), 0o644))
	r := udev.Rules{Dir: dir, Spare: t.TempDir(), Sys: t.TempDir(), Access: driver.Access{Group: "ada"}}
	p, err := r.Plan([]driver.Rule{rule("halden-link", "f3e0:0104")})
	require.NoError(t, err)
	require.Contains(t, p.Difference, "+SUBSYSTEM==\"usb\"")
	require.NoError(t, p.Blocked)
	_, err = os.Stat(p.Path)
	require.ErrorIs(t, err, os.ErrNotExist, "a plan changes nothing")
	require.NoError(t, r.Apply(p))
	info, err := os.Stat(p.Path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o644), info.Mode().Perm())

	again, err := r.Plan([]driver.Rule{rule("halden-link", "f3e0:0104")})
	require.NoError(t, err)
	require.Empty(t, again.Difference)
	more, err := r.Plan([]driver.Rule{rule("halden-link", "f3e0:0104"), rule("ivory-link", "f3e0:0201")})
	require.NoError(t, err)
	require.NotContains(t, more.Difference, "-SUBSYSTEM", "what is there stays")
	require.NoError(t, r.Apply(more))
	none, err := r.Plan(nil)
	require.NoError(t, err)
	require.NoError(t, r.Apply(none))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, left, 1, "just the other one is left")
	raw, err := os.ReadFile(other)
	require.NoError(t, err)
	require.Equal(t, "# somebody else's\n", string(raw))
}

func TestWithoutTheRightOneIsToldTheLineToRun(t *testing.T) {
	spare := t.TempDir()
	r := udev.Rules{Dir: filepath.Join(t.TempDir(), "missing"), Spare: spare, Sys: t.TempDir()}
	p, err := r.Plan([]driver.Rule{rule("halden-link", "f3e0:0104")})
	require.NoError(t, err)
	require.Error(t, p.Blocked)
	err = r.Apply(p)
	require.Equal(t, problem.Person, problem.KindOf(err))
	require.ErrorContains(t, err, "sudo install -m 0644 "+filepath.Join(spare, udev.FileName)+" "+p.Path)
	raw, err := os.ReadFile(filepath.Join(spare, udev.FileName))
	require.NoError(t, err)
	require.Equal(t, p.Text, string(raw))
}

func TestAWrongBusIDDoesNotLeadElsewhere(t *testing.T) {
	r := udev.Rules{Sys: t.TempDir()}
	for _, id := range []string{"", "..", "../../x", "1-1/../.."} {
		require.Error(t, r.Trigger(id))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(r.Sys, "bus/usb/devices/1-1"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(r.Sys, "bus/usb/devices/1-1/uevent"), nil, 0o644))
	require.NoError(t, r.Trigger("1-1"))
	raw, err := os.ReadFile(filepath.Join(r.Sys, "bus/usb/devices/1-1/uevent"))
	require.NoError(t, err)
	require.Equal(t, "change", string(raw))
}

package udev_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/sysfs/sysfstest"
	"earlybench.invalid/earlybench/internal/bus/udev"
)

// script runs udevadm in a mount namespace of its own, where our file is the only one of
// people's rules, on a made-up device; then it says what has become of the node.
const script = `set -e
mount --bind "$1" /sys
mount -t tmpfs none /run
mount --bind "$2" /etc/udev/rules.d
mount -t tmpfs none /dev
mknod /dev/null c 1 3
mkdir -p /dev/bus/usb/001
mknod -m 0600 /dev/bus/usb/001/002 c 189 1
SYSTEMD_DEVICE_VERIFY_SYSFS=0 udevadm test --action=add /sys/devices/pci0000:00/0000:00:14.0/usb1/1-2 2>&1
stat -c 'node: %a %G' /dev/bus/usb/001/002
for l in /dev/earlybench/*; do if [ -h "$l" ]; then echo "link: $(basename "$l") $(readlink "$l")"; fi; done
`

// table is some rules, and whether a device is among them.
type table struct {
	rules []driver.Rule
	id    usb.ID
	is    bool
}

func newTable(r *rand.Rand) table {
	t := table{}
	for n := range 1 + r.IntN(3) {
		rule := driver.Rule{Name: fmt.Sprintf("set-%d", n), Version: "1.0", Digest: fmt.Sprintf("%064x", r.Uint64())}
		for range 1 + r.IntN(2) {
			from := r.IntN(0x10000)
			to := min(from+r.IntN([]int{1, 16, 300, 0x4000}[r.IntN(4)]), 0xffff)
			ids := fmt.Sprintf("%04x:%04x-%04x", 0xf3e0+r.IntN(2), from, to)
			if from == to {
				ids = ids[:9]
			}
			rule.USB = append(rule.USB, ids)
		}
		t.rules = append(t.rules, rule)
	}
	all := t.rules[r.IntN(len(t.rules))].USB
	fmt.Sscanf(all[0], "%04x:%04x", &t.id.Vendor, &t.id.Product)
	if r.IntN(2) == 0 {
		t.id = usb.ID{Vendor: 0xf3e0 + uint16(r.IntN(3)), Product: uint16(r.IntN(0x10000))}
	}
	for _, rule := range t.rules {
		m := driver.Manifest{}
		for _, ids := range rule.USB {
			m.Fits = append(m.Fits, driver.Match{USB: ids, Class: "ff/00/00"})
		}
		fit, _ := m.FitOf(driver.Target{ID: t.id, Class: usb.Class{Class: 0xff}})
		t.is = t.is || fit >= driver.Covered
	}
	return t
}

func TestUdevTakesTheRulesOfFiftyTables(t *testing.T) {
	if _, err := exec.LookPath("udevadm"); err != nil || os.Getuid() != 0 {
		t.Skip("udevadm is not installed, or this user may not make a mount namespace")
	}
	require.NoError(t, os.MkdirAll(udev.Dir, 0o755))
	r := rand.New(rand.NewPCG(7, 7))
	among := 0
	for range 50 {
		x := newTable(r)
		dir := t.TempDir()
		rules := udev.Rules{Dir: dir, Spare: dir, Sys: dir, Access: driver.Access{Group: "daemon", Seat: true}}
		p, err := rules.Plan(x.rules)
		require.NoError(t, err)
		require.NoError(t, rules.Apply(p))
		tree, err := sysfstest.New(t.TempDir())
		require.NoError(t, err)
		require.NoError(t, tree.Controller(1, 4))
		require.NoError(t, tree.Plug("1-2", sysfstest.Device{DevNum: 2, Descriptor: usb.Descriptor{ID: x.id, Serial: "/../../HH4 0077", Product: "Heron 4"}}))
		out, err := exec.Command("unshare", "-m", "sh", "-c", script, "sh", tree.Sys(), dir).CombinedOutput()
		require.NoError(t, err, "%s", out)
		text := string(out)
		require.Contains(t, text, "Reading rules file: "+filepath.Join(udev.Dir, udev.FileName))
		for line := range strings.Lines(text) {
			if strings.Contains(line, udev.FileName+":") {
				require.Regexp(t, `:\d+ (GROUP \d+|MODE 0660|LINK '[^']+')$`, strings.TrimSpace(line), "a diagnostic for our file")
			}
		}
		if !x.is {
			require.NotContains(t, text, "node: 660 daemon", "%v is not among %v", x.id, x.rules)
			require.NotContains(t, text, "link: ")
			continue
		}
		among++
		require.Contains(t, text, "node: 660 daemon", "%v is among %v", x.id, x.rules)
		require.Regexp(t, fmt.Sprintf(`link: %04x-%04x-[^/ ]*HH4_0077 \.\./bus/usb/001/002`, x.id.Vendor, x.id.Product), text)
		require.Contains(t, text, "uaccess")
	}
	require.Greater(t, among, 10)
	require.Less(t, among, 45)
}

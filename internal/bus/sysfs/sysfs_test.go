//go:build linux && (amd64 || arm64)

package sysfs_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/sysfs"
	"earlybench.invalid/earlybench/internal/bus/sysfs/sysfstest"
)

// made is a made-up computer with one controller.
func made(t *testing.T) (*sysfstest.Tree, sysfs.Roots) {
	t.Helper()
	tree, err := sysfstest.New(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, tree.Controller(1, 4))
	return tree, sysfs.Roots{Sys: tree.Sys(), Dev: tree.Dev(), Proc: tree.Proc()}
}

// all reads everything.
func all(roots sysfs.Roots) (hostlink.Bus, error) {
	r := sysfs.Reader{Roots: roots, Run: "run"}
	return r.Read(func(string) bool { return true })
}

func handset(serial string, num int) sysfstest.Device {
	return sysfstest.Device{DevNum: num, Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Serial: serial, Product: "Heron 4", MilliAmps: 500, Interfaces: []usb.Interface{
		{Number: 0, Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}, Name: "Album"},
		{Number: 1, Class: usb.Class{Class: 0xff}, Name: usb.LinkName, Endpoints: []usb.Endpoint{{Address: 0x81, MaxPacket: 512}, {Address: 1, MaxPacket: 512}}},
	}}}
}

func hub(num int) sysfstest.Device {
	return sysfstest.Device{DevNum: num, Hub: 4, Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 9}, Class: usb.Class{Class: 9}, Product: "Desk hub", MilliAmps: 100}}
}

func TestAComputerWithoutUSBSaysSo(t *testing.T) {
	_, err := all(sysfs.Roots{Sys: t.TempDir()})
	require.ErrorIs(t, err, sysfs.ErrNone)
	require.ErrorContains(t, err, "bus/usb/devices is not there")
}

func TestWhatIsConnectedIsRead(t *testing.T) {
	tree, roots := made(t)
	require.NoError(t, tree.Plug("1-2", hub(2)))
	d := handset("HH4 0077", 3)
	d.Drivers = map[uint8]string{0: "album"}
	require.NoError(t, tree.Plug("1-2.3", d))
	slow := handset("", 4)
	slow.Speed = "1.5"
	require.NoError(t, tree.Plug("1-10", slow))
	b, err := all(roots)
	require.NoError(t, err)
	require.Equal(t, []hostlink.Hub{
		{BusID: "usb1", Name: "Made-up controller", USB: "1d6b:0002", Driver: "xhci_hcd", Ports: 4, Joint: hostlink.Joint{Kilobits: 480_000}},
		{BusID: "1-2", Name: "Desk hub", USB: "f3e0:0009", Ports: 4, Joint: hostlink.Joint{Parent: "usb1", PortNumber: 2, Kilobits: 480_000, MilliAmps: 100}},
	}, b.Hubs)
	require.Len(t, b.Devices, 2)
	require.Equal(t, hostlink.Device{BusID: "1-2.3", Port: "port 3 of hub 1-2", Plugging: 3, Run: "run", USB: "f3e0:0104", Serial: "HH4 0077", Name: "Heron 4", Node: tree.Node(1, 3),
		Joint:      hostlink.Joint{Parent: "1-2", PortNumber: 3, Kilobits: 480_000, MilliAmps: 500},
		Interfaces: []hostlink.Interface{{Number: 0, Class: "06/01/01", Name: "Album", Driver: "album"}, {Number: 1, Class: "ff/00/00", Name: usb.LinkName}}}, b.Devices[0])
	require.Equal(t, "port 10 of bus 1", b.Devices[1].Port, "behind the one at port 2")
	require.Equal(t, 1500, b.Devices[1].Kilobits)
}

func TestAHubSevenTiersDeepIsRead(t *testing.T) {
	tree, roots := made(t)
	at := "1-1"
	for n := range 5 {
		require.NoError(t, tree.Plug(at, hub(2+n)))
		at += ".1"
	}
	require.NoError(t, tree.Plug(at, handset("deep", 9)))
	b, err := all(roots)
	require.NoError(t, err)
	require.Len(t, b.Hubs, 6)
	require.Equal(t, "1-1.1.1.1.1", b.Devices[0].Parent)
}

func TestWhatADeviceCallsItselfIsCleaned(t *testing.T) {
	tree, roots := made(t)
	d := handset("S\x1b[31m1\u202e", 2)
	d.Product = strings.Repeat("long ", 100)
	d.Interfaces[0].Name = "Al\x00bum\x07"
	require.NoError(t, tree.Plug("1-1", d))
	b, err := all(roots)
	require.NoError(t, err)
	got := b.Devices[0]
	require.NotContains(t, got.Serial, "\x1b")
	require.NotContains(t, got.Serial, "\u202e")
	require.LessOrEqual(t, len([]rune(got.Name)), 121)
	require.NotContains(t, got.Interfaces[0].Name, "\x07")
}

func TestADeviceThatGoesWhileItIsReadIsLeftOut(t *testing.T) {
	tree, roots := made(t)
	require.NoError(t, tree.Plug("1-1", handset("gone", 2)))
	require.NoError(t, os.RemoveAll(filepath.Join(tree.Sys(), "devices/pci0000:00/0000:00:14.0/usb1/1-1")))
	b, err := all(roots)
	require.NoError(t, err)
	require.Empty(t, b.Devices)
}

func TestADeviceWithoutConfigurationShowsTheInterfacesOfItsDescriptors(t *testing.T) {
	tree, roots := made(t)
	require.NoError(t, tree.Plug("1-1", handset("x", 2)))
	for _, n := range []string{"0", "1"} {
		require.NoError(t, os.Remove(filepath.Join(tree.Sys(), "bus/usb/devices/1-1:1."+n)))
	}
	b, err := all(roots)
	require.NoError(t, err)
	require.Equal(t, []hostlink.Interface{{Number: 0, Class: "06/01/01"}, {Number: 1, Class: "ff/00/00"}}, b.Devices[0].Interfaces)
}

func TestAClosedNodeIsSaidWithItsOwnership(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root makes a file that it may not open itself: it becomes somebody else")
	}
	tree, roots := made(t)
	require.NoError(t, tree.Plug("1-1", handset("x", 2)))
	missing := handset("y", 3)
	require.NoError(t, tree.Plug("1-2", missing))
	require.NoError(t, os.Remove(tree.Node(1, 3)))
	require.NoError(t, os.Chmod(tree.Root, 0o755))
	for dir := tree.Root; dir != "/"; dir = filepath.Dir(dir) {
		os.Chmod(dir, 0o755)
	}
	require.NoError(t, syscall.Setreuid(0, 65534)) // access(2) asks for the real one
	require.NoError(t, syscall.Setreuid(65534, 0))
	defer syscall.Setreuid(0, 0)
	b, err := all(roots)
	require.NoError(t, err)
	require.Contains(t, b.Devices[0].Denied, "-rw------- root root, and so closed to ")
	require.Contains(t, b.Devices[1].Denied, "is not there")
}

func TestWhoHasADeviceIsNamed(t *testing.T) {
	tree, roots := made(t)
	d := handset("x", 2)
	d.Drivers = map[uint8]string{1: "usbfs"}
	require.NoError(t, tree.Plug("1-1", d))
	b, err := all(roots)
	require.NoError(t, err)
	require.Equal(t, "another program", b.Devices[0].Holder, "nobody can be named")
	fds := filepath.Join(tree.Proc(), "4711/fd")
	require.NoError(t, os.MkdirAll(fds, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree.Proc(), "4711/comm"), []byte("scanner\n"), 0o644))
	require.NoError(t, os.Symlink(tree.Node(1, 2), filepath.Join(fds, "7")))
	b, err = all(roots)
	require.NoError(t, err)
	require.Equal(t, "scanner (process 4711)", b.Devices[0].Holder)
}

func TestOnlyWhatIsStaleIsReadAgain(t *testing.T) {
	tree, roots := made(t)
	for n := range 3 {
		require.NoError(t, tree.Plug(fmt.Sprintf("1-%d", n+1), handset(fmt.Sprint(n), n+2)))
	}
	r := sysfs.Reader{Roots: roots, Run: "run"}
	never := func(string) bool { return false }
	b, err := r.Read(never)
	require.NoError(t, err)
	require.Len(t, b.Devices, 3, "what is new is read")
	b.Devices[0].Interfaces[1].Driver = "ours"
	require.NoError(t, tree.Bind("1-1:1.1", "album"))
	require.NoError(t, tree.Bind("1-2:1.1", "album"))
	require.NoError(t, tree.Unplug("1-3"))
	b, err = r.Read(func(name string) bool { return name == "1-2" })
	require.NoError(t, err)
	require.Len(t, b.Devices, 2, "what has gone is left out")
	require.Empty(t, b.Devices[0].Interfaces[1].Driver)
	require.Equal(t, "album", b.Devices[1].Interfaces[1].Driver)
}

func TestTheNodeOfADeviceIsFoundByItsBusID(t *testing.T) {
	tree, roots := made(t)
	require.NoError(t, tree.Plug("1-1", handset("x", 12)))
	path, err := roots.Node("1-1")
	require.NoError(t, err)
	require.Equal(t, tree.Node(1, 12), path)
	for _, bad := range []string{"", "1-9", "../../../etc", "..", "1-1/../1-1", "usb\x00"} {
		_, err := roots.Node(bad)
		require.ErrorIs(t, err, usb.ErrNotFound, "%q", bad)
	}
	require.NoError(t, tree.Unplug("1-1"))
	_, err = roots.Node("1-1")
	require.ErrorIs(t, err, usb.ErrNotFound)
}

// BenchmarkRead reads a full bus: 127 devices behind nested hubs.
func BenchmarkRead(b *testing.B) {
	tree, err := sysfstest.New(b.TempDir())
	require.NoError(b, err)
	require.NoError(b, tree.Controller(1, 4))
	num := 2
	plug := func(busID string, d func(int) sysfstest.Device) {
		if num <= 127 {
			require.NoError(b, tree.Plug(busID, d(num)))
			num++
		}
	}
	for h := range 4 {
		plug(fmt.Sprintf("1-%d", h+1), hub)
		for g := range 4 {
			plug(fmt.Sprintf("1-%d.%d", h+1, g+1), hub)
			for p := range 7 {
				plug(fmt.Sprintf("1-%d.%d.%d", h+1, g+1, p+1), func(n int) sysfstest.Device { return handset(fmt.Sprint("s", n), n) })
			}
		}
	}
	require.Equal(b, 128, num)
	roots := sysfs.Roots{Sys: tree.Sys(), Dev: tree.Dev(), Proc: tree.Proc()}
	b.Run("all", func(b *testing.B) {
		for b.Loop() {
			_, err := all(roots)
			require.NoError(b, err)
		}
	})
	b.Run("one", func(b *testing.B) {
		r := sysfs.Reader{Roots: roots, Run: "run"}
		for b.Loop() {
			_, err := r.Read(func(name string) bool { return name == "1-2.2.2" })
			require.NoError(b, err)
		}
	})
}

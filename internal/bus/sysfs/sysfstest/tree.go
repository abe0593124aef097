// Package sysfstest makes up the files in which Linux shows what is connected to its USB, in a
// directory of a test's own.
package sysfstest

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/usb"
)

// Tree is a made-up computer below one directory: sys, dev and proc.
type Tree struct{ Root string }

// Device is what is plugged in.
type Device struct {
	usb.Descriptor
	// Raw is what the file descriptors holds, if not what the descriptor states.
	Raw     []byte
	Speed   string           // in Mbit/s; "" is 480
	Drivers map[uint8]string // bound to interfaces, by their numbers
	Hub     int              // how many ports it has, if it is a hub
	DevNum  int
	Mode    os.FileMode // of its node; 0 is 0600
}

// New makes an empty computer.
func New(root string) (*Tree, error) {
	t := &Tree{Root: root}
	for _, dir := range []string{"sys/bus/usb/devices", "sys/devices/pci0000:00/0000:00:14.0", "sys/bus/drivers", "dev/bus/usb", "proc/sys/kernel/random"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			return nil, err
		}
	}
	if err := t.driver("sys/devices/pci0000:00/0000:00:14.0", "xhci_hcd"); err != nil {
		return nil, err
	}
	return t, os.WriteFile(filepath.Join(root, "proc/sys/kernel/random/boot_id"), []byte("5c1f0a44-0000-4000-8000-000000000000\n"), 0o644)
}

// Sys, Dev and Proc are the roots of its files.
func (t *Tree) Sys() string  { return filepath.Join(t.Root, "sys") }
func (t *Tree) Dev() string  { return filepath.Join(t.Root, "dev") }
func (t *Tree) Proc() string { return filepath.Join(t.Root, "proc") }

const controller = "sys/devices/pci0000:00/0000:00:14.0/"

// Controller adds a controller with its root hub, such as usb1.
func (t *Tree) Controller(bus, ports int) error {
	d := Device{Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0x1d6b, Product: 2}, Class: usb.Class{Class: 9}, Product: "Made-up controller"}, Hub: ports, DevNum: 1}
	return t.make(fmt.Sprintf("usb%d", bus), controller+fmt.Sprintf("usb%d", bus), bus, d)
}

// Plug connects a device, such as 1-2 or 1-4.1.
func (t *Tree) Plug(busID string, d Device) error {
	bus, path, ok := strings.Cut(busID, "-")
	n, err := strconv.Atoi(bus)
	if err != nil || !ok {
		return fmt.Errorf("%q is not a bus id", busID)
	}
	real := controller + "usb" + bus
	hops := strings.Split(path, ".")
	for i := range hops {
		real += "/" + bus + "-" + strings.Join(hops[:i+1], ".")
	}
	return t.make(busID, real, n, d)
}

// Unplug disconnects a device, with everything that is connected to it.
func (t *Tree) Unplug(busID string) error {
	links, err := filepath.Glob(filepath.Join(t.Sys(), "bus/usb/devices", busID+"*"))
	if err != nil {
		return err
	}
	for _, l := range links {
		rest := strings.TrimPrefix(filepath.Base(l), busID)
		if rest != "" && rest[0] != ':' && rest[0] != '.' {
			continue
		}
		real, err := filepath.EvalSymlinks(l)
		if err == nil {
			if node, err := t.node(real); err == nil {
				os.Remove(node) //nolint:errcheck // a test looks at it
			}
			os.RemoveAll(real) //nolint:errcheck // as above
		}
		if err := os.Remove(l); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tree) node(real string) (string, error) {
	number := func(name string) (int, error) {
		b, err := os.ReadFile(filepath.Join(real, name))
		if err != nil {
			return 0, err
		}
		return strconv.Atoi(strings.TrimSpace(string(b)))
	}
	bus, err := number("busnum")
	if err != nil {
		return "", err
	}
	dev, err := number("devnum")
	return t.Node(bus, dev), err
}

// Node is the path of a device's node.
func (t *Tree) Node(bus, dev int) string {
	return filepath.Join(t.Dev(), fmt.Sprintf("bus/usb/%03d/%03d", bus, dev))
}

// Bind binds a driver to an interface, such as 1-2:1.1.
func (t *Tree) Bind(name, driver string) error {
	real, err := filepath.EvalSymlinks(filepath.Join(t.Sys(), "bus/usb/devices", name))
	if err != nil {
		return err
	}
	rel, err := filepath.Rel(t.Root, real)
	if err != nil {
		return err
	}
	return t.driver(rel, driver)
}

func (t *Tree) driver(dir, name string) error {
	target := filepath.Join(t.Root, "sys/bus/drivers", name)
	if err := os.MkdirAll(target, 0o755); err != nil {
		return err
	}
	link := filepath.Join(t.Root, dir, "driver")
	os.Remove(link) //nolint:errcheck // there may be none
	return os.Symlink(target, link)
}

func (t *Tree) make(name, real string, bus int, d Device) error {
	raw := d.Raw
	if raw == nil {
		raw = append(d.DeviceBytes(), d.ConfigBytes()...)
	}
	speed := d.Speed
	if speed == "" {
		speed = "480"
	}
	files := map[string]string{"busnum": strconv.Itoa(bus), "devnum": strconv.Itoa(d.DevNum), "speed": speed,
		"idVendor": fmt.Sprintf("%04x", d.ID.Vendor), "idProduct": fmt.Sprintf("%04x", d.ID.Product), "bDeviceClass": fmt.Sprintf("%02x", d.Class.Class),
		"bcdDevice": fmt.Sprintf("%04x", d.Revision), "bMaxPower": fmt.Sprintf("%dmA", d.MilliAmps), "bConfigurationValue": "1", "maxchild": strconv.Itoa(d.Hub),
		"uevent": fmt.Sprintf("MAJOR=189\nMINOR=%d\nDEVNAME=bus/usb/%03d/%03d\nDEVTYPE=usb_device", (bus-1)*128+d.DevNum-1, bus, d.DevNum)}
	for key, text := range map[string]string{"manufacturer": d.Maker, "product": d.Product, "serial": d.Serial} {
		if text != "" {
			files[key] = text
		}
	}
	if err := t.files(real, files); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(t.Root, real, "descriptors"), raw, 0o644); err != nil {
		return err
	}
	mode := d.Mode
	if mode == 0 {
		mode = 0o600
	}
	node := t.Node(bus, d.DevNum)
	if err := os.MkdirAll(filepath.Dir(node), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(node, raw, mode); err != nil {
		return err
	}
	for _, i := range d.Interfaces {
		if err := t.iface(name, real, d, i); err != nil {
			return err
		}
	}
	if err := os.Symlink(strings.Repeat("../", strings.Count(real, "/"))+"bus/usb", filepath.Join(t.Root, real, "subsystem")); err != nil {
		return err
	}
	return os.Symlink(filepath.Join(t.Root, real), filepath.Join(t.Sys(), "bus/usb/devices", name))
}

func (t *Tree) iface(name, real string, d Device, i usb.Interface) error {
	iname := fmt.Sprintf("%s:1.%d", name, i.Number)
	dir := real + "/" + iname
	files := map[string]string{"bInterfaceNumber": fmt.Sprintf("%02x", i.Number), "bInterfaceClass": fmt.Sprintf("%02x", i.Class.Class),
		"bInterfaceSubClass": fmt.Sprintf("%02x", i.Class.Subclass), "bInterfaceProtocol": fmt.Sprintf("%02x", i.Class.Protocol)}
	if i.Name != "" {
		files["interface"] = i.Name
	}
	if err := t.files(dir, files); err != nil {
		return err
	}
	if by := d.Drivers[i.Number]; by != "" {
		if err := t.driver(dir, by); err != nil {
			return err
		}
	}
	return os.Symlink(filepath.Join(t.Root, dir), filepath.Join(t.Sys(), "bus/usb/devices", iname))
}

func (t *Tree) files(dir string, files map[string]string) error {
	if err := os.MkdirAll(filepath.Join(t.Root, dir), 0o755); err != nil {
		return err
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(t.Root, dir, name), []byte(text+"\n"), 0o644); err != nil {
			return err
		}
	}
	return nil
}

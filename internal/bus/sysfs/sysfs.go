//go:build linux && (amd64 || arm64)

// Package sysfs reads what is connected to this computer's USB from the files in which Linux
// shows it (Documentation/ABI/stable/sysfs-bus-usb and testing/sysfs-bus-usb). It changes
// nothing, and asks no device anything: the kernel has read all of it already.
package sysfs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/usb"
)

// Roots are where the system's files are. Tests have them in a made-up tree.
type Roots struct {
	Sys  string // such as /sys
	Dev  string // such as /dev
	Proc string // such as /proc
}

// System is where Linux has them.
var System = Roots{Sys: "/sys", Dev: "/dev", Proc: "/proc"}

// ErrNone is the error for a computer without USB: there is no bus/usb in sysfs.
var ErrNone = errors.New("this computer shows no USB")

const maxText = 120 // characters of a name that are kept

// Reader reads what is connected, and again only what may have changed.
type Reader struct {
	Roots
	Run  string // tells this start of the computer from others
	kept map[string]entry
}

// entry is what was read of a hub or a device.
type entry struct {
	hub    *hostlink.Hub
	device *hostlink.Device
}

// Read returns what is connected. What was read before is read again where stale reports so
// for its bus id. What goes while it is read is left out.
func (r *Reader) Read(stale func(busID string) bool) (hostlink.Bus, error) {
	dir := filepath.Join(r.Sys, "bus/usb/devices")
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return hostlink.Bus{}, fmt.Errorf("%w: %s is not there", ErrNone, dir)
	}
	if err != nil {
		return hostlink.Bus{}, fmt.Errorf("read the USB devices: %w", err)
	}
	var names []string
	parts := map[string][]string{} // names of interfaces, by their device
	for _, e := range entries {
		if device, _, is := strings.Cut(e.Name(), ":"); is {
			parts[device] = append(parts[device], e.Name())
		} else {
			names = append(names, e.Name())
		}
	}
	slices.SortFunc(names, byPorts)
	out := hostlink.Bus{Devices: []hostlink.Device{}}
	now := make(map[string]entry, len(names))
	for _, name := range names {
		e, known := r.kept[name]
		if !known || stale(name) {
			e = r.entry(dir, name, parts[name])
		}
		switch {
		case e.hub != nil:
			out.Hubs = append(out.Hubs, *e.hub)
		case e.device != nil:
			d := *e.device
			d.Interfaces = slices.Clone(d.Interfaces) // the caller's own: what is kept stays as it was read
			out.Devices = append(out.Devices, d)
		default: // it went while it was read
			continue
		}
		now[name] = e
	}
	r.kept = now
	return out, nil
}

func (r *Reader) entry(dir, name string, parts []string) entry {
	n := node{dir: filepath.Join(dir, name), name: name}
	hub, isHub := n.hub()
	switch {
	case !n.there():
		return entry{}
	case isHub:
		return entry{hub: &hub}
	}
	d := r.device(n, dir, parts, r.Run)
	return entry{device: &d}
}

// byPorts orders bus ids by their numbers: usb1, 1-2, 1-10.
func byPorts(a, b string) int { return slices.Compare(numbers(a), numbers(b)) }

func numbers(busID string) (out []int) {
	for f := range strings.FieldsFuncSeq(strings.TrimPrefix(busID, "usb"), func(r rune) bool { return r == '-' || r == '.' }) {
		n, err := strconv.Atoi(f)
		if err != nil {
			n = -1
		}
		out = append(out, n)
	}
	return out
}

// node is a directory of a device, hub or interface.
type node struct{ dir, name string }

// there reports whether it is there still, with what every device has.
func (n node) there() bool { return n.text("idVendor") != "" && n.text("devnum") != "" }

// maxFile bounds an attribute, in bytes. The kernel writes at most a page, but for descriptors.
const maxFile = 64 << 10

// raw is an attribute as it is; nil if there is none. It is read by system calls: os.Open
// would try to wait for each of some thousand small files by the poller.
func (n node) raw(name string) []byte {
	fd, err := syscall.Open(n.dir+"/"+name, syscall.O_RDONLY|syscall.O_CLOEXEC|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	defer syscall.Close(fd) //nolint:errcheck // nothing was written
	var b []byte
	var page [4096]byte
	for len(b) < maxFile {
		k, err := syscall.Read(fd, page[:])
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil || k <= 0 {
			break
		}
		b = append(b, page[:k]...)
	}
	return b
}

// text is an attribute in one clean line: what a device calls itself is its own claim.
func (n node) text(name string) string {
	return plain.Cut(plain.Line(strings.TrimSpace(string(n.raw(name)))), maxText)
}

func (n node) number(name string) int {
	v, err := strconv.Atoi(n.text(name))
	if err != nil {
		return 0
	}
	return v
}

func (n node) hex(name string, bits int) uint64 {
	v, err := strconv.ParseUint(n.text(name), 16, bits)
	if err != nil {
		return 0
	}
	return v
}

// link is the last name in a symbolic link's path, such as that of a driver; "" for none.
func (n node) link(name string) string {
	to, err := os.Readlink(filepath.Join(n.dir, name))
	if err != nil {
		return ""
	}
	return filepath.Base(to)
}

func (n node) id() string {
	return usb.ID{Vendor: uint16(n.hex("idVendor", 16)), Product: uint16(n.hex("idProduct", 16))}.String()
}

const hubClass = 0x09 // USB 2.0, section 11.23.1

// hub reads a controller (usb1) or a hub.
func (n node) hub() (hostlink.Hub, bool) {
	root := strings.HasPrefix(n.name, "usb")
	if !root && n.hex("bDeviceClass", 8) != hubClass {
		return hostlink.Hub{}, false
	}
	h := hostlink.Hub{BusID: n.name, Joint: n.joint(), Name: n.text("product"), USB: n.id(), Ports: n.number("maxchild")}
	if root {
		h.Driver, h.MilliAmps = n.controller(), 0
	}
	return h, true
}

// controller names the driver of a root hub's controller, which is the directory above it.
func (n node) controller() string {
	real, err := filepath.EvalSymlinks(n.dir)
	if err != nil {
		return ""
	}
	return node{dir: filepath.Dir(real)}.link("driver")
}

// joint reads where it is connected. The bus id has the ports in it: 1-4.2 is port 2 of the
// hub in port 4 of bus 1.
func (n node) joint() hostlink.Joint {
	j := hostlink.Joint{Kilobits: n.kilobits(), MilliAmps: n.milliAmps()}
	bus, path, connected := strings.Cut(n.name, "-")
	if !connected {
		return j
	}
	j.Parent = "usb" + bus
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		j.Parent, path = bus+"-"+path[:i], path[i+1:]
	}
	j.PortNumber, _ = strconv.Atoi(path)
	return j
}

// kilobits is the speed, which sysfs has in Mbit/s, as 1.5 or 480.
func (n node) kilobits() int {
	v, err := strconv.ParseFloat(n.text("speed"), 64)
	if err != nil || v < 0 || v > 1e6 {
		return 0
	}
	return int(v*1000 + 0.5)
}

// milliAmps is what the device says it draws at most, such as 500mA.
func (n node) milliAmps() int {
	v, err := strconv.Atoi(strings.TrimSuffix(n.text("bMaxPower"), "mA"))
	if err != nil {
		return 0
	}
	return v
}

// device reads a device with its interfaces, which are in directories of their own.
func (r Roots) device(n node, dir string, parts []string, run string) hostlink.Device {
	j := n.joint()
	d := hostlink.Device{Joint: j, BusID: n.name, Port: portName(j), Plugging: n.number("devnum"), Run: run, USB: n.id(),
		Serial: n.text("serial"), Name: n.text("product"), Denied: r.denied(n), Node: r.path(n)}
	slices.Sort(parts)
	taken := false
	for _, p := range parts {
		i := node{dir: filepath.Join(dir, p), name: p}
		if i.text("bInterfaceClass") == "" { // it went
			continue
		}
		class := usb.Class{Class: uint8(i.hex("bInterfaceClass", 8)), Subclass: uint8(i.hex("bInterfaceSubClass", 8)), Protocol: uint8(i.hex("bInterfaceProtocol", 8))}
		driver := i.link("driver")
		taken = taken || driver == Passthrough
		d.Interfaces = append(d.Interfaces, hostlink.Interface{Number: int(i.hex("bInterfaceNumber", 8)), Class: class.String(), Name: i.text("interface"), Driver: driver})
	}
	slices.SortFunc(d.Interfaces, func(a, b hostlink.Interface) int { return a.Number - b.Number })
	if len(parts) == 0 { // not configured yet, or not let in: its descriptors are all there is
		if all, err := usb.ParseFile(n.raw("descriptors"), uint8(n.number("bConfigurationValue"))); err == nil {
			for _, i := range all.Interfaces {
				d.Interfaces = append(d.Interfaces, hostlink.Interface{Number: int(i.Number), Class: i.Class.String()})
			}
		}
	}
	if taken {
		d.Holder = r.holder(r.path(n))
	}
	return d
}

// Passthrough is the kernel's driver of an interface that a program has claimed through usbfs.
const Passthrough = "usbfs"

func portName(j hostlink.Joint) string {
	if strings.HasPrefix(j.Parent, "usb") {
		return fmt.Sprintf("port %d of bus %s", j.PortNumber, strings.TrimPrefix(j.Parent, "usb"))
	}
	return fmt.Sprintf("port %d of hub %s", j.PortNumber, j.Parent)
}

// path is the device's node, through which programs talk to it.
func (r Roots) path(n node) string {
	return filepath.Join(r.Dev, "bus/usb", fmt.Sprintf("%03d/%03d", n.number("busnum"), n.number("devnum")))
}

// Node is the path of the node of a device, by its bus id.
func (r Roots) Node(busID string) (string, error) {
	if strings.ContainsAny(busID, "/\x00") || busID == "." || busID == ".." {
		return "", usb.ErrNotFound
	}
	n := node{dir: filepath.Join(r.Sys, "bus/usb/devices", busID), name: busID}
	if !n.there() {
		return "", usb.ErrNotFound
	}
	return r.path(n), nil
}

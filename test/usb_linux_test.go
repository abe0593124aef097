package test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/sysfs/sysfstest"
	"earlybench.invalid/earlybench/internal/bus/uevent/ueventtest"
)

// own is a bench that watches the USB of a made-up computer, in a network namespace of its own.
type own struct {
	*demo
	tree *sysfstest.Tree
}

// startOwn starts the bench as serve does. Where no namespace can be made, it looks once a second.
func startOwn(t *testing.T, options ...string) *own {
	t.Helper()
	bin, err := program()
	require.NoError(t, err)
	tree, err := sysfstest.New(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, tree.Controller(1, 6))
	o := &own{&demo{t: t, bin: bin, state: t.TempDir(), out: &shared{}}, tree}
	args := append([]string{"-n", bin, "serve", "--state", o.state, "--port", "0", "--name", "moor-desk",
		"--sys-root", tree.Sys(), "--dev-root", tree.Dev(), "--proc-root", tree.Proc()}, options...)
	o.cmd = exec.Command("unshare", args...)
	o.cmd.Stdout, o.cmd.Stderr = o.out, o.out
	if err := exec.Command("unshare", "-n", "true").Run(); err != nil {
		t.Skipf("this user may not make a network namespace: %v", err)
	}
	require.NoError(t, o.cmd.Start())
	t.Cleanup(o.stop)
	o.eventually("the bench answers, and has looked at its buses", func() bool { return strings.Contains(o.run("host", "tree").out, "Made-up controller") })
	return o
}

// happens sends a made-up plug event in the bench's namespace.
func (o *own) happens(action, busID string) {
	o.t.Helper()
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // it is in another namespace, and ends with the goroutine
		done <- func() error {
			ns, err := os.Open(fmt.Sprintf("/proc/%d/ns/net", o.cmd.Process.Pid))
			if err != nil {
				return err
			}
			defer ns.Close()
			if err := unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET); err != nil {
				return err
			}
			return ueventtest.Send(action, "/devices/pci0000:00/0000:00:14.0/usb1/"+busID, "usb", "usb_device")
		}()
	}()
	require.NoError(o.t, <-done)
}

func (o *own) plugs(busID string, d sysfstest.Device) {
	o.t.Helper()
	require.NoError(o.t, o.tree.Plug(busID, d))
	o.happens("add", busID)
}

// heron is a handset that lets computers debug.
func heron(serial string, num int) sysfstest.Device {
	return sysfstest.Device{DevNum: num, Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Revision: 0x1200, Serial: serial, Product: "Heron 4", MilliAmps: 500, Interfaces: []usb.Interface{
		{Number: 0, Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}, Name: "Files"},
		{Number: 1, Class: usb.Class{Class: 0xff}, Name: usb.LinkName, Endpoints: []usb.Endpoint{{Address: 0x81, MaxPacket: 512}, {Address: 1, MaxPacket: 512}}},
	}}}
}

func TestTheBenchWatchesTheUSBOfItsOwnComputer(t *testing.T) {
	o := startOwn(t, "--made-up-events")
	hosts := o.ok("host")
	require.Contains(t, hosts, "this computer")
	require.Contains(t, hosts, "reached", "no host was added")

	o.plugs("1-2", heron("HH4 0077", 2))
	o.eventually("it is on the rack", func() bool { return strings.Contains(o.ok("rack"), "Halden Heron 4") })
	tree := o.ok("host", "tree")
	require.Contains(t, tree, "Made-up controller")
	require.Contains(t, tree, "2  heron-1 Halden Heron 4")
	require.Contains(t, tree, "480 Mbit/s  500 mA")
	require.Contains(t, tree, "1  ff/00/00  Early Bench device link 1")

	o.plugs("1-3", sysfstest.Device{DevNum: 3, Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0xf3e9, Product: 1}, Product: "Kettle", Interfaces: []usb.Interface{{Class: usb.Class{Class: 3}}}}})
	o.eventually("what no sheet fits is shown", func() bool { return strings.Contains(o.ok("host", "tree"), "No prep sheet fits it.") })
	require.Contains(t, o.ok("rack"), "unknown-1")

	require.NoError(t, o.tree.Unplug("1-2"))
	o.happens("remove", "1-2")
	o.eventually("it has gone", func() bool { return strings.Contains(o.ok("rack"), "unseen") })
	require.NotContains(t, o.ok("host", "tree"), "heron-1")
	o.plugs("1-4", heron("HH4 0077", 4))
	o.eventually("it is the same one at another port", func() bool { return strings.Contains(o.ok("host", "tree"), "4  heron-1") })
}

// asks is an adapter that writes down what it is shown, and takes none for its own.
const asks = `#!/usr/bin/env python3
import json, sys
for line in sys.stdin:
    m = json.loads(line)
    r = {"name": "asks", "version": "1", "facts": [], "actions": []}
    if m["method"] == "candidate":
        p = m["params"]
        print(p["kind"], p["device"], p["usb"], p["serial"], p["name"], "holds", open(p["path"]).read(), file=sys.stderr, flush=True)
        r = {"fit": 0}
    print(json.dumps({"jsonrpc": "2.0", "id": m["id"], "result": r}), flush=True)
`

func TestAnAdapterIsShownTheUSBDevicesThatItNamesAndNoOthers(t *testing.T) {
	o := startOwn(t, "--made-up-events")
	for n, d := range []usb.Descriptor{{ID: usb.ID{Vendor: 0xf3e9, Product: 1}, Serial: "K-77", Product: "Kettle"}, {ID: usb.ID{Vendor: 0xf3e9, Product: 2}, Serial: "T-12", Product: "Toaster"}} {
		d.Interfaces = []usb.Interface{{Class: usb.Class{Class: 3}}}
		o.plugs(fmt.Sprintf("1-%d", n+2), sysfstest.Device{DevNum: n + 2, Descriptor: d})
	}
	require.NoError(t, os.WriteFile(o.tree.Node(1, 2), []byte("water"), 0o600))
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join("..", "demo", "adapters", "reed-py"))))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "adapter.py"), []byte(asks), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "adapter.yaml"), []byte("adapter: kettles\nabout: Kettles.\ncommand: [python3, adapter.py]\nsheet: reed.yaml\nrights:\n  usb: [\"f3e9:0001\"]\n"), 0o600))
	r := o.run("adapter", "add", dir)
	require.Equal(t, 6, r.code)
	require.Contains(t, r.out, "USB devices    f3e9:0001")
	_, accept, _ := strings.Cut(r.out+r.err, "--accept ")
	o.ok("adapter", "add", dir, "--accept", strings.Fields(accept)[0])
	var all client.List[client.Adapter]
	o.eventually("it is shown the kettle, and opens it", func() bool {
		o.json(&all, "adapter")
		return strings.Contains(strings.Join(all.Items[0].Log, " "), "usb usb 1-2 f3e9:0001 K-77 Kettle holds water")
	})
	require.NotContains(t, strings.Join(all.Items[0].Log, " "), "Toaster")
}

func TestMadeUpEventsAreNotTaken(t *testing.T) {
	o := startOwn(t)
	o.plugs("1-2", heron("HH4 0077", 2))
	for range 5 {
		require.NotContains(t, o.ok("rack"), "Heron", "an event that is not the kernel's says nothing")
	}
}

func TestADeviceThatAnotherProgramOfTheComputerHasIsSaidToBeHeld(t *testing.T) {
	o := startOwn(t, "--made-up-events")
	d := heron("HH4 0077", 2)
	d.Drivers = map[uint8]string{1: "usbfs"}
	require.NoError(t, os.MkdirAll(o.tree.Proc()+"/4711/fd", 0o755))
	require.NoError(t, os.WriteFile(o.tree.Proc()+"/4711/comm", []byte("scanner\n"), 0o644))
	require.NoError(t, os.Symlink(o.tree.Node(1, 2), o.tree.Proc()+"/4711/fd/7"))
	o.plugs("1-2", d)
	o.eventually("its holder is named", func() bool { return strings.Contains(o.ok("host", "tree"), "seen  Held by scanner (process 4711).") })
	d = heron("HH4 0078", 3)
	d.Drivers = map[uint8]string{1: "modem"}
	o.plugs("1-3", d)
	o.eventually("and the kernel's driver", func() bool { return strings.Contains(o.ok("host", "tree"), "Held by the kernel's driver modem") })
}

func TestTheBenchsOwnComputerIsAHostLikeOthersButIsNotDropped(t *testing.T) {
	o := startOwn(t)
	var hosts client.List[client.Host]
	o.json(&hosts, "host")
	require.Len(t, hosts.Items, 1)
	name := hosts.Items[0].Name
	require.True(t, hosts.Items[0].Own)
	r := o.run("host", "drop", name)
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "--own-usb=false")
	r = o.run("host", "add", name, "--usbip", "127.0.0.1:1", "--control", "127.0.0.1:1")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "is the bench's own computer")
	o.ok("host", "set", "shared", name)
	require.Contains(t, o.ok("host"), "shared")
	r = o.run("host", "tree", "nowhere")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "nowhere")
}

// json runs a command with --json and reads what it prints.
func (d *demo) json(into any, args ...string) {
	d.t.Helper()
	require.NoError(d.t, json.Unmarshal([]byte(d.ok(append(args, "--json")...)), into))
}

func TestTheComputersPageFollowsWhatIsPluggedIn(t *testing.T) {
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.presses("Computer")
	b.sees("Nothing is wrong here.")
	b.sees("halden-link-3")
	b.sees("localhost resolves to this computer")
	d.ok("standin", "pull", "heron-1")
	b.sees("1 device is connected")
	d.ok("standin", "plug", "heron-1")
	b.sees("2 devices are connected")
	d.openMode("heron-2")
	b.sees("1 fault is marked")
	b.sees("Look at it")
	require.Contains(t, d.ok("host", "tree"), "✗ driver  ")
	b.presses("Look at it")
	b.presses("Install halden-link 4.1 on loft")
	b.sees("Say yes to")
	b.presses("Computer")
	b.sees("halden-link\n")
	b.sees("Nothing is wrong here.")
	require.NotContains(t, b.log.String(), "exception")
}

func TestTheCheckOfTheComputerTellsTheTruth(t *testing.T) {
	o := startOwn(t, "--made-up-events")
	check := func() map[string]client.Check {
		var all client.List[client.Check]
		r := o.run("host", "check", "--json")
		require.NoError(t, json.NewDecoder(strings.NewReader(r.out)).Decode(&all), "%s%s", r.out, r.err)
		out := map[string]client.Check{}
		wrong := 0
		for _, k := range all.Items {
			out[k.ID] = k
			if k.State == "wrong" {
				wrong++
			}
		}
		require.Equal(t, wrong > 0, r.code == 1, "the exit code is that of what is wrong")
		return out
	}
	require.Equal(t, "fine", check()["usb"].State)
	require.Equal(t, "unknown", check()["rights"].State, "nothing is connected")
	require.Equal(t, "limited", check()["networks"].State, "there is no network in this namespace")
	require.Equal(t, "limited", check()["multicast"].State)
	o.plugs("1-2", heron("HH4 0077", 2))
	o.eventually("its node may be opened", func() bool { return check()["rights"].State == "fine" })
	require.Contains(t, check()["usb"].Found, "1 device is connected")
	closed := heron("HH4 0078", 3)
	require.NoError(t, o.tree.Plug("1-3", closed))
	require.NoError(t, os.Remove(o.tree.Node(1, 3)))
	o.happens("add", "1-3")
	o.eventually("a node that is not there is told of", func() bool {
		k := check()["rights"]
		return k.State == "wrong" && strings.Contains(k.Found, "003 is not there") && strings.Contains(k.Breaks, "driver")
	})
	require.Contains(t, o.ok("host", "tree"), "✗ driver")
	o.eventually("why names it first", func() bool {
		why := o.ok("why", "heron-2")
		return strings.Contains(why, "100 %  The system does not let the bench open it: ") && strings.Contains(why, "by a udev rule")
	})
	require.NoError(t, os.WriteFile(o.tree.Node(1, 3), nil, 0o600))
	o.eventually("it is seen without an event that the node was made", func() bool { return check()["rights"].State == "fine" })
	o.eventually("and that cause has gone", func() bool { return !strings.Contains(o.ok("why", "heron-2"), "does not let the bench open it") })
}

func TestABenchWithoutStandInsSaysWhatUSBAccessItHas(t *testing.T) {
	bin, err := program()
	require.NoError(t, err)
	d := &demo{t: t, bin: bin, state: t.TempDir(), out: &shared{}}
	d.cmd = exec.Command(bin, "serve", "--state", d.state, "--port", "0", "--name", "moor-desk", "--sys-root", t.TempDir())
	d.cmd.Stdout, d.cmd.Stderr = d.out, d.out
	require.NoError(t, d.cmd.Start())
	t.Cleanup(d.stop)
	d.eventually("it says so", func() bool { return strings.Contains(d.out.String(), "This computer shows no USB") })
	r := d.run("host", "check")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.out, "This computer shows no USB")
	require.Contains(t, d.ok("host", "tree"), "This computer shows no USB")
}

func TestTheNodeOfADeviceIsOpenedByARuleWithConsent(t *testing.T) {
	dir := t.TempDir()
	o := startOwn(t, "--made-up-events", "--rules-dir", dir)
	require.NoError(t, o.tree.Plug("1-2", heron("HH4 0077", 2)))
	require.NoError(t, os.Remove(o.tree.Node(1, 2))) // root may open every node that is there
	uevent := o.tree.Sys() + "/bus/usb/devices/1-2/uevent"
	o.happens("add", "1-2")
	o.eventually("its node is closed", func() bool { return strings.Contains(o.run("why", "heron-1").out, "does not let the bench open it") })
	require.Contains(t, o.ok("driver", "show", "heron-1"), "linux-access")
	var all client.List[client.DriverCandidate]
	o.json(&all, "driver", "show", "heron-1")
	require.Len(t, all.Items, 1)
	require.Contains(t, all.Items[0].Difference, `+SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ATTR{idVendor}=="f3e0", ATTR{idProduct}=="0104", MODE="0660"`)
	require.Equal(t, 6, o.run("prep", "heron-1").code, "not without consent")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left)

	done := make(chan result, 1)
	go func() { done <- o.run("driver", "set", "heron-1", all.Items[0].Digest) }()
	o.eventually("the rule is there, and the kernel was asked to tell of the device again", func() bool {
		raw, err := os.ReadFile(uevent)
		return err == nil && strings.HasPrefix(string(raw), "change")
	})
	raw, err := os.ReadFile(dir + "/70-earlybench.rules")
	require.NoError(t, err)
	require.Contains(t, string(raw), "# driver set linux-access f3e0-0104")
	require.NoError(t, os.WriteFile(o.tree.Node(1, 2), nil, 0o600)) // as udev does then
	r := <-done
	require.Zero(t, r.code, r.err)
	o.eventually("the gate is open", func() bool { return !strings.Contains(o.ok("why", "heron-1"), "gate  driver") })

	o.ok("driver", "drop", "heron-1")
	left, err = os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "it is removed as it came")
}

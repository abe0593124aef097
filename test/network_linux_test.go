package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/dnssd"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// networks are two network namespaces, one for the bench and one for its devices, on a bridge in a
// third, which stands for the network of an office.
type networks struct {
	t                  *testing.T
	bench, devs, mid   string
	benchPort, devPort string // their ends at the bridge
}

// networksMade counts, so that each has names of its own; an interface's has 15 letters at most.
var networksMade atomic.Int32

const (
	benchAddress  = "10.77.1.1/24"
	deviceAddress = "10.77.1.2/24"
)

func newNetworks(t *testing.T) *networks {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("network namespaces need root")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("ip is not installed")
	}
	id := fmt.Sprintf("eb%d%s", os.Getpid()%10000, string(rune('a'+networksMade.Add(1)%26)))
	n := &networks{t: t, bench: id + "b", devs: id + "d", mid: id + "m", benchPort: id + "pb", devPort: id + "pd"}
	for _, ns := range []string{n.mid, n.bench, n.devs} {
		n.ip("netns", "add", ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
		n.ip("-n", ns, "link", "set", "lo", "up")
	}
	n.ip("-n", n.mid, "link", "add", "br0", "type", "bridge", "mcast_snooping", "0")
	n.ip("-n", n.mid, "link", "set", "br0", "up")
	for _, side := range []struct{ ns, port, address string }{{n.bench, n.benchPort, benchAddress}, {n.devs, n.devPort, deviceAddress}} {
		n.ip("-n", n.mid, "link", "add", side.port, "type", "veth", "peer", "name", "eth0", "netns", side.ns)
		n.ip("-n", n.mid, "link", "set", side.port, "master", "br0", "up")
		n.ip("-n", side.ns, "link", "set", "eth0", "up")
		n.ip("-n", side.ns, "addr", "add", side.address, "dev", "eth0")
	}
	return n
}

func (n *networks) ip(args ...string) {
	n.t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(n.t, err, "ip %s: %s", strings.Join(args, " "), out)
}

// moves gives a side another address instead of the one that it has.
func (n *networks) moves(ns, address string) {
	n.t.Helper()
	n.ip("-n", ns, "addr", "flush", "dev", "eth0")
	n.ip("-n", ns, "addr", "add", address, "dev", "eth0")
}

// multicast says whether the network carries announcements.
func (n *networks) multicast(on bool) {
	state := map[bool]string{true: "on", false: "off"}[on]
	for _, port := range []string{n.benchPort, n.devPort} {
		n.ip("-n", n.mid, "link", "set", port, "type", "bridge_slave", "mcast_flood", state)
	}
}

// in makes a command that runs in a namespace.
func (n *networks) in(ns string, args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", ns}, args...)...)
}

// devices starts stand-ins in the namespace of the devices; they end with the test.
func (n *networks) devices(bodies ...standin.Entry) (at standin.Addresses) {
	n.t.Helper()
	bin, err := program()
	require.NoError(n.t, err)
	dir, err := os.MkdirTemp("", "devices") // a socket's path is short
	require.NoError(n.t, err)
	sc := standin.Scenario{Dir: dir, Host: "loft", Drivers: true, Answer: "30s", HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0",
		Socket: filepath.Join(dir, "s"), Announcements: dnssd.Group, AirAddress: netip.IPv4Unspecified(), Bodies: bodies}
	cmd := n.in(n.devs, bin, "standin", "serve")
	in, err := cmd.StdinPipe()
	require.NoError(n.t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(n.t, err)
	cmd.Stderr = os.Stderr
	require.NoError(n.t, cmd.Start())
	n.t.Cleanup(func() {
		in.Close()
		cmd.Wait()
		os.RemoveAll(dir)
	})
	require.NoError(n.t, json.NewEncoder(in).Encode(sc))
	require.NoError(n.t, json.NewDecoder(out).Decode(&at))
	go io.Copy(io.Discard, out)
	return at
}

// serves starts a bench in its namespace.
func (n *networks) serves(dir string) *demo { return n.servesIn(n.bench, dir, "moor-desk") }

// servesIn starts a bench in a namespace.
func (n *networks) servesIn(ns, dir, name string, more ...string) *demo {
	n.t.Helper()
	bin, err := program()
	require.NoError(n.t, err)
	d := &demo{t: n.t, bin: bin, state: dir, out: &shared{}}
	d.at.Socket = filepath.Join(dir, "run", "bench.sock")
	d.cmd = n.in(ns, append([]string{bin, "serve", "--state", dir, "--port", "0", "--own-usb=false", "--name", name}, more...)...)
	d.cmd.Stdout, d.cmd.Stderr = d.out, d.out
	require.NoError(n.t, d.cmd.Start())
	n.t.Cleanup(d.kill)
	d.api = client.New(d.at.Socket)
	n.t.Cleanup(d.api.Close)
	d.eventually("the bench answers", func() bool { _, err := d.api.Bench(n.t.Context()); return err == nil })
	return d
}

// watchOf is a watch on its cradle that may be introduced.
func watchOf(name, serial string) standin.Entry {
	return standin.Entry{Name: name, Body: "wick", Model: "W2", Serial: serial, Begin: &body.Beginning{Settings: map[string]string{"loose": "yes"}}}
}

// introduces introduces the watch that is heard by commands, as a person does who reads its screen.
func (d *demo) introduces(at standin.Addresses, name string) string {
	d.t.Helper()
	require.NoError(d.t, steerAt(at.Socket, standin.MethodPlug, standin.Steer{Body: name}))
	heard := ""
	d.eventually("it is heard", func() bool {
		all, err := d.api.Network(d.t.Context())
		for _, e := range all {
			if e.State == "not met" {
				heard = e.Name
			}
		}
		return err == nil && heard != ""
	})
	d.ok("network", "introduce", heard)
	var shown body.Reading
	d.eventually("it shows words", func() bool {
		return steerInto(at.Socket, standin.MethodScreen, standin.Steer{Body: name}, &shown) == nil && strings.Count(shown.Title, " ") == 2
	})
	words := d.command(d.t.Context(), append([]string{"network", "words"}, strings.Fields(shown.Title)...)...)
	d.eventually("somebody lets it in", func() bool {
		return steerAt(at.Socket, standin.MethodTouch, standin.Steer{Body: name, Text: "Always"}) == nil
	})
	r := words.wait()
	require.Zero(d.t, r.code, "%s%s", r.out, r.err)
	handle, _, _ := strings.Cut(r.out, " ")
	return handle
}

// waysOf are the ways by which a device is reached.
func waysOf(d *demo, handle string) []client.Link {
	d.t.Helper()
	all, err := d.api.Devices(d.t.Context(), "")
	require.NoError(d.t, err)
	for _, dev := range all {
		if dev.Handle == handle {
			return dev.Ways
		}
	}
	require.Fail(d.t, "there is no "+handle)
	return nil
}

// names waits until why names a cause of a gate first.
func (d *demo) names(handle, gate, cause string) {
	d.t.Helper()
	var w client.Why
	defer func() {
		if d.t.Failed() {
			d.t.Logf("it says: %s %s\n%+v\n%+v", w.Gate, w.Text, w.Causes, w.Evidence)
		}
	}()
	d.eventually("why names "+cause+" first", func() bool {
		var err error
		w, err = d.api.Why(d.t.Context(), handle, "")
		return err == nil && w.Gate == gate && len(w.Causes) > 0 && w.Causes[0].ID == cause
	})
}

// office is a bench and a watch on one network, which were introduced.
type office struct {
	*networks
	*demo
	t      *testing.T
	dir    string
	at     standin.Addresses
	handle string
}

func newOffice(t *testing.T) *office {
	t.Helper()
	o := &office{networks: newNetworks(t), t: t, dir: t.TempDir()}
	o.at = o.devices(watchOf("kittiwake-1", "W 2 0007"))
	o.demo = o.serves(o.dir)
	o.handle = o.introduces(o.at, "kittiwake-1")
	o.linkedAt("10.77.1.2")
	return o
}

func (o *office) linkedAt(address string) {
	o.t.Helper()
	o.eventually("it is linked at "+address, func() bool {
		ways := waysOf(o.demo, o.handle)
		return len(ways) == 1 && ways[0].State == "linked" && strings.HasPrefix(ways[0].Port, address+":")
	})
}

func (o *office) gone() {
	o.t.Helper()
	o.eventually("it is not reached", func() bool { return len(waysOf(o.demo, o.handle)) == 0 })
}

func (o *office) fault(name string, off bool) {
	o.t.Helper()
	require.NoError(o.t, steerAt(o.at.Socket, standin.MethodFault, standin.Steer{Body: "kittiwake-1", Text: name, Off: off}))
}

// benchLeaves moves the bench to another network, of which why names the cause, and back.
func (o *office) benchLeaves(cause string) {
	o.t.Helper()
	o.moves(o.bench, "10.88.1.1/24")
	o.gone()
	o.names(o.handle, "seen", cause)
	o.moves(o.bench, benchAddress)
	o.linkedAt("10.77.1.2")
}

// foundAt reads on the watch's page where it is found.
func (o *office) foundAt(address string) string {
	o.t.Helper()
	for range 10 {
		var r body.Reading
		require.NoError(o.t, steerInto(o.at.Socket, standin.MethodScreen, standin.Steer{Body: "kittiwake-1"}, &r))
		for _, e := range r.Elements {
			if strings.HasPrefix(e.Value, address+":") {
				return e.Value
			}
		}
		for _, text := range []string{"Settings", "Works"} {
			steerAt(o.at.Socket, standin.MethodTouch, standin.Steer{Body: "kittiwake-1", Text: text})
		}
		require.NoError(o.t, steerAt(o.at.Socket, standin.MethodSlide, standin.Steer{Body: "kittiwake-1", Text: "up"}))
	}
	require.Fail(o.t, "it does not say where it is found")
	return ""
}

// TestWhyNamesWhatIsWrongWithTheNetwork goes through what goes wrong without a cable, and mends each.
func TestWhyNamesWhatIsWrongWithTheNetwork(t *testing.T) {
	t.Run("another address, another start, no announcements", func(t *testing.T) {
		t.Parallel()
		o := newOffice(t)
		o.moves(o.devs, "10.77.1.9/24")
		o.linkedAt("10.77.1.9") // by itself
		o.multicast(false)
		o.kill()
		o.demo = o.serves(o.dir)
		o.linkedAt("10.77.1.9") // where it answered last
		o.moves(o.devs, "10.77.1.12/24")
		o.gone() // nobody can know where it is but its owner
		o.names(o.handle, "seen", "new-address")
		o.ok("network", "add", o.foundAt("10.77.1.12"))
		o.linkedAt("10.77.1.12")
	})
	t.Run("another network", func(t *testing.T) {
		t.Parallel()
		o := newOffice(t)
		o.benchLeaves("wrong-network")
	})
	t.Run("a hotspot", func(t *testing.T) {
		t.Parallel()
		o := newOffice(t)
		o.fault("on-hotspot", false)
		o.eventually("it tells of the hotspot", func() bool {
			return regexp.MustCompile(`air\.hotspot +yes`).MatchString(o.ok("rack", "show", o.handle, "--facts"))
		})
		o.benchLeaves("on-hotspot")
	})
	t.Run("asleep", func(t *testing.T) {
		t.Parallel()
		o := newOffice(t)
		o.fault("asleep", false)
		o.gone()
		o.names(o.handle, "seen", "asleep")
		o.fault("asleep", true)
		o.linkedAt("10.77.1.2")
	})
}

// avahi starts a private avahi in a namespace, and returns a function that runs its tools beside it.
func (n *networks) avahi(ns string) func(args ...string) *exec.Cmd {
	n.t.Helper()
	for _, tool := range []string{"avahi-daemon", "dbus-daemon", "avahi-browse", "unshare", "nsenter"} {
		if _, err := exec.LookPath(tool); err != nil {
			n.t.Skip(tool + " is not installed")
		}
	}
	conf := filepath.Join(n.t.TempDir(), "avahi.conf")
	require.NoError(n.t, os.WriteFile(conf, []byte("[server]\nhost-name=witness\nuse-ipv4=yes\nuse-ipv6=no\nallow-interfaces=eth0\n[wide-area]\nenable-wide-area=no\n[publish]\npublish-workstation=no\n"), 0o600))
	cmd := n.in(ns, "unshare", "-m", "sh", "-c", `mount -t tmpfs none /run && mkdir -p /run/dbus /run/avahi-daemon && dbus-daemon --system --fork --nopidfile && exec avahi-daemon -f `+conf+` --no-drop-root --no-chroot --no-rlimits`)
	var said bytes.Buffer
	cmd.Stderr, cmd.Stdout = &said, &said
	require.NoError(n.t, cmd.Start())
	n.t.Cleanup(func() {
		exec.Command("sh", "-c", fmt.Sprintf("for p in $(ip netns pids %s); do kill $p; done", ns)).Run()
		cmd.Process.Kill()
		cmd.Wait()
	})
	return func(args ...string) *exec.Cmd {
		return exec.Command("nsenter", append([]string{"-t", fmt.Sprint(cmd.Process.Pid), "-m", "-n"}, args...)...)
	}
}

func TestAvahiResolvesOurAnnouncementsAndWeHearWhatItPublishes(t *testing.T) {
	n := newNetworks(t)
	at := n.devices(watchOf("kittiwake-1", "W 2 0007"))
	require.NoError(t, steerAt(at.Socket, standin.MethodPlug, standin.Steer{Body: "kittiwake-1"}))
	avahi := n.avahi(n.bench)
	var seen string
	require.Eventually(t, func() bool {
		out, err := avahi("avahi-browse", "-rpt", "_earlybench._tcp").CombinedOutput()
		seen = string(out)
		return err == nil && strings.Contains(seen, "10.77.1.2;")
	}, patience, 300*time.Millisecond, "avahi resolves it: %s", seen)
	require.Regexp(t, `=;eth0;IPv4;[0-9a-f]{32};_earlybench\._tcp;local;[0-9a-f]{32}\.local;10\.77\.1\.2;[0-9]+;.*"family=wick"`, seen)
	require.Contains(t, seen, `"v=1"`)
	require.NotContains(t, seen, "0007", "nothing that identifies it for good")

	publish := avahi("avahi-publish", "-s", "witness one", "_earlybench._tcp", "4022", "v=1", "family=tarn")
	require.NoError(t, publish.Start())
	t.Cleanup(func() { publish.Process.Kill(); publish.Wait() })
	d := n.serves(t.TempDir())
	d.eventually("both are heard", func() bool {
		all, err := d.api.Network(t.Context())
		found := 0
		for _, e := range all {
			if e.Family == "tarn" && e.Addresses[0] == "10.77.1.1:4022" || e.Family == "wick" && strings.HasPrefix(e.Addresses[0], "10.77.1.2:") {
				found++
			}
		}
		return err == nil && found == 2
	})
	require.NoError(t, publish.Process.Kill())
	d.eventually("the goodbye is heard", func() bool {
		all, err := d.api.Network(t.Context())
		return err == nil && len(all) == 1
	})
}

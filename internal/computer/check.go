package computer

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/depot"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// State is how one part of the computer stands.
type State string

// The states. What is limited works, with less comfort; what is wrong keeps something from
// working; what is unknown could not be looked at.
const (
	Fine    State = "fine"
	Limited State = "limited"
	Wrong   State = "wrong"
	Unknown State = "unknown"
)

// Check is one part of the bench's own computer, as it was found.
type Check struct {
	ID     string
	Title  string
	State  State
	Found  string // what was found, in a sentence
	Breaks string // what does not work, or not well, because of it; "" where it is fine
	Remedy string // what to do about it
}

// Checker looks at the bench's own computer. All fields are needed.
type Checker struct {
	Hosts  *bus.Hosts
	Rack   *rack.Rack
	Store  *store.Store
	Depots *depot.Depots
	Kits   func() []kits.Kit // as they were seen last
	State  string            // the bench's directory
	Now    func() time.Time
	Roots  bus.Local // where the system's files are, as the bench was started
}

// Run looks at everything, in the order in which one would put it right.
func (c *Checker) Run(ctx context.Context) ([]Check, error) {
	path, err := c.path(ctx)
	if err != nil {
		return nil, err
	}
	out := []Check{c.usb(), c.rights(), c.rules(), loopback(ctx), networks(), multicast(), c.clock(), c.depots(), c.disk(), c.memory(), c.records(ctx), defects()}
	return append(append(out, path...), c.kits()...), nil
}

// usb is whether devices that are connected to this computer are seen.
func (c *Checker) usb() Check {
	k := Check{ID: "usb", Title: "USB of this computer"}
	own, is := c.Hosts.Own()
	if !is {
		k.State, k.Found = Unknown, "The bench was started without access to this computer's USB."
		k.Breaks, k.Remedy = "Devices that are connected to this computer itself are not seen.", "Start it without --own-usb=false."
		return k
	}
	b, known := c.Hosts.Bus(own.Name)
	switch why := c.Hosts.Trouble(own.Name); {
	case !known:
		k.State, k.Found = Wrong, plain.Capital(fmt.Sprint(why))+"."
		k.Breaks = "Devices that are connected to this computer itself are not seen."
		k.Remedy = "If this is a container or a virtual machine, start the bench on the computer itself, or watch that one as a host: earlybench host add."
	case why != nil:
		k.State, k.Found = Limited, plain.Capital(why.Error())+"."
		k.Breaks, k.Remedy = "Devices that are plugged in are seen with a second's delay.", "Start the bench outside the container, or allow it to open netlink sockets."
	default:
		k.State, k.Found = Fine, fmt.Sprintf("%s connected, and the system tells of every change.", counted(len(b.Devices), "device is", "devices are"))
	}
	return k
}

// rights is whether this program may open the nodes of what is connected.
func (c *Checker) rights() Check {
	k := Check{ID: "rights", Title: "Rights on USB devices"}
	own, _ := c.Hosts.Own()
	b, known := c.Hosts.Bus(own.Name)
	if !known || len(b.Devices) == 0 {
		k.State, k.Found = Unknown, "No device is connected to this computer, so there are no rights to check."
		return k
	}
	var closed []string
	for _, d := range b.Devices {
		if d.Denied != "" {
			closed = append(closed, d.Denied)
		}
	}
	if len(closed) == 0 {
		k.State, k.Found = Fine, "The bench may open every connected device."
		return k
	}
	k.State, k.Found = Wrong, plain.Capital(closed[0])+"."
	if len(closed) > 1 {
		k.Found += fmt.Sprintf(" So are %d more.", len(closed)-1)
	}
	k.Breaks = "The gate driver of these devices stays shut."
	k.Remedy = "earlybench prep DEVICE shows the rule that opens a device's node, and installs it with your consent."
	return k
}

// rules is whether the system makes nodes by rules.
func (c *Checker) rules() Check {
	k := Check{ID: "rules", Title: "Rules for device nodes", State: Fine, Found: "udev is running, and creates device nodes by its rules."}
	if _, err := os.Stat(filepath.Join(root(c.Roots.Run, "/run"), "udev/control")); err == nil {
		return k
	}
	k.State, k.Found = Limited, "udev is not running here."
	k.Breaks = "Device nodes keep the kernel's access rights: for root only."
	k.Remedy = "Run the bench as the user who owns the nodes, or on a system with udev."
	return k
}

// loopback is whether this computer reaches itself by the names that the console uses.
func loopback(ctx context.Context) Check {
	k := Check{ID: "ports", Title: "Ports on this computer", State: Fine, Found: "localhost resolves to this computer, and the bench answers there."}
	short, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	found, err := net.DefaultResolver.LookupHost(short, "localhost")
	for _, a := range found {
		if ip := net.ParseIP(a); ip == nil || !ip.IsLoopback() {
			err = fmt.Errorf("it leads to %s", a)
		}
	}
	if err != nil {
		k.State, k.Found = Wrong, fmt.Sprintf("The name localhost does not resolve to this computer: %v.", err)
		k.Breaks, k.Remedy = "The console cannot show the device in your hand.", "Put the line \"127.0.0.1 localhost\" into /etc/hosts."
	}
	return k
}

// reaching are the network interfaces that lead somewhere else.
func reaching() []net.Interface {
	all, _ := net.Interfaces() // none: that is said
	return slices.DeleteFunc(all, func(i net.Interface) bool {
		return i.Flags&net.FlagUp == 0 || i.Flags&net.FlagLoopback != 0
	})
}

func networks() Check {
	k := Check{ID: "networks", Title: "Networks", State: Fine}
	var all []string
	for _, i := range reaching() {
		addrs, _ := i.Addrs()
		for _, a := range addrs {
			if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
				all = append(all, fmt.Sprintf("%s by %s", n, i.Name))
			}
		}
	}
	if len(all) == 0 {
		k.State, k.Found = Limited, "This computer is not on any network."
		k.Breaks, k.Remedy = "Devices without a cable and other hosts cannot be reached.", "Connect it to the network of the devices, or to a device's hotspot."
		return k
	}
	k.Found = "This computer is on " + strings.Join(all, ", ") + "."
	return k
}

// announcements is where services announce themselves (RFC 6762, section 3).
var announcements = &net.UDPAddr{IP: net.IPv4(224, 0, 0, 251), Port: 5353}

func multicast() Check {
	k := Check{ID: "multicast", Title: "Announcements on the network", State: Fine}
	var hears, deaf []string
	for _, i := range reaching() {
		if i.Flags&net.FlagMulticast == 0 {
			continue
		}
		conn, err := net.ListenMulticastUDP("udp4", &i, announcements)
		if err != nil {
			deaf = append(deaf, fmt.Sprintf("%s (%v)", i.Name, err))
			continue
		}
		conn.Close()
		hears = append(hears, i.Name)
	}
	switch {
	case len(hears) > 0 && len(deaf) == 0:
		k.Found = "Announcements can be heard by " + strings.Join(hears, ", ") + "."
		return k
	case len(deaf) > 0:
		k.Found = "Announcements cannot be heard by " + strings.Join(deaf, ", ") + "."
	default:
		k.Found = "None of this computer's networks carries announcements."
	}
	k.State, k.Breaks = Limited, "Devices without a cable do not appear by themselves."
	k.Remedy = "Use a network that carries multicast, such as a device's hotspot."
	return k
}

// off is from which difference of clocks, in seconds, something stops working.
const off = 600

// clock is whether this computer's clock agrees with those of the devices.
func (c *Checker) clock() Check {
	k := Check{ID: "clock", Title: "Clock"}
	if k, wrong := c.clockOfDepots(); wrong {
		return k
	}
	var agree, apart []string
	for _, d := range c.Rack.All() {
		f, ok := d.Facts().View().Get(fact.DeviceClock, c.Now())
		if !ok {
			continue
		}
		if n := f.Value.Int(); n < off && n > -off {
			agree = append(agree, d.Device().Handle)
		} else {
			apart = append(apart, fmt.Sprintf("%s (%s)", d.Device().Handle, time.Duration(n)*time.Second))
		}
	}
	switch {
	case len(agree)+len(apart) == 0:
		k.State, k.Found = Unknown, "No device has reported its time."
	case len(apart) == 0:
		k.State, k.Found = Fine, fmt.Sprintf("It agrees with %s.", counted(len(agree), "device", "devices"))
	case len(agree) == 0 && len(apart) > 1:
		k.State, k.Found = Wrong, "It agrees with no device: "+strings.Join(apart, ", ")+"."
		k.Breaks, k.Remedy = "Certificates, grants and tokens may seem to have ended, or not to have begun.", "Set this computer's clock."
	default:
		k.State, k.Found = Limited, "Some devices have a different time: "+strings.Join(apart, ", ")+"."
		k.Breaks, k.Remedy = "On them, certificates, grants and tokens may seem to have ended, or not to have begun.", "Set the clock of these devices; if this computer's is wrong, set that."
	}
	return k
}

// clockOfDepots compares this computer's clock with those of depots, which are set by others. It
// is wrong if it agrees with none.
func (c *Checker) clockOfDepots() (Check, bool) {
	k := Check{ID: "clock", Title: "Clock", State: Wrong, Breaks: "Certificates, grants and tokens may seem to have ended, or not to have begun.", Remedy: "Set this computer's clock."}
	for _, d := range c.Depots.All() {
		if !d.Clock.Known() {
			continue
		}
		ahead := -d.Clock.Ahead(c.Now()).Truncate(time.Second)
		if ahead.Abs() < off*time.Second {
			return k, false
		}
		by := "ahead of"
		if ahead < 0 {
			by = "behind"
		}
		k.Found = fmt.Sprintf("It is %s %s that of depot %s.", ahead.Abs(), by, d.Record.Name)
	}
	return k, k.Found != ""
}

// depots is whether the depots answer.
func (c *Checker) depots() Check {
	k := Check{ID: "depots", Title: "Depots", State: Fine}
	all := c.Depots.All()
	var down []string
	for _, d := range all {
		if d.Trouble != nil {
			down = append(down, fmt.Sprintf("%s: %v", d.Record.Name, d.Trouble))
		}
	}
	switch {
	case len(all) == 0:
		k.Found = "The bench has no depot, so it fetches nothing."
	case len(down) == 0:
		k.Found = fmt.Sprintf("%s.", counted(len(all), "depot answers", "depots answer"))
	default:
		k.State, k.Found = Limited, strings.Join(down, "; ")+"."
		k.Breaks, k.Remedy = "Its driver sets and support packs cannot be fetched; those already here are used.", "Check that this computer can reach its address; the bench tries again by itself."
	}
	return k
}

const (
	diskWrong, diskLimited     = 200 << 20, 2 << 30
	memoryWrong, memoryLimited = 100 << 20, 500 << 20
)

// defects is whether an error in the program itself was contained since it was started.
func defects() Check {
	k := Check{ID: "defects", Title: "This program", State: Fine, Found: "The program itself has had no errors since it was started."}
	all, more := defect.All()
	times := more
	for _, d := range all {
		times += d.Count
	}
	if times == 0 {
		return k
	}
	last := all[len(all)-1]
	k.State = Limited
	k.Found = fmt.Sprintf("%s since it was started, the last at %s: %s, in %s.", counted(times, "error in the program itself was contained", "errors in the program itself were contained"),
		last.At.Format("15:04:05"), plain.Cut(plain.Line(last.Text), 200), last.In)
	k.Breaks, k.Remedy = "The work that was affected has failed; everything else continues.", "Report this to the developers of the program, with the log of the service."
	return k
}

// records is whether all that the bench keeps can be read.
func (c *Checker) records(ctx context.Context) Check {
	k := Check{ID: "records", Title: "Records and files", State: Fine, Found: "All records can be read, and all their files exist."}
	wrong := c.Store.Damaged()
	kept, err := c.Store.KeptFiles(ctx)
	if err != nil {
		k.State, k.Found = Unknown, plain.Capital(err.Error())
		return k
	}
	for _, f := range kept {
		if _, err := os.Stat(filepath.Join(c.State, "files", f.Digest)); err != nil {
			wrong = append(wrong, fmt.Sprintf("the file of %s %s is gone", f.Kind, f.Name))
		}
	}
	if len(wrong) == 0 {
		return k
	}
	k.State, k.Found = Wrong, plain.Cut(fmt.Sprintf("%s be read or found: %s.", counted(len(wrong), "thing cannot", "things cannot"), plain.Line(strings.Join(wrong, "; "))), 600)
	k.Breaks = "Their contents are left out; everything else works."
	k.Remedy = "Add the files again. Records can be restored from an earlier backup: earlybench backup restore FILE."
	return k
}

func (c *Checker) disk() Check {
	k := Check{ID: "disk", Title: "Disk space"}
	free, err := store.Free(c.State)
	if err != nil {
		k.State, k.Found = Unknown, plain.Capital(err.Error())+"."
		return k
	}
	k.State, k.Found = amount(free, diskWrong, diskLimited), fmt.Sprintf("%s free for the bench's records and files, in %s.", bytesText(free), c.State)
	if k.State != Fine {
		k.Breaks, k.Remedy = "When the disk is full, app files, driver sets and records cannot be saved.", "Remove what the bench no longer needs: earlybench tidy. Or free space on that disk."
	}
	return k
}

func (c *Checker) memory() Check {
	k := Check{ID: "memory", Title: "Memory"}
	free, err := availableMemory(filepath.Join(root(c.Roots.Proc, "/proc"), "meminfo"))
	if err != nil {
		k.State, k.Found = Unknown, plain.Capital(err.Error())+"."
		return k
	}
	k.State, k.Found = amount(free, memoryWrong, memoryLimited), bytesText(free)+" can be used."
	if k.State != Fine {
		k.Breaks, k.Remedy = "Builds become slow, or the system kills them.", "Close programs that are not needed."
	}
	return k
}

// availableMemory reads MemAvailable (proc(5)), in bytes.
func availableMemory(path string) (int64, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return 0, fmt.Errorf("the system does not say how much there is: %w", err)
	}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) == 3 && f[0] == "MemAvailable:" && f[2] == "kB" {
			n, err := strconv.ParseInt(f[1], 10, 64)
			if err != nil {
				break
			}
			return n << 10, nil
		}
	}
	return 0, fmt.Errorf("the system does not say how much there is: %s has no MemAvailable", path)
}

// searchPath is whether every directory of the search path is there.
func searchPath(dirs []string) Check {
	k := Check{ID: "path", Title: "Search path", State: Fine, Found: counted(len(dirs), "directory is on the search path of the bench.", "directories are on the search path of the bench, and all are there.")}
	var gone []string
	for i, d := range dirs {
		if info, err := os.Stat(d); err != nil || !info.IsDir() {
			gone = append(gone, fmt.Sprintf("entry %d, %s,", i+1, d))
		}
	}
	if len(gone) > 0 {
		k.State, k.Found = Limited, fmt.Sprintf("Of the %d entries of the bench's search path, %s no directory.", len(dirs), strings.Join(gone, " and ")+map[bool]string{true: " is", false: " are"}[len(gone) == 1])
		k.Breaks, k.Remedy = "Programs in them are not found.", "Correct the PATH that the bench is started with, or remove the entry."
	}
	return k
}

// path is whether the programs that build the projects are on the search path.
func (c *Checker) path(ctx context.Context) ([]Check, error) {
	all, err := c.Store.Projects(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the projects: %w", err)
	}
	out := []Check{searchPath(filepath.SplitList(os.Getenv("PATH")))}
	for _, p := range all {
		k := Check{ID: "path " + p.App, Title: "Search path, for " + p.App}
		project, err := appfile.ReadProject(p.Dir)
		if err != nil {
			k.State, k.Found = Wrong, plain.Capital(err.Error())+"."
			k.Breaks, k.Remedy = p.App+" cannot be built.", "Fix that in the app's directory."
			out = append(out, k)
			continue
		}
		if project.Kit.Name != "" { // whose check it is
			continue
		}
		program := project.Build.Command[0]
		at, err := exec.LookPath(program)
		if err != nil {
			k.State, k.Found = Wrong, fmt.Sprintf("%s is not on the search path of the bench.", program)
			k.Breaks, k.Remedy = p.App+" cannot be built.", "Install it, or start the bench with its directory on the PATH."
		} else {
			k.State, k.Found = Fine, fmt.Sprintf("%s is %s.", program, at)
		}
		out = append(out, k)
	}
	return out, nil
}

// kits is whether the kits that apps need are complete and fit.
func (c *Checker) kits() (out []Check) {
	for _, k := range c.Kits() {
		for _, app := range slices.Sorted(maps.Keys(k.Apps)) {
			used := k.Apps[app]
			one := Check{ID: "kit " + app, Title: fmt.Sprintf("Kit %s, for %s", k.Name, app)}
			if p := used.Problem(); p != nil {
				one.State, one.Found, one.Breaks, one.Remedy = Wrong, p.Text, app+" cannot be built.", p.Remedy
			} else {
				one.State, one.Found = Fine, fmt.Sprintf("Version %s is complete, in %s.", used.Choice.Copy.Version, used.Choice.Copy.Path)
			}
			out = append(out, one)
		}
	}
	return out
}

func amount(n, wrong, limited int64) State {
	switch {
	case n < wrong:
		return Wrong
	case n < limited:
		return Limited
	}
	return Fine
}

func root(given, usual string) string {
	if given != "" {
		return given
	}
	return usual
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func bytesText(n int64) string {
	const gigabyte = 1_000_000_000
	if n >= 10*gigabyte {
		return fmt.Sprintf("%d GB", n/gigabyte)
	}
	return fmt.Sprintf("%.1f GB", float64(n)/gigabyte)
}

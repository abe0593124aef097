// Package test drives the whole program as people do: the demo as a process, the
// command line as processes, the console in a browser, other programs as
// witnesses.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// patience is how long something that comes by itself may take, on a slow
// machine.
const patience = 60 * time.Second

// builtProgram names the binary under test where it has been built before, for several processes of tests.
const builtProgram = "EARLYBENCH_TEST_PROGRAM"

// program is the binary under test, built once.
var program = sync.OnceValues(func() (string, error) {
	if bin := os.Getenv(builtProgram); bin != "" {
		return bin, nil
	}
	dir, err := os.MkdirTemp("", "earlybench-test-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "earlybench")
	out, err := exec.Command("go", "build", "-o", bin, "../cmd/earlybench").CombinedOutput()
	if err != nil {
		return "", errors.New(string(out))
	}
	return bin, nil
})

func TestMain(m *testing.M) {
	code := m.Run()
	if bin, err := program(); err == nil && os.Getenv(builtProgram) == "" {
		os.RemoveAll(filepath.Dir(bin))
	}
	os.Exit(code)
}

// demo is a running demo.
type demo struct {
	t     testing.TB
	bin   string
	state string
	cmd   *exec.Cmd
	out   *shared
	at    addresses
	api   *client.Client
	page  string // the console's origin, once it was asked for
}

type addresses struct {
	Service, Socket, Hub, Host, Hands, Standin, Development string
	Depot, Authority                                        string
	HarbourService                                          string `json:"harbour_service"`
	HarbourSocket                                           string `json:"harbour_socket"`
	HarbourStandin                                          string `json:"harbour_standin"`
}

// shared is output that is read while it is written.
type shared struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *shared) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// startDemo starts the demo on free ports with a state of its own, and ends it
// with the test.
func startDemo(t testing.TB, options ...string) *demo {
	t.Helper()
	return startDemoIn(t, t.TempDir(), append(options, "--few")...)
}

func startDemoIn(t testing.TB, state string, options ...string) *demo {
	t.Helper()
	return startWith(t, state, append(options, "--alone")...)
}

// startWith starts the demo, with another bench unless the options say otherwise.
func startWith(t testing.TB, state string, options ...string) *demo {
	t.Helper()
	bin, err := program()
	require.NoError(t, err)
	d := &demo{t: t, bin: bin, state: state, out: &shared{}}
	d.keepCompiled()
	file := filepath.Join(t.TempDir(), "addresses.json")
	d.cmd = exec.Command(bin, append([]string{"demo", "--state", state, "--port", "0", "--addresses", file}, options...)...)
	d.cmd.Dir = ".."
	d.cmd.Stdout, d.cmd.Stderr = d.out, d.out
	require.NoError(t, d.cmd.Start())
	t.Cleanup(d.stop)
	d.eventually("the demo is ready", func() bool {
		raw, err := os.ReadFile(file)
		return err == nil && json.Unmarshal(raw, &d.at) == nil
	})
	d.api = client.New(d.at.Socket)
	t.Cleanup(d.api.Close)
	return d
}

// keepCompiled has the stand-ins of all demos keep compiled apps in one place: compiling one takes seconds.
func (d *demo) keepCompiled() {
	d.t.Helper()
	kept := filepath.Join(filepath.Dir(d.bin), "compiled")
	require.NoError(d.t, os.MkdirAll(kept, 0o700))
	for _, rig := range []string{"standins", "harbour-desk/standins"} {
		bodies := filepath.Join(d.state, rig, "bodies")
		require.NoError(d.t, os.MkdirAll(bodies, 0o700))
		if err := os.Symlink(kept, filepath.Join(bodies, "compiled")); !errors.Is(err, os.ErrExist) {
			require.NoError(d.t, err)
		}
	}
}

// stop ends the demo as Ctrl-C does.
func (d *demo) stop() {
	if d.cmd.ProcessState != nil {
		return
	}
	d.cmd.Process.Signal(os.Interrupt)
	d.cmd.Wait()
}

// eventually waits for something that comes by itself.
func (d *demo) eventually(what string, f func() bool) {
	d.t.Helper()
	require.Eventually(d.t, f, patience, 20*time.Millisecond, "%s\n%s", what, d.out)
}

// result is how a command ended.
type result struct {
	out, err string
	code     int
}

// run runs a command on the demo's bench and waits for it.
func (d *demo) run(args ...string) result {
	d.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	return d.command(ctx, args...).wait()
}

// running is a command that runs.
type running struct {
	cmd      *exec.Cmd
	out, err shared
}

// start starts a command on the demo's bench.
func (d *demo) command(ctx context.Context, args ...string) *running {
	d.t.Helper()
	r := &running{cmd: exec.CommandContext(ctx, d.bin, args...)}
	r.cmd.Dir = ".."
	r.cmd.Env = append(os.Environ(), "EARLYBENCH_STATE="+d.state, "NO_COLOR=1")
	r.cmd.Stdout, r.cmd.Stderr = &r.out, &r.err
	require.NoError(d.t, r.cmd.Start())
	return r
}

func (r *running) wait() result {
	r.cmd.Wait()
	return result{r.out.String(), r.err.String(), r.cmd.ProcessState.ExitCode()}
}

// ok runs a command that must succeed, and returns what it printed.
func (d *demo) ok(args ...string) string {
	d.t.Helper()
	r := d.run(args...)
	require.Zero(d.t, r.code, "%s: %s%s", strings.Join(args, " "), r.out, r.err)
	return r.out
}

// touch touches what says text on a stand-in's screen, once it is there.
func (d *demo) touch(body string, texts ...string) {
	d.t.Helper()
	for _, text := range texts {
		var last result
		d.eventually("touch "+text, func() bool {
			last = d.run("standin", "touch", body, text)
			return last.code == 0
		})
	}
}

// openMode goes the hidden way on a Halden handset, as a person would.
func (d *demo) openMode(body string) {
	d.t.Helper()
	d.touch(body, "Settings", "Care", "Inside label")
	d.ok("standin", "touch", body, "Batch", "--times", "7")
	d.touch(body, "Computers may", "debug and install", "Let them")
}

// device asks for a device of the rack.
func (d *demo) device(handle string) client.Device {
	d.t.Helper()
	devices, err := d.api.Devices(context.Background(), "fellgate/callout")
	require.NoError(d.t, err)
	for _, dev := range devices {
		if dev.Handle == handle {
			return dev
		}
	}
	require.Fail(d.t, "not on the rack", handle)
	return client.Device{}
}

// prepared makes heron-2 ready by commands.
func (d *demo) prepared() {
	d.t.Helper()
	d.openMode("heron-2")
	d.installDriver()
	d.eventually("the driver is bound", func() bool { return d.device("heron-2").Gates["driver"] == "open" })
	job, err := d.api.Ask(context.Background(), "heron-2")
	require.NoError(d.t, err)
	d.touch("heron-2", "Until withdrawn")
	require.Equal(d.t, "done", d.ended(job.ID).State)
	d.eventually("heron-2 is linked", func() bool { return d.device("heron-2").Gates["linked"] == "open" })
}

func (d *demo) installDriver() {
	d.t.Helper()
	d.eventually("the device link is on the bus", func() bool { return d.device("heron-2").Gates["mode"] == "open" })
	sets, err := d.api.Drivers(context.Background())
	require.NoError(d.t, err)
	job, err := d.api.InstallDriver(context.Background(), "heron-2", client.DriverConsent{Accept: sets[0].Digest})
	require.NoError(d.t, err)
	require.Equal(d.t, "done", d.ended(job.ID).State)
}

// permit lets the development key sign an app without asking, as its first consent would.
func (d *demo) permit(app string) {
	d.t.Helper()
	require.NoError(d.t, d.api.PermitSafe(context.Background(), client.SafePermit{Item: "development", App: app, Purpose: "sign an app", For: 3600,
		Proof: client.SafeOpening{KeyFile: filepath.Join(d.state, "demo", "unlock.key")}}))
}

// ended waits for a job to end.
func (d *demo) ended(id string) client.Job {
	d.t.Helper()
	var j client.Job
	d.eventually("the job ends", func() bool {
		var err error
		j, err = d.api.Job(context.Background(), id)
		return err == nil && j.Ended != nil
	})
	return j
}

// children are the processes that a process has started.
func children(pid int) []int {
	var out []int
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		// pid (name) state parent …; a name may hold spaces
		rest := string(stat[bytes.LastIndexByte(stat, ')')+1:])
		var state string
		var parent, child int
		if _, err := fmt.Sscan(rest, &state, &parent); err == nil && parent == pid {
			if _, err := fmt.Sscan(e.Name(), &child); err == nil {
				out = append(out, child)
			}
		}
	}
	return out
}

func alive(pid int) bool {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil || syscall.Kill(pid, 0) != nil {
		return false
	}
	return !bytes.Contains(stat[bytes.LastIndexByte(stat, ')'):], []byte(") Z"))
}

// needs skips a test, by name, where a program is missing.
func needs(t testing.TB, program string) string {
	t.Helper()
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/sbin") {
		if p := filepath.Join(dir, program); executable(p) {
			return p
		}
	}
	t.Skipf("%s is not installed: on Debian, apt-get install %s", program, program)
	return ""
}

func executable(p string) bool {
	i, err := os.Stat(p)
	return err == nil && !i.IsDir() && i.Mode()&0o111 != 0
}

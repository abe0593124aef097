// Command measure measures the bench on this machine and prints the table of
// docs/benchmarks.md: every figure is the median of five, the general tool beside
// it in the same run.
package main

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	runs      = 5
	copyBytes = 256 << 20
)

func main() {
	if len(os.Args) > 1 && os.Args[1] == "sink" {
		sink()
		return
	}
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "measure:", err)
		os.Exit(1)
	}
}

func run() error {
	fmt.Printf("%s, %d cores, %s\n\n", runtime.Version(), runtime.NumCPU(), time.Now().Format(time.DateOnly))
	fmt.Println("| what | goal | median | least | most |")
	fmt.Println("|---|---|---|---|---|")
	all := []func() error{start, startFull, rest, bigRack, biggerRack, copies, sheetsLoaded, readiness, readinessOfMany, oneFact, plugs, bulks, fetches}
	if len(os.Args) > 1 {
		only, ok := map[string]func() error{"rack": bigRack, "bigger": biggerRack, "start": startFull, "many": readinessOfMany, "copy": copies, "why": troubleshooting, "plug": plugs, "bulk": bulks, "fetch": fetches}[os.Args[1]]
		if !ok {
			return fmt.Errorf("there is no measure %q: rack, bigger, start, many, copy, why, plug, bulk, fetch", os.Args[1])
		}
		return only()
	}
	for _, m := range all {
		if err := m(); err != nil {
			return err
		}
	}
	return troubleshooting()
}

func row(what, goal, unit, format string, values []float64) float64 {
	slices.Sort(values)
	median := values[len(values)/2]
	f := func(v float64) string { return fmt.Sprintf(format, v) + " " + unit }
	fmt.Printf("| %s | %s | %s | %s | %s |\n", what, goal, f(median), f(values[0]), f(values[len(values)-1]))
	return median
}

// bench is a running service without stand-ins.
type bench struct {
	cmd *exec.Cmd
	api *client.Client
}

// serve starts a bench on a state directory and waits for its first answer.
func serve(dir string) (*bench, time.Duration, error) {
	began := time.Now()
	cmd := exec.Command("bin/earlybench", "serve", "--state", dir, "--port", "0")
	if err := cmd.Start(); err != nil {
		return nil, 0, err
	}
	b := &bench{cmd, client.New(filepath.Join(dir, "run", "bench.sock"))}
	for {
		if _, err := b.api.Bench(context.Background()); err == nil {
			return b, time.Since(began), nil
		}
		if time.Since(began) > 20*time.Second {
			return nil, 0, errors.New("the service does not answer")
		}
		time.Sleep(time.Millisecond)
	}
}

func (b *bench) stop() {
	b.cmd.Process.Signal(os.Interrupt) //nolint:errcheck // it has ended
	b.cmd.Wait()                       //nolint:errcheck // as above
}

func temp() (string, func(), error) {
	dir, err := os.MkdirTemp("", "measure-")
	return dir, func() { os.RemoveAll(dir) }, err //nolint:errcheck // what stays is in the directory for temporary files
}

func start() error {
	dir, remove, err := temp()
	if err != nil {
		return err
	}
	defer remove()
	var took []float64
	for i := range runs + 1 {
		b, d, err := serve(dir)
		if err != nil {
			return err
		}
		b.stop()
		if i > 0 { // the first makes the records
			took = append(took, float64(d.Milliseconds()))
		}
	}
	row("start of `serve` to its first answer", "500 ms", "ms", "%.0f", took)
	return nil
}

// fullDevices are on record when the start of a full bench is measured, with
// fullFacts known of each.
const (
	fullDevices = 10_000
	fullFacts   = 12
)

func startFull() error {
	dir, remove, err := temp()
	if err != nil {
		return err
	}
	defer remove()
	if err := fill(dir); err != nil {
		return err
	}
	var took, racked, memory []float64
	for i := range runs + 1 {
		b, d, err := serve(dir)
		if err != nil {
			return err
		}
		began := time.Now()
		all, err := b.api.Devices(context.Background(), "")
		if err != nil {
			return err
		}
		whole := d + time.Since(began)
		if len(all) != fullDevices {
			return fmt.Errorf("%d devices are on the rack, %d were put on record", len(all), fullDevices)
		}
		kb, err := resident(b.cmd.Process.Pid)
		b.stop()
		if err != nil {
			return err
		}
		if i > 0 {
			took, racked, memory = append(took, float64(d.Milliseconds())), append(racked, float64(whole.Milliseconds())), append(memory, float64(kb)/1000)
		}
	}
	row("start with 10,000 devices on record to the first answer", "300 ms", "ms", "%.0f", took)
	row("the same to the whole rack, answered", "", "ms", "%.0f", racked)
	row("memory then", "", "MB", "%.0f", memory)
	return nil
}

// fill puts devices and facts on record.
func fill(dir string) error {
	ctx := context.Background()
	st, err := store.Open(ctx, filepath.Join(dir, "bench.db"))
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(64)
	now := time.Now()
	keys := []fact.Key{fact.OSRelease, fact.Language, fact.Met, fact.AirNetwork, fact.Locked, fact.Asleep, fact.AccountState, fact.Standing, fact.RegisterState, fact.DriverOffered, fact.GrantState, fact.AcceptDevelopers}
	for i := range fullDevices {
		g.Go(func() error {
			d := store.Device{ID: store.NewID(), Handle: fmt.Sprintf("heron-%d", i+1), USB: "f3e0:0104", Serial: fmt.Sprint("S", i), Family: "tarn", Maker: "Halden", Code: "H4", Model: "Heron 4", Created: now}
			if err := st.AddDevice(ctx, d); err != nil {
				return err
			}
			var facts []fact.Fact
			for _, k := range keys[:fullFacts] {
				v, source := fact.Of("x"), fact.Device
				switch k {
				case fact.OSRelease:
					v = fact.Of(fact.Release("12"))
				case fact.Met, fact.Locked, fact.Asleep:
					v = fact.Of(true)
				case fact.AirNetwork, fact.DriverOffered:
					source = fact.Host
				case fact.AccountState, fact.Standing, fact.RegisterState:
					source = fact.Authority
				}
				facts = append(facts, fact.Fact{Key: k, Value: v, Source: source, At: now})
			}
			return st.Observe(ctx, store.Observation{Subject: d.ID, Event: "fact.changed", Name: d.Handle, Facts: facts})
		})
	}
	return errors.Join(g.Wait(), st.Close())
}

func rest() error {
	dir, remove, err := temp()
	if err != nil {
		return err
	}
	defer remove()
	var memory []float64
	for range runs {
		b, _, err := serve(dir)
		if err != nil {
			return err
		}
		time.Sleep(2 * time.Second)
		kb, err := resident(b.cmd.Process.Pid)
		b.stop()
		if err != nil {
			return err
		}
		memory = append(memory, float64(kb)/1000)
	}
	row("memory of `serve` at rest (resident)", "60 MB", "MB", "%.1f", memory)
	return nil
}

func resident(pid int) (int, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(raw)) {
		var kb int
		if _, err := fmt.Sscanf(line, "VmRSS: %d kB", &kb); err == nil {
			return kb, nil
		}
	}
	return 0, errors.New("no VmRSS")
}

// copies measures a first install through everything: packed file, SFTP, SSH,
// byte stream, USB/IP, stand-in; beside one SSH channel to another process.
func copies() error {
	dir, remove, err := temp()
	if err != nil {
		return err
	}
	defer remove()
	project, err := largeProject(dir)
	if err != nil {
		return err
	}
	var ours, raw []float64
	for i := range runs {
		o, err := install(filepath.Join(dir, fmt.Sprint("state", i)), project)
		if err != nil {
			return err
		}
		r, err := rawSSH()
		if err != nil {
			return err
		}
		ours, raw = append(ours, o), append(raw, r)
	}
	rate := row("first copy of 256 MB to a handset over its cable", "70 % of the next", "MB/s", "%.0f", ours)
	beside := row("the same bytes over one SSH channel of x/crypto/ssh", "", "MB/s", "%.0f", raw)
	fmt.Printf("| the first as a share of the second | 70 %% | %.0f %% | | |\n", 100*rate/beside)
	return nil
}

func largeProject(dir string) (string, error) {
	p := filepath.Join(dir, "app")
	if err := os.CopyFS(p, os.DirFS("demo/apps/callout")); err != nil {
		return "", err
	}
	data := make([]byte, copyBytes)
	_, _ = rand.Read(data)
	if err := os.WriteFile(filepath.Join(p, "moor.map"), data, 0o600); err != nil {
		return "", err
	}
	file := filepath.Join(p, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	return p, os.WriteFile(file, []byte(strings.Replace(string(raw), "files: [", "files: [moor.map, ", 1)), 0o600)
}

// install runs the large app on the demo's ready handset, and returns the rate
// of the copy, in MB/s; what the device checks afterwards counts too.
func install(state, project string) (float64, error) {
	addresses := filepath.Join(filepath.Dir(state), "addresses.json")
	os.Remove(addresses) //nolint:errcheck // there may be none
	cmd := exec.Command("bin/earlybench", "demo", "--state", state, "--port", "0", "--addresses", addresses)
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer func() { cmd.Process.Signal(os.Interrupt); cmd.Wait() }() //nolint:errcheck // it has ended
	var at struct{ Socket string }
	for range 600 {
		if raw, err := os.ReadFile(addresses); err == nil && json.Unmarshal(raw, &at) == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	api := client.New(at.Socket)
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	p, err := api.AddProject(ctx, project)
	if err != nil {
		return 0, err
	}
	j, err := api.Start(ctx, client.Run{App: p.App, Device: "heron-1"})
	if err != nil {
		return 0, err
	}
	for j.Ended == nil {
		time.Sleep(20 * time.Millisecond)
		if j, err = api.Job(ctx, j.ID); err != nil {
			return 0, err
		}
	}
	if j.State != "done" {
		return 0, fmt.Errorf("the install was %s: %+v", j.State, j.Error)
	}
	var took time.Duration
	var size int64
	for _, ph := range j.Phases {
		if ph.Name == "copy" || ph.Name == "install" {
			took += ph.Ended.Sub(*ph.Began)
			size += ph.Total
		}
	}
	return float64(size) / 1e6 / took.Seconds(), nil
}

// rawSSH sends the same number of bytes over one channel to another process,
// which reads them, and returns the rate in MB/s.
func rawSSH() (float64, error) {
	exe, err := os.Executable()
	if err != nil {
		return 0, err
	}
	cmd := exec.Command(exe, "sink")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return 0, err
	}
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer cmd.Wait() //nolint:errcheck // it ends with the connection
	var address string
	if _, err := fmt.Fscanln(out, &address); err != nil {
		return 0, err
	}
	cfg := &ssh.ClientConfig{User: "x", HostKeyCallback: ssh.InsecureIgnoreHostKey()}
	cfg.Ciphers = []string{"aes128-gcm@openssh.com"}
	c, err := ssh.Dial("tcp", address, cfg)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	ch, reqs, err := c.OpenChannel("sink", nil)
	if err != nil {
		return 0, err
	}
	go ssh.DiscardRequests(reqs)
	buf := make([]byte, 1<<20)
	_, _ = rand.Read(buf)
	began := time.Now()
	for range copyBytes / len(buf) {
		if _, err := ch.Write(buf); err != nil {
			return 0, err
		}
	}
	if err := ch.CloseWrite(); err != nil {
		return 0, err
	}
	if _, err := io.ReadFull(ch, make([]byte, 1)); err != nil {
		return 0, err
	}
	return float64(copyBytes) / 1e6 / time.Since(began).Seconds(), nil
}

// sink is the other process of rawSSH.
func sink() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	fmt.Println(l.Addr())
	c, err := l.Accept()
	if err != nil {
		panic(err)
	}
	_, key, _ := ed25519.GenerateKey(rand.Reader)
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		panic(err)
	}
	cfg := &ssh.ServerConfig{NoClientAuth: true}
	cfg.AddHostKey(signer)
	conn, channels, requests, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		panic(err)
	}
	go ssh.DiscardRequests(requests)
	for n := range channels {
		ch, reqs, err := n.Accept()
		if err != nil {
			panic(err)
		}
		go ssh.DiscardRequests(reqs)
		io.Copy(io.Discard, ch) //nolint:errcheck // its end is what counts
		ch.Write([]byte{1})     //nolint:errcheck // as above
		ch.Close()
	}
	conn.Wait() //nolint:errcheck // as above
}

package main

import (
	"bufio"
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
	"earlybench.invalid/earlybench/internal/fetch"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
	standin "earlybench.invalid/earlybench/standin/depot"
)

const lineRate = 30e6 // bytes a second

// wire is a line between two programs of this computer: so many bytes a second in each
// direction, that all its connections share, and a delay of each.
type wire struct {
	net.Listener
	to    string
	delay time.Duration
	each  [2]share
}

type share struct {
	mu   sync.Mutex
	free time.Time
}

// until is when the line has carried n bytes more.
func (s *share) until(n int) time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := time.Now(); s.free.Before(now) {
		s.free = now
	}
	s.free = s.free.Add(time.Duration(float64(n) / lineRate * 1e9))
	return s.free
}

func newWire(to string, delay time.Duration) (*wire, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	w := &wire{Listener: l, to: to, delay: delay}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			go w.carry(&w.each[0], s, c)
			go w.carry(&w.each[1], c, s)
		}
	}()
	return w, nil
}

// parcel is what is on its way.
type parcel struct {
	data []byte
	at   time.Time // when it arrives
}

// carry carries what comes from one end to the other.
func (w *wire) carry(s *share, to, from net.Conn) {
	const onTheWay = 8 << 20 / (16 << 10) // parcels: more than the line holds
	parcels := make(chan parcel, onTheWay)
	go func() {
		defer to.Close()
		for p := range parcels {
			time.Sleep(time.Until(p.at))
			if _, err := to.Write(p.data); err != nil {
				from.Close()
			}
		}
	}()
	defer close(parcels)
	for {
		buf := make([]byte, 16<<10)
		n, err := from.Read(buf)
		if n > 0 {
			at := s.until(n)
			time.Sleep(time.Until(at.Add(-5 * time.Millisecond))) // a sender is held back by the line
			parcels <- parcel{buf[:n], at.Add(w.delay)}
		}
		if err != nil {
			return
		}
	}
}

// source is a gadget that sends and takes as much as one wants.
type source struct{ usb.Descriptor }

func (source) Control(usb.Setup, []byte) ([]byte, error) { return nil, usb.ErrStall }
func (source) In(_ context.Context, _ uint8, p []byte) (int, error) {
	return len(p), nil
}
func (source) Out(_ context.Context, _ uint8, p []byte) (int, error) { return len(p), nil }

func (s source) List() []usb.Info {
	return []usb.Info{{BusID: "1-1", BusNum: 1, DevNum: 2, Speed: usb.HighSpeed, Config: 1, Configs: 1}}
}

func (s source) Claim(string, net.Addr) (context.Context, usbip.Target, func(), error) {
	return context.Background(), usbip.Emulate(s), func() {}, nil
}

// bulks measures bulk transfers over USB/IP beside plain TCP on the same line.
func bulks() error {
	for _, line := range []struct {
		name, goal string
		delay      time.Duration
		limited    bool
		bytes      int
	}{{"over loopback", "50 %", 0, false, 1 << 30}, {"on a line of 30 MB/s with 5 ms of delay", "85 %", 5 * time.Millisecond, true, 60e6}, {"on a line of 30 MB/s with 20 ms of delay", "85 %", 20 * time.Millisecond, true, 60e6}} {
		var shares, ours, plains []float64
		for range runs {
			mine, err := rateOf(line.limited, line.delay, exporting, func(address string) error { return pull(address, line.bytes) }, line.bytes)
			if err != nil {
				return err
			}
			plain, err := rateOf(line.limited, line.delay, sending(line.bytes), receive, line.bytes)
			if err != nil {
				return err
			}
			shares, ours, plains = append(shares, 100*mine/plain), append(ours, mine), append(plains, plain)
		}
		row("USB/IP bulk, queued 64 KiB URBs, "+line.name, "", "MB/s", "%.0f", ours)
		row("plain TCP, the same line", "", "MB/s", "%.0f", plains)
		row("USB/IP of plain TCP", line.goal, "%", "%.0f", shares)
	}
	return nil
}

// rateOf measures how many MB/s a client gets of a server, over a line if limited.
func rateOf(limited bool, delay time.Duration, serve func(net.Listener), get func(address string) error, bytes int) (float64, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	go serve(l)
	address := l.Addr().String()
	if limited {
		w, err := newWire(address, delay)
		if err != nil {
			return 0, err
		}
		defer w.Close()
		address = w.Addr().String()
	}
	began := time.Now()
	err = get(address)
	return float64(bytes) / 1e6 / time.Since(began).Seconds(), err
}

func exporting(l net.Listener) { usbip.Serve(context.Background(), l, source{}) } //nolint:errcheck // it ends with the listener

// pull imports the device and takes so many bytes from it, 32 transfers at once.
func pull(address string, bytes int) error {
	d, err := usbip.TCP(address).Open(context.Background(), "1-1")
	if err != nil {
		return err
	}
	defer d.Close()
	const size, queued = 64 << 10, 32
	var waiting []usb.Transfer
	var buffers [queued][size]byte
	for asked, got := 0, 0; got < bytes; {
		for len(waiting) < queued && asked < bytes {
			t, err := d.SubmitIn(0x81, buffers[asked/size%queued][:])
			if err != nil {
				return err
			}
			waiting, asked = append(waiting, t), asked+size
		}
		data, _, err := waiting[0].Wait(context.Background())
		if err != nil {
			return err
		}
		waiting, got = waiting[1:], got+len(data)
	}
	return nil
}

func sending(bytes int) func(net.Listener) {
	return func(l net.Listener) {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		buf := make([]byte, 64<<10)
		for n := 0; n < bytes; n += len(buf) {
			if _, err := c.Write(buf); err != nil {
				return
			}
		}
	}
}

func receive(address string) error {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	defer c.Close()
	_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, c, make([]byte, 64<<10))
	return err
}

// fetches measures a fetch of 380 MB beside curl, then sha256sum and sync.
func fetches() error {
	dir, err := os.MkdirTemp("", "measure-fetch")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // a directory of its own
	f, end, err := startDepot(dir)
	if err != nil {
		return err
	}
	defer end()
	for _, limited := range []bool{true, false} {
		base, name := f.base, "without limit"
		other := "curl, then sha256sum and sync"
		if limited {
			w, err := newWire(strings.TrimSuffix(strings.TrimPrefix(f.base, "https://"), "/"), 0)
			if err != nil {
				return err
			}
			defer w.Close()
			base, name, other = "https://"+w.Addr().String()+"/", "on a line of 30 MB/s", "curl"
		}
		var ours, curls, heaps []float64
		for range runs {
			took, heap, err := f.fetch(base, dir)
			if err != nil {
				return err
			}
			ours, heaps = append(ours, took), append(heaps, heap)
			if took, err = f.curl(base, dir, !limited); err != nil {
				return err
			}
			curls = append(curls, took)
		}
		row("fetch of 380 MB "+name+", with its digest, synced", "no slower than "+other, "s", "%.2f", ours)
		row(other+", "+name, "", "s", "%.2f", curls)
		row("memory in use meanwhile, at most", "flat", "MB", "%.0f", heaps)
	}
	return nil
}

// depotFile is the file of a stand-in depot in another process.
type depotFile struct {
	base string
	root *x509.Certificate
	file depot.File
}

func startDepot(dir string) (f depotFile, end func(), err error) {
	sc := standin.Scenario{Dir: filepath.Join(dir, "depot"), Name: "Measured depot", Publisher: "Measure", Address: "127.0.0.1:0", Socket: filepath.Join(dir, "s"),
		Packs: []standin.Pack{{Pack: depot.Pack{Name: "measured", Version: "1", For: depot.For{Family: "ostler", Release: "1"}}, Bytes: 380_000_000}}}
	cmd := exec.Command("bin/earlybench", "standin", "serve-depot")
	in, err := cmd.StdinPipe()
	if err != nil {
		return f, nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return f, nil, err
	}
	if err := cmd.Start(); err != nil {
		return f, nil, err
	}
	end = func() { in.Close(); cmd.Wait() }
	if err := json.NewEncoder(in).Encode(sc); err != nil {
		return f, end, err
	}
	var at standin.Addresses
	if err := json.NewDecoder(bufio.NewReader(out)).Decode(&at); err != nil {
		return f, end, err
	}
	root, err := outside.RootOf(context.Background(), at.Depot)
	if err != nil {
		return f, end, err
	}
	c, err := outside.New(at.Depot, root.Certificate)
	if err != nil {
		return f, end, err
	}
	raw, _, err := c.Read(context.Background(), depot.IndexPath, depot.MaxIndex, 10*time.Second)
	if err != nil {
		return f, end, err
	}
	x, err := depot.Parse(raw)
	if err != nil {
		return f, end, err
	}
	return depotFile{at.Depot, root.Certificate, x.Offers[0].File}, end, nil
}

// fetch fetches the file once and returns the seconds it took and the most memory in MB.
func (f *depotFile) fetch(base, dir string) (seconds, megabytes float64, err error) {
	c, err := outside.New(base, f.root)
	if err != nil {
		return 0, 0, err
	}
	defer c.Close()
	files := store.Files{Dir: filepath.Join(dir, "files")}
	defer os.RemoveAll(files.Dir) //nolint:errcheck // as above
	runtime.GC()
	began := time.Now()
	p, err := files.Begin(f.file.SHA256, f.file.Size)
	if err != nil {
		return 0, 0, err
	}
	var most uint64
	err = fetch.File(context.Background(), c, f.file.Path, p, fetch.Sink{Progress: func(int64) {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		most = max(most, m.HeapInuse+m.StackInuse)
	}, State: func(fetch.State, int64, error) {}})
	return time.Since(began).Seconds(), float64(most) / 1e6, err
}

func (f *depotFile) curl(base, dir string, whole bool) (float64, error) {
	line := fmt.Sprintf("curl -sS -k -o %[1]s %[2]s", filepath.Join(dir, "curled"), base+f.file.Path)
	if whole {
		line += fmt.Sprintf(" && sha256sum %[1]s > /dev/null && sync %[1]s", filepath.Join(dir, "curled"))
	}
	defer os.Remove(filepath.Join(dir, "curled")) //nolint:errcheck // as above
	began := time.Now()
	out, err := exec.Command("sh", "-c", line).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return time.Since(began).Seconds(), err
}

package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/bus/sysfs"
	"earlybench.invalid/earlybench/internal/bus/sysfs/sysfstest"
	"earlybench.invalid/earlybench/internal/bus/uevent/ueventtest"
)

const plugsEach = 100 // in one run

// plugs measures how long reading a full bus takes, and how long it takes from the kernel's
// event that a device was plugged in to the fact that tells of it, on such a bus.
func plugs() error {
	if err := exec.Command("unshare", "-n", "true").Run(); err != nil {
		return fmt.Errorf("measure plugs: this user may not make a network namespace: %w", err)
	}
	var read, p99 []float64
	for range runs {
		ms, delays, err := onePlugRun()
		if err != nil {
			return err
		}
		slices.Sort(delays)
		read, p99 = append(read, ms), append(p99, delays[len(delays)*99/100])
	}
	row("127 devices behind nested hubs, read", "50 ms", "ms", "%.0f", read)
	row(fmt.Sprintf("plug to fact on that bus, p99 of %d", plugsEach), "20 ms", "ms", "%.1f", p99)
	return nil
}

// fullBus makes up a bus with 127 devices, one place of which stays free for a handset.
func fullBus(root string) (*sysfstest.Tree, error) {
	tree, err := sysfstest.New(root)
	if err != nil {
		return nil, err
	}
	if err := tree.Controller(1, 4); err != nil {
		return nil, err
	}
	num := 2
	plug := func(busID string, hub int) error {
		if num > 126 {
			return nil
		}
		d := sysfstest.Device{DevNum: num, Hub: hub, Descriptor: usb.Descriptor{ID: usb.ID{Vendor: 0xf3e9, Product: 1}, Interfaces: []usb.Interface{{Class: usb.Class{Class: 3}}}}}
		if hub > 0 {
			d.Class.Class = 9
		}
		num++
		return tree.Plug(busID, d)
	}
	for h := range 4 {
		if err := plug(fmt.Sprintf("1-%d", h+1), 4); err != nil {
			return nil, err
		}
		for g := range 4 {
			if err := plug(fmt.Sprintf("1-%d.%d", h+1, g+1), 8); err != nil {
				return nil, err
			}
			for p := range 7 {
				if err := plug(fmt.Sprintf("1-%d.%d.%d", h+1, g+1, p+1), 0); err != nil {
					return nil, err
				}
			}
		}
	}
	return tree, nil
}

var handset = usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Revision: 0x1200, Serial: "HH4 0077", Interfaces: []usb.Interface{{Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}}}}

func onePlugRun() (read float64, delays []float64, err error) {
	dir, remove, err := temp()
	if err != nil {
		return 0, nil, err
	}
	defer remove()
	tree, err := fullBus(filepath.Join(dir, "computer"))
	if err != nil {
		return 0, nil, err
	}
	began := time.Now()
	r := sysfs.Reader{Roots: sysfs.Roots{Sys: tree.Sys(), Dev: tree.Dev(), Proc: tree.Proc()}}
	if _, err := r.Read(func(string) bool { return true }); err != nil {
		return 0, nil, err
	}
	read = float64(time.Since(began).Microseconds()) / 1000

	state := filepath.Join(dir, "state")
	cmd := exec.Command("unshare", "-n", "bin/earlybench", "serve", "--state", state, "--port", "0", "--made-up-events",
		"--sys-root", tree.Sys(), "--dev-root", tree.Dev(), "--proc-root", tree.Proc())
	if err := cmd.Start(); err != nil {
		return 0, nil, err
	}
	b := &bench{cmd, client.New(filepath.Join(state, "run", "bench.sock"))}
	defer b.stop()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for {
		if all, err := b.api.Unrecognised(ctx); err == nil && len(all) > 100 {
			break
		}
		select {
		case <-ctx.Done():
			return 0, nil, fmt.Errorf("the bench does not see the bus: %w", ctx.Err())
		case <-time.After(20 * time.Millisecond):
		}
	}
	delays, err = plugAgainAndAgain(ctx, b, tree)
	return read, delays, err
}

// plugAgainAndAgain plugs a handset in and out, and notes how long the fact took.
func plugAgainAndAgain(ctx context.Context, b *bench, tree *sysfstest.Tree) ([]float64, error) {
	now, err := b.api.Bench(ctx)
	if err != nil {
		return nil, err
	}
	facts := make(chan time.Time, 1000)
	go b.api.Events(ctx, now.Sequence, func(e client.Event) { //nolint:errcheck // it ends with ctx
		if e.Type == "fact.changed" && e.Subject == "heron-1" {
			facts <- time.Now()
		}
	})
	send, end, err := within(b.cmd.Process.Pid)
	if err != nil {
		return nil, err
	}
	defer end()
	var out []float64
	for n := range plugsEach + 1 {
		d := sysfstest.Device{DevNum: 127, Descriptor: handset}
		if err := tree.Plug("1-1.1.8", d); err != nil {
			return nil, err
		}
		began := time.Now()
		if err := send("add"); err != nil {
			return nil, err
		}
		select {
		case at := <-facts:
			if n > 0 { // the first time it is put on record
				out = append(out, float64(at.Sub(began).Microseconds())/1000)
			}
		case <-ctx.Done():
			return nil, fmt.Errorf("no fact came: %w", ctx.Err())
		}
		time.Sleep(50 * time.Millisecond)
		if err := tree.Unplug("1-1.1.8"); err != nil {
			return nil, err
		}
		if err := send("remove"); err != nil {
			return nil, err
		}
		time.Sleep(50 * time.Millisecond)
		for len(facts) > 0 {
			<-facts
		}
	}
	return out, nil
}

// within sends plug events in the network namespace of a process.
func within(pid int) (send func(action string) error, end func(), err error) {
	actions, done := make(chan string), make(chan error)
	go func() {
		runtime.LockOSThread() // it is in another namespace, and ends with the goroutine
		ns, err := os.Open(fmt.Sprintf("/proc/%d/ns/net", pid))
		if err == nil {
			defer ns.Close()
			err = unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET)
		}
		done <- err
		for action := range actions {
			done <- ueventtest.Send(action, "/devices/pci0000:00/0000:00:14.0/usb1/1-1/1-1.1/1-1.1.8", "usb", "usb_device")
		}
	}()
	send = func(action string) error {
		actions <- action
		return <-done
	}
	return send, func() { close(actions) }, <-done
}

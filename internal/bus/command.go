package bus

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"time"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/bus/udev"
	"earlybench.invalid/earlybench/internal/store"
)

// Install sends a driver set's file to a host and installs it there; progress is called
// with the number of bytes that the host has.
func (h *Hosts) Install(ctx context.Context, name, digest, path string, progress func(int64)) (hostlink.Driver, error) {
	var d hostlink.Driver
	conn, err := h.connected(name)
	if err != nil {
		return d, err
	}
	if err := send(ctx, conn, digest, path, progress); err != nil {
		return d, fmt.Errorf("carry the driver set to %s: %w", name, err)
	}
	if err := call(ctx, conn, hostlink.MethodDriverInstall, hostlink.Ref{Digest: digest}, &d); err != nil {
		return d, fmt.Errorf("install the driver set on %s: %w", name, err)
	}
	return d, nil
}

// connected is the connection to another host.
func (h *Hosts) connected(name string) (*rpc.Conn, error) {
	w := h.watched(name)
	if w == nil {
		return nil, fmt.Errorf("host %s: %w", name, store.ErrNotFound)
	}
	if w.local != nil {
		return nil, problem.Errorf(problem.Unsupported, "driver sets of files are not installed on this computer itself")
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.conn == nil {
		return nil, fmt.Errorf("host %s cannot be reached: %w", name, w.trouble)
	}
	return w.conn, nil
}

// Rules is the rules file that opens the nodes of devices on a host; nil if it has none that the
// bench keeps.
func (h *Hosts) Rules(name string) *udev.Rules {
	if w := h.watched(name); w != nil {
		return w.rules
	}
	return nil
}

// System is the kind of a host and the release of its system; each is "" if it does not say.
func (h *Hosts) System(name string) (system, release string) {
	w := h.watched(name)
	switch {
	case w == nil:
		return "", ""
	case w.local != nil:
		return runtime.GOOS, ""
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hello.System, w.hello.Release
}

// Get has a host install a driver set that its own update service has.
func (h *Hosts) Get(ctx context.Context, name, digest string) error {
	conn, err := h.connected(name)
	if err == nil {
		err = call(ctx, conn, hostlink.MethodDriverGet, hostlink.Ref{Digest: digest}, nil)
	}
	if err != nil {
		return fmt.Errorf("have %s install the driver set of its own update service: %w", name, err)
	}
	return nil
}

// Bind has a host bind an installed driver set to an interface.
func (h *Hosts) Bind(ctx context.Context, name, busID string, number int, set string) error {
	conn, err := h.connected(name)
	if err == nil {
		err = call(ctx, conn, hostlink.MethodBind, hostlink.Bind{BusID: busID, Interface: number, Driver: set}, nil)
	}
	if err != nil {
		return fmt.Errorf("have %s bind %s: %w", name, set, err)
	}
	return nil
}

// Give has a device of a host pass to another one that is watched, or with to "" to whoever
// imports it first, such as this bench. The host ends the import that there is.
func (h *Hosts) Give(ctx context.Context, name, busID, to string) error {
	from, err := h.connected(name)
	if err != nil {
		return err
	}
	var taker *rpc.Conn
	next := ""
	if to != "" {
		if taker, err = h.connected(to); err != nil {
			return err
		}
		next = h.watched(to).called()
	}
	if err := call(ctx, from, hostlink.MethodRelease, hostlink.Release{BusID: busID, Next: next}, nil); err != nil {
		return fmt.Errorf("have %s release the device: %w", name, err)
	}
	if taker == nil {
		return nil
	}
	if err := call(ctx, taker, hostlink.MethodTake, hostlink.Take{USBIP: h.watched(name).host.USBIP, BusID: busID}, nil); err != nil {
		return fmt.Errorf("have %s take the device: %w", to, err)
	}
	return nil
}

// called is the host's name in its own words.
func (w *watch) called() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hello.Name
}

// MayGive reports whether a host can be asked to release a device.
func (h *Hosts) MayGive(name string) bool {
	w := h.watched(name)
	return w != nil && w.local == nil
}

// Remove removes a driver set from a host.
func (h *Hosts) Remove(ctx context.Context, name, set string) error {
	conn, err := h.connected(name)
	if err == nil {
		err = call(ctx, conn, hostlink.MethodDriverRemove, hostlink.Name{Name: set}, nil)
	}
	if err != nil {
		return fmt.Errorf("remove %s from %s: %w", set, name, err)
	}
	return nil
}

// answerWithin is how long a host may take for one answer.
const answerWithin = 30 * time.Second

// call calls a host, which must answer in time.
func call(ctx context.Context, conn *rpc.Conn, method string, params, result any) error {
	ctx, cancel := context.WithTimeoutCause(ctx, answerWithin, fmt.Errorf("the host did not answer within %s", answerWithin))
	defer cancel()
	return conn.Call(ctx, method, params, result)
}

func send(ctx context.Context, conn *rpc.Conn, digest, path string, progress func(int64)) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	var have hostlink.Have
	if err := call(ctx, conn, hostlink.MethodDriverOffer, hostlink.Offer{Digest: digest, Size: info.Size()}, &have); err != nil {
		return err
	}
	buf := make([]byte, hostlink.PieceBytes)
	for have.Bytes < info.Size() {
		at := have.Bytes
		n, err := f.ReadAt(buf, at)
		if n == 0 {
			return err
		}
		if err := call(ctx, conn, hostlink.MethodDriverPiece, hostlink.Piece{Digest: digest, At: at, Data: buf[:n]}, &have); err != nil {
			return err
		}
		if have.Bytes <= at || have.Bytes > info.Size() {
			return fmt.Errorf("the host has %d bytes of the file after a piece at %d of %d", have.Bytes, at, info.Size())
		}
		progress(have.Bytes)
	}
	return nil
}

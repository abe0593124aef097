// Package machine is a stand-in virtual machine beside a host: it imports devices from the
// host by USB/IP, from an address of its own, and has them until they are taken back.
package machine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

// Config is how a machine is started.
type Config struct {
	Name    string
	Address string // of its host protocol
	Local   net.IP // from which it imports
}

// Machine is a running virtual machine. It is made by Start and ends with Close.
type Machine struct {
	cfg      Config
	ctx      context.Context
	cancel   context.CancelFunc
	listener net.Listener
	work     sync.WaitGroup

	mu    sync.Mutex
	wants map[string]context.CancelFunc // by exporter and bus id
}

// Start starts a machine, which has no device yet. It needs no drivers.
func Start(ctx context.Context, cfg Config) (*Machine, error) {
	l, err := net.Listen("tcp", cfg.Address)
	if err != nil {
		return nil, fmt.Errorf("machine: %w", err)
	}
	m := &Machine{cfg: cfg, listener: l, wants: map[string]context.CancelFunc{}}
	m.ctx, m.cancel = context.WithCancel(ctx)
	m.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			conn := rpc.New(c, m.handle)
			m.work.Go(func() {
				defer conn.Close()
				select {
				case <-conn.Done():
				case <-m.ctx.Done():
				}
			})
		}
	})
	return m, nil
}

// Address is where its host protocol is reached.
func (m *Machine) Address() string { return m.listener.Addr().String() }

// Close ends it and gives back what it has.
func (m *Machine) Close() error {
	m.cancel()
	err := m.listener.Close()
	m.work.Wait()
	return err
}

func (m *Machine) handle(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
	switch method {
	case hostlink.MethodHello:
		return hostlink.Hello{Name: m.cfg.Name, Version: 1, System: "fen", Release: "1"}, nil
	case hostlink.MethodWatch:
		return hostlink.Bus{Devices: []hostlink.Device{}}, nil
	case hostlink.MethodTake:
		p, err := rpc.Decode[hostlink.Take](params)
		if err != nil {
			return nil, err
		}
		return nil, m.Take(ctx, p.USBIP, p.BusID)
	}
	return rpc.NoMethod(ctx, c, method, params)
}

// takeWithin is how long an import may take to succeed.
const takeWithin = 5 * time.Second

// Take imports a device and keeps it, over breaks of its cable too, until it is taken back.
func (m *Machine) Take(ctx context.Context, exporter, busID string) error {
	bus := usbip.TCPFrom(exporter, m.cfg.Local)
	ctx, cancel := context.WithTimeout(ctx, takeWithin)
	defer cancel()
	for {
		d, err := bus.Open(ctx, busID)
		if err == nil {
			m.keep(bus, exporter+" "+busID, busID, d)
			return nil
		}
		if !errors.Is(err, usb.ErrBusy) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Drop gives a device back.
func (m *Machine) Drop(exporter, busID string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if end := m.wants[exporter+" "+busID]; end != nil {
		end()
	}
}

// keep holds a device until the exporter refuses it, or it is dropped.
func (m *Machine) keep(bus *usbip.Remote, key, busID string, d usb.Device) {
	ctx, end := context.WithCancel(m.ctx)
	m.mu.Lock()
	if old := m.wants[key]; old != nil {
		old()
	}
	m.wants[key] = end
	m.mu.Unlock()
	m.work.Go(func() {
		defer end()
		for d != nil {
			select {
			case <-ctx.Done():
				d.Close()
				return
			case <-d.Gone():
				d.Close()
				d = m.again(ctx, bus, busID)
			}
		}
	})
}

// again imports a device once it is back on the bus; nil once it is refused.
func (m *Machine) again(ctx context.Context, bus *usbip.Remote, busID string) usb.Device {
	for {
		d, err := bus.Open(ctx, busID)
		if err == nil || errors.Is(err, usb.ErrBusy) || ctx.Err() != nil {
			return d
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(50 * time.Millisecond):
		}
	}
}

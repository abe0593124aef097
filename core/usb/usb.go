// Package usb holds what the bench needs of USB: ids, descriptors (USB 2.0, section
// 9.6), control and bulk transfers, and the Bus to which devices are connected. Whether
// that is this computer's bus or an exporter's is up to the implementation of Bus.
package usb

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Errors of transfers. They are matched with errors.Is.
var (
	ErrAccess   = errors.New("no driver is bound to the interface (EACCES)")
	ErrGone     = errors.New("the device was unplugged")
	ErrStall    = errors.New("the endpoint stalled")
	ErrBusy     = errors.New("another program holds the device")
	ErrNotFound = errors.New("there is no such device on the bus")
	ErrUnlinked = errors.New("the transfer was withdrawn")
	ErrWire     = errors.New("the transfer failed on the wire, as it does over a worn cable")
)

// ID is vendor and product.
type ID struct{ Vendor, Product uint16 }

// ParseID reads vvvv:pppp, hexadecimal.
func ParseID(s string) (ID, error) {
	v, p, ok := strings.Cut(s, ":")
	vendor, err1 := strconv.ParseUint(v, 16, 16)
	product, err2 := strconv.ParseUint(p, 16, 16)
	if !ok || err1 != nil || err2 != nil || len(v) != 4 || len(p) != 4 {
		return ID{}, fmt.Errorf("%q is not a USB id: write four hexadecimal digits, a colon, four more", s)
	}
	return ID{uint16(vendor), uint16(product)}, nil
}

func (id ID) String() string { return fmt.Sprintf("%04x:%04x", id.Vendor, id.Product) }

// Speed is a bus speed, in USB/IP's numbers.
type Speed uint32

// HeldError is ErrBusy with who has the device. Free is closed once that is over.
type HeldError struct {
	By   string
	Free <-chan struct{}
}

func (e *HeldError) Error() string { return e.By + " has its USB" }

// Is reports that it is ErrBusy.
func (e *HeldError) Is(target error) bool { return target == ErrBusy }

// HighSpeed is 480 Mbit/s.
const HighSpeed Speed = 3

// Class is the class, subclass and protocol of an interface.
type Class struct{ Class, Subclass, Protocol uint8 }

func (c Class) String() string {
	return fmt.Sprintf("%02x/%02x/%02x", c.Class, c.Subclass, c.Protocol)
}

// Info describes a device in a bus's list.
type Info struct {
	Path       string // where it is connected, in the exporter's words
	BusID      string // such as 1-2
	BusNum     uint32
	DevNum     uint32
	Speed      Speed
	ID         ID
	Revision   uint16 // bcdDevice
	Class      Class
	Config     uint8
	Configs    uint8
	Interfaces []Class
}

// Setup is the setup packet of a control transfer (USB 2.0, 9.3).
type Setup struct {
	RequestType, Request uint8
	Value, Index, Length uint16
}

// In reports whether the data comes from the device.
func (s Setup) In() bool { return s.RequestType&0x80 != 0 }

// ResetPort resets the port to which the device is connected. It is the request with which a
// hub is asked to (USB 2.0, 11.24.2.13), sent to the device itself: an exporter of USB/IP
// takes it for its own hub's, and an opened node for the system's.
var ResetPort = Setup{RequestType: 0x23, Request: ReqSetFeature, Value: featurePortReset}

// featurePortReset is PORT_RESET (USB 2.0, table 11-17).
const featurePortReset = 4

// Reset resets the port of a device, which starts over as if it had just been plugged in
// (USB 2.0, 9.1.1.3). It stays where it is on the bus; what was claimed of it has to be
// claimed again.
func Reset(ctx context.Context, d Device) error {
	if _, err := d.Control(ctx, ResetPort, nil); err != nil {
		return fmt.Errorf("reset the port: %w", err)
	}
	return nil
}

// A Transfer has been submitted. Wait returns the bytes received, which are a part of the
// buffer that was given, or the number sent. It may be called once.
type Transfer interface {
	Wait(ctx context.Context) (data []byte, n int, err error)
}

// Device is an opened device. Its methods may be called from any goroutine;
// transfers of one endpoint are carried out in the order of submission. After
// Close, and after the device has gone, every transfer returns ErrGone.
type Device interface {
	// Control carries out a control transfer; for one to the device, data is
	// sent, and len(data) is the setup's length.
	Control(ctx context.Context, s Setup, data []byte) ([]byte, error)
	// SubmitIn asks a bulk IN endpoint (0x81 and so on) for as many bytes as fit into p. The
	// device may write to p until Wait returns; if Wait ended with its context, for ever.
	SubmitIn(endpoint uint8, p []byte) (Transfer, error)
	// SubmitOut sends data to a bulk OUT endpoint, with a packet of no length
	// behind a whole number of packets. It keeps no reference to data.
	SubmitOut(endpoint uint8, data []byte) (Transfer, error)
	// SubmitBare is SubmitOut without that packet.
	SubmitBare(endpoint uint8, data []byte) (Transfer, error)
	// Gone is closed when the device was unplugged or closed.
	Gone() <-chan struct{}
	Close() error
}

// A Bus lists devices and opens them; opening one that somebody else holds is
// ErrBusy. Implementations are checked by usbtest.
type Bus interface {
	List(ctx context.Context) ([]Info, error)
	Open(ctx context.Context, busID string) (Device, error)
}

// Package usbip carries USB over TCP: the USB/IP protocol, version 1.1.1, its
// exporter and its importer. Names and layouts follow the Linux kernel's
// Documentation/usb/usbip_protocol.rst; all fields are big-endian and packed,
// but for the setup packet, which is raw USB.
package usbip

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
)

const (
	version = 0x0111

	opListRequest   = 0x8005
	opListReply     = 0x0005
	opImportRequest = 0x8003
	opImportReply   = 0x0003

	cmdSubmit   = 1
	cmdUnlink   = 2
	retSubmit   = 3
	retUnlink   = 4
	urbHeader   = 48
	deviceBytes = 312

	// maxTransfer bounds one transfer's data, in bytes; a longer one is refused.
	maxTransfer = 1 << 20
	// maxDevices and maxInterfaces limit the length of a list.
	maxDevices    = 1024
	maxInterfaces = 32
)

// Status codes of an operation's reply.
const (
	statusOK       = 0
	statusFailed   = 1
	statusBusy     = 2
	statusError    = 3
	statusNotFound = 4
)

// Linux error numbers, as transfers report them.
const (
	errnoENOENT     = 2
	errnoEACCES     = 13
	errnoENODEV     = 19
	errnoEPIPE      = 32
	errnoETIME      = 62
	errnoEPROTO     = 71
	errnoEOVERFLOW  = 75
	errnoEILSEQ     = 84
	errnoECONNRESET = 104
	errnoESHUTDOWN  = 108
)

// ErrProtocol is returned when the other side does not speak USB/IP.
var ErrProtocol = errors.New("not USB/IP")

type opHeader struct {
	Version, Code uint16
	Status        uint32
}

type wireDevice struct {
	Path                               [256]byte
	BusID                              [32]byte
	BusNum, DevNum, Speed              uint32
	Vendor, Product, Revision          uint16
	Class, Subclass, Protocol          uint8
	Config, Configurations, Interfaces uint8
}

func fixed(b []byte, s string) { copy(b[:len(b)-1], s) }

func fromFixed(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return string(b)
}

func wire(i usb.Info) wireDevice {
	w := wireDevice{BusNum: i.BusNum, DevNum: i.DevNum, Speed: uint32(i.Speed),
		Vendor: i.ID.Vendor, Product: i.ID.Product, Revision: i.Revision,
		Class: i.Class.Class, Subclass: i.Class.Subclass, Protocol: i.Class.Protocol,
		Config: i.Config, Configurations: i.Configs, Interfaces: uint8(len(i.Interfaces))}
	fixed(w.Path[:], i.Path)
	fixed(w.BusID[:], i.BusID)
	return w
}

func (w *wireDevice) info() usb.Info {
	return usb.Info{Path: fromFixed(w.Path[:]), BusID: fromFixed(w.BusID[:]), BusNum: w.BusNum, DevNum: w.DevNum,
		Speed: usb.Speed(w.Speed), ID: usb.ID{Vendor: w.Vendor, Product: w.Product}, Revision: w.Revision,
		Class:  usb.Class{Class: w.Class, Subclass: w.Subclass, Protocol: w.Protocol},
		Config: w.Config, Configs: w.Configurations}
}

func writeOp(w io.Writer, code uint16, status uint32, rest ...any) error {
	var b bytes.Buffer
	binary.Write(&b, binary.BigEndian, opHeader{version, code, status}) //nolint:errcheck // to memory
	for _, r := range rest {
		binary.Write(&b, binary.BigEndian, r) //nolint:errcheck // to memory
	}
	_, err := w.Write(b.Bytes())
	return err
}

func readOp(r io.Reader, code uint16) (status uint32, err error) {
	var h opHeader
	if err := binary.Read(r, binary.BigEndian, &h); err != nil {
		return 0, err
	}
	if h.Version>>8 != version>>8 || h.Code != code {
		return 0, fmt.Errorf("%w: version %#04x, code %#04x where %#04x was awaited", ErrProtocol, h.Version, h.Code, code)
	}
	return h.Status, nil
}

// urb is one header of a transfer, either way. Which fields count depends on
// the command.
type urb struct {
	Command, Seq, DevID, Dir, Endpoint uint32
	// submit: flags, length, start frame, packets, interval; its reply: status,
	// actual length, start frame, packets, errors; unlink: the seq to unlink;
	// its reply: status.
	A, B, C, D, E int32
	Setup         [8]byte
}

const dirIn = 1

func (u *urb) append(b []byte) []byte {
	for _, v := range [...]uint32{u.Command, u.Seq, u.DevID, u.Dir, u.Endpoint,
		uint32(u.A), uint32(u.B), uint32(u.C), uint32(u.D), uint32(u.E)} {
		b = binary.BigEndian.AppendUint32(b, v)
	}
	return append(b, u.Setup[:]...)
}

func (u *urb) read(r io.Reader) error {
	var b [urbHeader]byte
	if _, err := io.ReadFull(r, b[:]); err != nil {
		return err
	}
	be := binary.BigEndian
	for i, into := range [...]*uint32{&u.Command, &u.Seq, &u.DevID, &u.Dir, &u.Endpoint} {
		*into = be.Uint32(b[4*i:])
	}
	for i, into := range [...]*int32{&u.A, &u.B, &u.C, &u.D, &u.E} {
		*into = int32(be.Uint32(b[20+4*i:]))
	}
	copy(u.Setup[:], b[40:])
	return nil
}

func packSetup(s usb.Setup) (b [8]byte) {
	b[0], b[1] = s.RequestType, s.Request
	binary.LittleEndian.PutUint16(b[2:], s.Value)
	binary.LittleEndian.PutUint16(b[4:], s.Index)
	binary.LittleEndian.PutUint16(b[6:], s.Length)
	return b
}

func unpackSetup(b [8]byte) usb.Setup {
	le := binary.LittleEndian
	return usb.Setup{RequestType: b[0], Request: b[1], Value: le.Uint16(b[2:]), Index: le.Uint16(b[4:]), Length: le.Uint16(b[6:])}
}

// errno returns the negative Linux error number of a transfer's error, as on the wire.
func errno(err error) int32 {
	switch {
	case err == nil:
		return 0
	case errors.Is(err, usb.ErrAccess):
		return -errnoEACCES
	case errors.Is(err, usb.ErrUnlinked):
		return -errnoECONNRESET
	case errors.Is(err, usb.ErrGone):
		return -errnoESHUTDOWN
	case errors.Is(err, usb.ErrWire):
		return -errnoEPROTO
	}
	return -errnoEPIPE
}

func fromErrno(n int32) error {
	switch -n {
	case 0:
		return nil
	case errnoEACCES:
		return usb.ErrAccess
	case errnoECONNRESET, errnoENOENT:
		return usb.ErrUnlinked
	case errnoENODEV, errnoESHUTDOWN:
		return usb.ErrGone
	case errnoEPROTO, errnoEILSEQ, errnoETIME, errnoEOVERFLOW: // as the kernel's error-codes.rst tells them
		return usb.ErrWire
	case errnoEPIPE:
		return usb.ErrStall
	}
	return fmt.Errorf("the transfer failed with error number %d", -n)
}

// buffers are reused between transfers: there are thousands of large ones a second.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0, 64<<10+urbHeader); return &b }}

// borrow returns a buffer of n bytes and the function that returns it to the pool.
func borrow(n int) (b []byte, giveBack func()) {
	p := buffers.Get().(*[]byte)
	if cap(*p) < n {
		*p = make([]byte, 0, n)
	}
	return (*p)[:n], func() { buffers.Put(p) }
}

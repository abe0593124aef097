//go:build linux && (amd64 || arm64)

package usbfs

import "unsafe"

// The kernel's interface of linux/usbdevice_fs.h, on machines with 64 bits. A test holds every
// number, size and offset here against the C header.

// Requests of ioctl(2).
const (
	reqSetInterface    = 0x80085504
	reqSubmitURB       = 0x8038550a
	reqDiscardURB      = 0x550b
	reqReapURBNoDelay  = 0x4008550d
	reqDriver          = 0x41045508
	reqInterface       = 0xc0105512
	reqConnect         = 0x5517
	reqTakeInterface   = 0x8108551b
	reqReleaseIface    = 0x80045510
	reqReset           = 0x5514
	reqGetCapabilities = 0x8004551a
)

// Types of transfers, flags, and what the kernel's driver of the controller can do.
const (
	urbControl     = 2
	urbBulk        = 3
	flagZeroPacket = 0x40
	capZeroPacket  = 0x01
	takeExcept     = 0x02
)

// urb is struct usbdevfs_urb without packets of isochronous transfers.
type urb struct {
	Type         uint8
	Endpoint     uint8
	Status       int32
	Flags        uint32
	Buffer       unsafe.Pointer
	BufferLength int32
	ActualLength int32
	StartFrame   int32
	Packets      int32
	ErrorCount   int32
	Signal       uint32
	UserContext  uintptr
}

// setInterface is struct usbdevfs_setinterface.
type setInterface struct{ Interface, Alternate uint32 }

// boundDriver is struct usbdevfs_getdriver.
type boundDriver struct {
	Interface uint32
	Driver    [256]byte
}

// takeInterface is struct usbdevfs_disconnect_claim.
type takeInterface struct {
	Interface uint32
	Flags     uint32
	Driver    [256]byte
}

// interfaceRequest is struct usbdevfs_ioctl: a request for the driver of an interface.
type interfaceRequest struct {
	Interface int32
	Request   int32
	Data      unsafe.Pointer
}

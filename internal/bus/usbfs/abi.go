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
	reqClaimInterface  = 0x8004550f
	reqReleaseIface    = 0x80045510
	reqGetCapabilities = 0x8004551a
)

// Types of transfers, flags, and what the kernel's driver of the controller can do.
const (
	urbControl     = 2
	urbBulk        = 3
	flagZeroPacket = 0x40
	capZeroPacket  = 0x01
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

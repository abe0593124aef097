package usb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf16"
)

// Requests and descriptor types of USB 2.0, tables 9-4 and 9-5.
const (
	ReqGetDescriptor    = 6
	ReqGetConfiguration = 8
	ReqSetConfiguration = 9
	ReqSetFeature       = 3
	ReqSetInterface     = 11

	DescDevice    = 1
	DescConfig    = 2
	DescString    = 3
	DescInterface = 4
	DescEndpoint  = 5
)

// The device link's interface: a vendor class told apart by its name.
const (
	LinkName  = "Early Bench device link 1"
	LinkClass = 0xff
)

// Descriptor is a device with its configuration, as its descriptors state.
type Descriptor struct {
	ID         ID
	Revision   uint16
	Class      Class
	MaxPacket0 uint8
	Maker      string
	Product    string
	Serial     string
	Config     uint8
	MilliAmps  int
	Interfaces []Interface
}

// Interface is one interface of the active configuration.
type Interface struct {
	Number    uint8
	Class     Class
	Name      string
	Endpoints []Endpoint

	nameIndex uint8
}

// Endpoint is one bulk endpoint.
type Endpoint struct {
	Address   uint8 // bit 7 set: from the device
	MaxPacket uint16
}

// Link finds the device link among the interfaces, with its two endpoints.
func (d *Descriptor) Link() (i Interface, in, out uint8, ok bool) {
	for _, i := range d.Interfaces {
		if i.Class.Class != LinkClass || i.Name != LinkName {
			continue
		}
		for _, e := range i.Endpoints {
			if e.Address&0x80 != 0 {
				in = e.Address
			} else {
				out = e.Address
			}
		}
		return i, in, out, in != 0 && out != 0
	}
	return Interface{}, 0, 0, false
}

// Release reads a revision (binary-coded decimal) as a release: 0x1200 is 12,
// 0x0620 is 6.2.
func Release(revision uint16) string {
	major := int(revision>>12)*10 + int(revision>>8&0xf)
	minor, patch := int(revision>>4&0xf), int(revision&0xf)
	switch {
	case patch != 0:
		return fmt.Sprintf("%d.%d.%d", major, minor, patch)
	case minor != 0:
		return fmt.Sprintf("%d.%d", major, minor)
	}
	return fmt.Sprint(major)
}

// Indexes of the strings in what Bytes makes; interfaces follow.
const (
	stringMaker = 1 + iota
	stringProduct
	stringSerial
	stringInterfaces
)

// DeviceBytes makes the device descriptor, 18 bytes.
func (d *Descriptor) DeviceBytes() []byte {
	b := []byte{18, DescDevice, 0x00, 0x02, d.Class.Class, d.Class.Subclass, d.Class.Protocol, 64}
	b = binary.LittleEndian.AppendUint16(b, d.ID.Vendor)
	b = binary.LittleEndian.AppendUint16(b, d.ID.Product)
	b = binary.LittleEndian.AppendUint16(b, d.Revision)
	return append(b, stringMaker, stringProduct, stringSerial, 1)
}

// ConfigBytes makes the configuration descriptor with its interfaces and endpoints.
func (d *Descriptor) ConfigBytes() []byte {
	b := []byte{9, DescConfig, 0, 0, byte(len(d.Interfaces)), 1, 0, 0x80, byte(d.MilliAmps / 2)}
	for n, i := range d.Interfaces {
		b = append(b, 9, DescInterface, i.Number, 0, byte(len(i.Endpoints)),
			i.Class.Class, i.Class.Subclass, i.Class.Protocol, byte(stringInterfaces+n))
		for _, e := range i.Endpoints {
			b = append(b, 7, DescEndpoint, e.Address, 2)
			b = binary.LittleEndian.AppendUint16(b, e.MaxPacket)
			b = append(b, 0)
		}
	}
	binary.LittleEndian.PutUint16(b[2:], uint16(len(b)))
	return b
}

// StringBytes makes string descriptor index; nil if there is none.
func (d *Descriptor) StringBytes(index uint8) []byte {
	if index == 0 {
		return []byte{4, DescString, 0x09, 0x04}
	}
	var s string
	switch {
	case index == stringMaker:
		s = d.Maker
	case index == stringProduct:
		s = d.Product
	case index == stringSerial:
		s = d.Serial
	case int(index)-stringInterfaces < len(d.Interfaces):
		s = d.Interfaces[index-stringInterfaces].Name
	default:
		return nil
	}
	units := utf16.Encode([]rune(s))
	units = units[:min(len(units), 126)]
	b := []byte{byte(2 + 2*len(units)), DescString}
	for _, u := range units {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

var errDescriptor = errors.New("malformed descriptor")

// ParseDevice reads a device descriptor and returns the indexes of its
// strings: maker, product, serial.
func ParseDevice(b []byte) (d Descriptor, names [3]uint8, err error) {
	if len(b) < 18 || b[0] < 18 || b[1] != DescDevice {
		return d, names, fmt.Errorf("%w: device, %d bytes", errDescriptor, len(b))
	}
	le := binary.LittleEndian
	d = Descriptor{ID: ID{le.Uint16(b[8:]), le.Uint16(b[10:])}, Revision: le.Uint16(b[12:]),
		Class: Class{b[4], b[5], b[6]}, MaxPacket0: b[7]}
	return d, [3]uint8{b[14], b[15], b[16]}, nil
}

// ParseConfig reads a configuration descriptor with its interfaces and endpoints into d.
// Only the first setting of each interface is read; a wrong length is an error.
func (d *Descriptor) ParseConfig(b []byte) error {
	if len(b) < 9 || b[1] != DescConfig {
		return fmt.Errorf("%w: configuration, %d bytes", errDescriptor, len(b))
	}
	if total := int(binary.LittleEndian.Uint16(b[2:])); total < len(b) {
		b = b[:max(total, 9)]
	}
	d.Config, d.MilliAmps, d.Interfaces = b[5], int(b[8])*2, nil
	var current *Interface
	for len(b) > 0 {
		n := int(b[0])
		if n < 2 || n > len(b) {
			return fmt.Errorf("%w: a part of %d bytes where %d are left", errDescriptor, n, len(b))
		}
		switch part := b[:n]; {
		case part[1] == DescInterface && n >= 9:
			current = nil
			if part[3] == 0 {
				d.Interfaces = append(d.Interfaces, Interface{Number: part[2],
					Class: Class{part[5], part[6], part[7]}, nameIndex: part[8]})
				current = &d.Interfaces[len(d.Interfaces)-1]
			}
		case part[1] == DescEndpoint && n >= 7 && current != nil && part[3]&3 == 2:
			current.Endpoints = append(current.Endpoints, Endpoint{part[2], binary.LittleEndian.Uint16(part[4:]) & 0x7ff})
		}
		b = b[n:]
	}
	return nil
}

// ParseString reads a string descriptor.
func ParseString(b []byte) (string, error) {
	if len(b) < 2 || b[1] != DescString || int(b[0]) > len(b) || b[0] < 2 {
		return "", fmt.Errorf("%w: string, %d bytes", errDescriptor, len(b))
	}
	var units []uint16
	for i := 2; i+1 < int(b[0]); i += 2 {
		units = append(units, binary.LittleEndian.Uint16(b[i:]))
	}
	return string(utf16.Decode(units)), nil
}

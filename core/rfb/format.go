package rfb

import (
	"encoding/binary"
	"fmt"
)

// pixelFormat is section 7.4.
type pixelFormat struct {
	Bits, Depth, BigEndian, TrueColour uint8
	RedMax, GreenMax, BlueMax          uint16
	RedShift, GreenShift, BlueShift    uint8
	_                                  [3]uint8
}

// native is the pixel format that a server offers: 32 bits, blue in the lowest.
var native = pixelFormat{Bits: 32, Depth: 24, TrueColour: 1, RedMax: 255, GreenMax: 255, BlueMax: 255, RedShift: 16, GreenShift: 8}

func (f *pixelFormat) usable() error {
	switch {
	case f.Bits != 8 && f.Bits != 16 && f.Bits != 32:
		return fmt.Errorf("%w: pixels of %d bits", ErrProtocol, f.Bits)
	case f.TrueColour == 0:
		return fmt.Errorf("%w: colour maps are not supported", ErrProtocol)
	case f.RedShift > 31 || f.GreenShift > 31 || f.BlueShift > 31:
		return fmt.Errorf("%w: a colour shift over 31", ErrProtocol)
	}
	return nil
}

// pixel is the value of a colour: red, green and blue, from 0 to 255 each.
func (f *pixelFormat) pixel(rgb []byte) uint32 {
	return uint32(rgb[0])*uint32(f.RedMax)/255<<f.RedShift | uint32(rgb[1])*uint32(f.GreenMax)/255<<f.GreenShift | uint32(rgb[2])*uint32(f.BlueMax)/255<<f.BlueShift
}

func (f *pixelFormat) order() binary.AppendByteOrder {
	if f.BigEndian != 0 {
		return binary.BigEndian
	}
	return binary.LittleEndian
}

// append appends a pixel.
func (f *pixelFormat) append(b []byte, p uint32) []byte {
	switch f.Bits {
	case 8:
		return append(b, byte(p))
	case 16:
		return f.order().AppendUint16(b, uint16(p))
	}
	return f.order().AppendUint32(b, p)
}

// mask are the bits of a pixel that hold its colour.
func (f *pixelFormat) mask() uint32 {
	return uint32(f.RedMax)<<f.RedShift | uint32(f.GreenMax)<<f.GreenShift | uint32(f.BlueMax)<<f.BlueShift
}

// compact is how many bytes a CPIXEL has (RFC 6143, section 7.7.6): three of the four where the colour is in the lowest or
// the highest three.
func (f *pixelFormat) compact() int {
	if f.Bits == 32 && f.Depth <= 24 && (f.mask()&0xff000000 == 0 || f.mask()&0xff == 0) {
		return 3
	}
	return int(f.Bits) / 8
}

// appendCompact appends a CPIXEL.
func (f *pixelFormat) appendCompact(b []byte, p uint32) []byte {
	if f.Bits != 32 || f.compact() != 3 {
		return f.append(b, p)
	}
	if f.mask()&0xff000000 != 0 {
		p >>= 8
	}
	if f.BigEndian != 0 {
		return append(b, byte(p>>16), byte(p>>8), byte(p))
	}
	return append(b, byte(p), byte(p>>8), byte(p>>16))
}

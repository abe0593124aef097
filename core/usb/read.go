package usb

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
)

const english = 0x0409

// Describe reads an opened device's descriptors by control transfers.
func Describe(ctx context.Context, dev Device) (Descriptor, error) {
	raw, err := descriptor(ctx, dev, DescDevice, 0, 0, 18)
	if err != nil {
		return Descriptor{}, fmt.Errorf("read the device descriptor: %w", err)
	}
	d, names, err := ParseDevice(raw)
	if err != nil {
		return d, err
	}
	if raw, err = descriptor(ctx, dev, DescConfig, 0, 0, 9); err != nil {
		return d, fmt.Errorf("read the configuration descriptor: %w", err)
	}
	if len(raw) >= 4 {
		if raw, err = descriptor(ctx, dev, DescConfig, 0, 0, binary.LittleEndian.Uint16(raw[2:])); err != nil {
			return d, fmt.Errorf("read the configuration descriptor: %w", err)
		}
	}
	if err := d.ParseConfig(raw); err != nil {
		return d, err
	}
	for i, into := range []*string{&d.Maker, &d.Product, &d.Serial} {
		if *into, err = name(ctx, dev, names[i]); err != nil {
			return d, err
		}
	}
	for i := range d.Interfaces {
		if d.Interfaces[i].Name, err = name(ctx, dev, d.Interfaces[i].nameIndex); err != nil {
			return d, err
		}
	}
	return d, nil
}

func descriptor(ctx context.Context, dev Device, kind, index uint8, language, length uint16) ([]byte, error) {
	return dev.Control(ctx, Setup{RequestType: 0x80, Request: ReqGetDescriptor,
		Value: uint16(kind)<<8 | uint16(index), Index: language, Length: length}, nil)
}

func name(ctx context.Context, dev Device, index uint8) (string, error) {
	if index == 0 {
		return "", nil
	}
	raw, err := descriptor(ctx, dev, DescString, index, english, 255)
	if errors.Is(err, ErrStall) { // it promises a string that it does not have
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("read string %d: %w", index, err)
	}
	return ParseString(raw)
}

package usb

import (
	"encoding/binary"
	"fmt"
)

// ParseFile reads a device descriptor followed by its configurations, as Linux shows them
// in the file descriptors of a device in sysfs (Documentation/ABI/stable/sysfs-bus-usb).
// Strings are left out, since that file has none. config is the active configuration's
// value; 0, or one that is not there, takes the first. What was cut off, as it is while a
// device goes, is an error.
func ParseFile(b []byte, config uint8) (Descriptor, error) {
	d, _, err := ParseDevice(b)
	if err != nil {
		return d, err
	}
	if int(b[0]) > len(b) {
		return d, fmt.Errorf("%w: a device of %d bytes where %d are", errDescriptor, b[0], len(b))
	}
	b = b[b[0]:]
	var first []byte
	for len(b) > 0 {
		total, err := configLength(b)
		if err != nil {
			return d, err
		}
		one := b[:total]
		if first == nil {
			first = one
		}
		if config != 0 && one[5] == config {
			return d, d.ParseConfig(one)
		}
		b = b[total:]
	}
	if first == nil { // a device that has told of none
		return d, nil
	}
	return d, d.ParseConfig(first)
}

// configLength is the length of the configuration at the start of b, with all of its parts
// (wTotalLength).
func configLength(b []byte) (int, error) {
	if len(b) < 9 || b[0] < 9 || b[1] != DescConfig {
		return 0, fmt.Errorf("%w: a configuration was expected where %d bytes are left", errDescriptor, len(b))
	}
	total := int(binary.LittleEndian.Uint16(b[2:]))
	if total < 9 || total > len(b) {
		return 0, fmt.Errorf("%w: a configuration of %d bytes where %d are left", errDescriptor, total, len(b))
	}
	return total, nil
}

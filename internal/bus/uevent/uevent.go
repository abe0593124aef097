// Package uevent hears from the Linux kernel when something is plugged in or out, by netlink
// (lib/kobject_uevent.c). It says that something has changed, and what; it reads nothing else.
package uevent

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
)

// Event is one message of the kernel.
type Event struct {
	Action    string // add, remove, bind, unbind, change, move, online, offline
	Path      string // below /sys, such as /devices/pci0000:00/0000:00:14.0/usb1/1-2
	Subsystem string // usb for all that concerns USB devices and interfaces
	Type      string // usb_device, usb_interface
}

// Device is the bus id of the device that it is about, such as 1-2; of an interface (1-2:1.0)
// that of its device.
func (e Event) Device() string {
	name := e.Path[strings.LastIndexByte(e.Path, '/')+1:]
	name, _, _ = strings.Cut(name, ":")
	return name
}

// maxEvent bounds a message, in bytes: the kernel's buffer for its variables has 2 KiB, the
// header is a path.
const maxEvent = 8 << 10

var errEvent = errors.New("malformed kernel event")

// Parse reads a message: "action@path", then variables NAME=value, each of which ends with a
// zero byte. Variables that do not matter here are skipped.
func Parse(b []byte) (Event, error) {
	if len(b) > maxEvent {
		return Event{}, fmt.Errorf("%w: %d bytes", errEvent, len(b))
	}
	head, rest, ended := bytes.Cut(b, []byte{0})
	action, path, ok := strings.Cut(string(head), "@")
	if !ended || !ok || action == "" || !strings.HasPrefix(path, "/") {
		return Event{}, fmt.Errorf("%w: %.40q", errEvent, head)
	}
	e := Event{Action: action, Path: path}
	for len(rest) > 0 {
		var line []byte
		if line, rest, ended = bytes.Cut(rest, []byte{0}); !ended {
			return Event{}, fmt.Errorf("%w: it ends within %.40q", errEvent, line)
		}
		name, value, _ := strings.Cut(string(line), "=")
		switch name {
		case "SUBSYSTEM":
			e.Subsystem = value
		case "DEVTYPE":
			e.Type = value
		}
	}
	return e, nil
}

// Options say which messages are heard.
type Options struct {
	// MadeUp takes messages of other programs too. It is for tests: whoever may send to the
	// group could pretend that a device was plugged in.
	MadeUp bool
	// Subsystem is of which subsystem's devices events are heard; "" is usb.
	Subsystem string
}

package uevent_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/bus/uevent"
)

const plug = "add@/devices/pci0000:00/0000:00:14.0/usb1/1-2\x00ACTION=add\x00DEVPATH=/devices/pci0000:00/0000:00:14.0/usb1/1-2\x00SUBSYSTEM=usb\x00DEVTYPE=usb_device\x00SEQNUM=4711\x00"

func TestAnEventIsRead(t *testing.T) {
	e, err := uevent.Parse([]byte(plug))
	require.NoError(t, err)
	require.Equal(t, uevent.Event{Action: "add", Path: "/devices/pci0000:00/0000:00:14.0/usb1/1-2", Subsystem: "usb", Type: "usb_device"}, e)
	require.Equal(t, "1-2", e.Device())
	e, err = uevent.Parse([]byte("bind@/devices/usb1/1-2/1-2:1.0\x00SUBSYSTEM=usb\x00"))
	require.NoError(t, err)
	require.Equal(t, "1-2", e.Device())
}

// broken are messages that no kernel sends.
var broken = map[string][]byte{"nothing": nil, "no path": []byte("add@\x00"), "no action": []byte("@/devices/x\x00"), "no mark": []byte("libudev\x00\xfe\xed"),
	"a path that is not below": []byte("add@devices\x00"), "no end": []byte("add@/devices/x"), "cut in a variable": []byte("add@/devices/x\x00SUBSYSTEM=us"),
	"too long": []byte("add@/" + strings.Repeat("x", 9000) + "\x00")}

func TestABrokenEventIsRefused(t *testing.T) {
	for name, raw := range broken {
		_, err := uevent.Parse(raw)
		require.ErrorContains(t, err, "malformed kernel event", name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(plug))
	for _, raw := range broken {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		e, err := uevent.Parse(raw)
		if err == nil {
			require.False(t, strings.ContainsRune(e.Device(), '/'))
			require.True(t, bytes.HasPrefix(raw, []byte(e.Action+"@")))
		}
	})
}

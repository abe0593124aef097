package bus

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/strict"
)

func TestWhatAHostSaysIsBounded(t *testing.T) {
	long := strings.Repeat("x", 5000)
	b := hostlink.Bus{Devices: make([]hostlink.Device, 5000), Drivers: make([]hostlink.Driver, 1000)}
	b.Devices[0] = hostlink.Device{Name: long, Serial: long, Interfaces: make([]hostlink.Interface, 100)}
	got, err := bounded(b)
	require.ErrorIs(t, err, errTooMuch)
	require.Len(t, got.Devices, mostDevices)
	require.Len(t, got.Drivers, mostDrivers)
	require.Len(t, got.Devices[0].Interfaces, mostInterfaces)
	require.LessOrEqual(t, len(got.Devices[0].Name), mostText)
	_, err = bounded(hostlink.Bus{Devices: []hostlink.Device{{Name: "Heron 3"}}})
	require.NoError(t, err)
}

func FuzzBus(f *testing.F) {
	f.Add([]byte(`{"devices":[{"bus_id":"1-1","port":"hub port 1","plugging":1,"run":"r","usb":"f3e0:0103","serial":"x","interfaces":[{"number":0,"class":"ff/00/00","name":"n","driver":""}]}]}`))
	f.Add([]byte(`{"hubs":[{"bus_id":"1-0","ports":4}],"devices":[],"drivers":[{"digest":"d","set":{"format":1},"signed":true}]}`))
	f.Add([]byte(`{"devices":null}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var b hostlink.Bus
		if strict.NewerJSON(raw, &b) != nil {
			return
		}
		got, _ := bounded(b)
		if len(got.Devices) > mostDevices || len(got.Hubs) > mostDevices || len(got.Drivers) > mostDrivers {
			t.Fatal("more than is taken")
		}
		if _, err := json.Marshal(got); err != nil {
			t.Fatal(err)
		}
	})
}

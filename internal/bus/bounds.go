package bus

import (
	"errors"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/plain"
)

// What one host may say is connected to it. What goes beyond is left out, or cut; the rest is used.
const (
	mostDevices    = 512 // and hubs
	mostDrivers    = 256
	mostInterfaces = 32
	mostText       = 200 // bytes of a name, serial and so on
)

var errTooMuch = errors.New("it lists more than a host can have: what goes beyond 512 devices, 512 hubs and 256 driver sets is left out")

// bounded is what a host says is connected, as far as it is taken, and an error if something was left out.
func bounded(b hostlink.Bus) (hostlink.Bus, error) {
	var err error
	b.Devices, err = most(b.Devices, mostDevices, err)
	b.Hubs, err = most(b.Hubs, mostDevices, err)
	b.Drivers, err = most(b.Drivers, mostDrivers, err)
	for i := range b.Devices {
		d := &b.Devices[i]
		d.Interfaces, err = most(d.Interfaces, mostInterfaces, err)
		for _, s := range []*string{&d.BusID, &d.Parent, &d.Name, &d.Holder, &d.Denied, &d.Port, &d.Run, &d.USB, &d.Serial} {
			*s = plain.Cut(*s, mostText)
		}
		for k := range d.Interfaces {
			n := &d.Interfaces[k]
			for _, s := range []*string{&n.Class, &n.Name, &n.Driver} {
				*s = plain.Cut(*s, mostText)
			}
		}
	}
	for i := range b.Hubs {
		h := &b.Hubs[i]
		for _, s := range []*string{&h.BusID, &h.Parent, &h.Name, &h.USB, &h.Driver} {
			*s = plain.Cut(*s, mostText)
		}
	}
	return b, err
}

func most[T any](all []T, n int, err error) ([]T, error) {
	if len(all) > n {
		return all[:n:n], errTooMuch
	}
	return all, err
}

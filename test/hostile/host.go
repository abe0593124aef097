package hostile

import (
	"context"
	"encoding/json"
	"fmt"
	"net"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/rpc"
)

// Hosts are hosts that attack the bench that watches them, by what they do.
var Hosts = map[string]hostlink.Bus{
	"names that control a terminal": {
		Hubs: []hostlink.Hub{{BusID: "1-0", Name: Escapes, USB: "1d6b:0002", Driver: Escapes, Ports: 4}},
		Devices: []hostlink.Device{{BusID: Escapes, Name: Escapes, Holder: Escapes, Denied: Escapes, Port: Escapes, Run: Escapes, USB: "f3e0:0103", Serial: Escapes, Joint: hostlink.Joint{Parent: "1-0", PortNumber: 1},
			Interfaces: []hostlink.Interface{{Class: "ff/00/00", Name: Escapes, Driver: Escapes}}}},
		Drivers: []hostlink.Driver{{Digest: Escapes, Set: driver.Manifest{Name: Escapes, Version: Escapes, Maker: Escapes, About: Escapes}}},
	},
	"3,000 devices": {Devices: thousands(3000)},
}

func thousands(n int) (all []hostlink.Device) {
	for i := range n {
		all = append(all, hostlink.Device{BusID: fmt.Sprint("1-", i), Port: "p", Run: "r", USB: "ffff:0001", Serial: fmt.Sprint(i), Interfaces: []hostlink.Interface{}})
	}
	return all
}

// ServeHost answers the host protocol on a listener with what is connected, until it is closed.
func ServeHost(l net.Listener, b hostlink.Bus) (end func()) {
	return rpc.Serve(l, func(_ context.Context, _ *rpc.Conn, method string, _ json.RawMessage) (any, error) {
		switch method {
		case hostlink.MethodHello:
			return hostlink.Hello{Name: Escapes, Version: 1, System: Escapes, Release: Escapes}, nil
		case hostlink.MethodWatch:
			return b, nil
		}
		return nil, rpc.Errorf(rpc.CodeFailed, Escapes)
	})
}

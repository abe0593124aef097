package demo

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing/fstest"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/sets"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// demoBodies are the stand-ins of the demo.
var demoBodies = []struct {
	name, model, serial string
	ready               bool // at first start, to have something that works
}{
	{"heron-1", "H3", "HH3 0042 9A07", true},
	{"heron-2", "H4", "HH4 0077 3C1E", false},
}

// scenario makes the stand-ins' scenario, and the driver set that the bench is
// given.
func scenario(cfg Config, ports [4]int, bench client.Bench) (sc standin.Scenario, offered []byte, err error) {
	installed, err := driverSet("halden-link-3", "3.8", "f3e0:0103")
	if err != nil {
		return sc, nil, err
	}
	if offered, err = driverSet("halden-link", "4.1", "f3e0:0104"); err != nil {
		return sc, nil, err
	}
	at := func(i int) string { return fmt.Sprintf("127.0.0.1:%d", ports[i]) }
	sc = standin.Scenario{Dir: filepath.Join(cfg.State, "standins"), Host: hostName, Answer: cfg.Answer, Sets: [][]byte{installed},
		HubAddress: at(1), HostAddress: at(2), HandsAddress: at(3), Socket: state.Socket(cfg.State, "standin")}
	for _, b := range demoBodies {
		e := standin.Entry{Name: b.name, Body: "halden", Model: b.model, Serial: b.serial}
		if b.ready {
			e.Begin = &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"},
				Admits: map[string]string{bench.Fingerprint: bench.Name}}
		}
		sc.Bodies = append(sc.Bodies, e)
	}
	return sc, offered, nil
}

// driverSet makes a driver set of the demo, the same bytes each time.
func driverSet(name, version, id string) ([]byte, error) {
	var seed [32]byte
	copy(seed[:], name+version)
	content := make([]byte, 1_400_000)
	rand.NewChaCha8(seed).Read(content) //nolint:errcheck // it never fails
	root := fstest.MapFS{"link.drv": {Data: content}, "read-me.txt": {Data: []byte("Driver for the bench link of " + id + ", made up for the demo.\n")}}
	var b bytes.Buffer
	err := sets.Pack(&b, sets.Manifest{Name: name, Version: version, Maker: "Halden", About: "For the bench link of Halden handsets",
		Fits: []sets.Match{{USB: id, Class: "ff/00/00", Interface: usb.LinkName}}}, root, []string{"link.drv", "read-me.txt"})
	return b.Bytes(), err
}

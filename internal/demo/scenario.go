package demo

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing/fstest"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// demoBody is one stand-in of the demo.
type demoBody struct {
	name, maker, model, serial string
	begin                      *body.Beginning
	held                       string // by a virtual machine
	ready                      bool   // at first start, to have something that works
	told                       bool   // no bus shows it, so the bench is told of it
}

// demoBodies are the stand-ins of the demo, each with its first trouble. With --few,
// only the first two are used.
var demoBodies = []demoBody{
	{name: "heron-1", maker: "halden", model: "H3", serial: "HH3 0042 9A07", ready: true,
		begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}}},
	{name: "heron-2", maker: "halden", model: "H4", serial: "HH4 0077 3C1E"},
	{name: "ivory-1", maker: "ivory-reach", model: "OF", serial: "IR 55 1108", begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug", "rests": "100 minutes"}}},
	{name: "ivory-2", maker: "ivory-reach", model: "OM", serial: "IR 51 7730", held: "virtual machine pit",
		begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}}},
	{name: "ivory-3", maker: "ivory-reach", model: "OF", serial: "IR 55 2214",
		begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}, Faults: []string{"stale-link"}}},
	{name: "whimbrel-1", maker: "ostler", model: "WT", serial: "OH W 4410"},
	{name: "whimbrel-2", maker: "ostler", model: "WO", serial: "OH W 3127", begin: &body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}},
	{name: "dunlin-1", maker: "ostler", model: "DH", serial: "OH D 0915", begin: &body.Beginning{Level: 4}},
	{name: "kestle-1", maker: "kestle", model: "K7", serial: "K 2 10031"},
	{name: "kestle-2", maker: "kestle", model: "K7", serial: "K 2 10032"},
	{name: "kestle-3", maker: "kestle", model: "K7", serial: "K 2 10057"},
	{name: "kittiwake-1", maker: "wick", model: "W2", serial: "W 2 0007", told: true},
}

// crewNumber is the account number of Fellgate Rescue at the stand-in authority.
const crewNumber = "4471 0926"

// fewBodies is how many there are with few.
const fewBodies = 2

// unknown is a handset of a family that has no prep sheet yet.
var unknown = demoBody{name: "slate-1", maker: "slate", model: "S1", serial: "GS 1 0440"}

func bodiesOf(cfg Config) []demoBody {
	out := demoBodies
	if cfg.Few {
		out = demoBodies[:fewBodies]
	}
	if cfg.Unknown {
		out = append(slices.Clone(out), unknown)
	}
	return out
}

// scenario returns the stand-ins' scenario and the driver set for the bench.
func scenario(cfg Config, ports [5]int, bench client.Bench) (sc standin.Scenario, offered []byte, err error) {
	at := func(i int) string { return fmt.Sprintf("127.0.0.1:%d", ports[i]) }
	sc = standin.Scenario{Dir: filepath.Join(cfg.State, "standins"), Host: hostName, Answer: cfg.Answer, Boot: cfg.Boot, Crew: crewNumber,
		HubAddress: at(1), HostAddress: at(2), HandsAddress: at(3), Socket: state.Socket(cfg.State, "standin")}
	for _, d := range []struct {
		name, version, maker string
		ids                  []string
	}{
		{"halden-link-3", "3.8", "Halden", []string{"f3e0:0103"}},
		{"ivory-link", "2.2", "Ivory Reach", []string{"f3e0:0201", "f3e0:0202"}},
		{"whimbrel-link", "6.0", "Ostler House", []string{"f3e0:0301", "f3e0:0302"}},
		{"kestle-link", "1.4", "Kestle Works", []string{"f3e0:0401"}},
	} {
		set, err := driverSet(d.name, d.version, d.maker, 200_000, d.ids...)
		if err != nil {
			return sc, nil, err
		}
		if sc.Sets = append(sc.Sets, set); cfg.Few {
			break
		}
	}
	if cfg.Unknown {
		set, err := driverSet("slate-link", "1.0", "Gritstone", 120_000, "f3e1:0102")
		if err != nil {
			return sc, nil, err
		}
		sc.Sets = append(sc.Sets, set)
	}
	if offered, err = driverSet("halden-link", "4.1", "Halden", 1_400_000, "f3e0:0104"); err != nil {
		return sc, nil, err
	}
	for _, b := range bodiesOf(cfg) {
		e := standin.Entry{Name: b.name, Body: b.maker, Model: b.model, Serial: b.serial, Begin: b.begin, Held: b.held}
		if b.ready {
			begin := *b.begin
			begin.Admits = map[string]string{bench.Fingerprint: bench.Name}
			e.Begin = &begin
		}
		sc.Bodies = append(sc.Bodies, e)
	}
	return sc, offered, nil
}

// driverSet builds the demo's driver set; the bytes are the same each time.
func driverSet(name, version, maker string, size int, ids ...string) ([]byte, error) {
	var seed [32]byte
	copy(seed[:], name+version)
	content := make([]byte, size)
	rand.NewChaCha8(seed).Read(content) //nolint:errcheck // it never fails
	root := fstest.MapFS{"link.drv": {Data: content}, "read-me.txt": {Data: []byte("Driver for the device link of " + ids[0] + ", made up for the demo.\n")}}
	m := driver.Manifest{Name: name, Version: version, Maker: maker, About: "For the device link of " + maker + "'s devices"}
	for _, id := range ids {
		m.Fits = append(m.Fits, driver.Match{USB: id, Class: "ff/00/00", Interface: usb.LinkName})
	}
	var b bytes.Buffer
	err := driver.Pack(&b, m, root, []string{"link.drv", "read-me.txt"})
	return b.Bytes(), err
}

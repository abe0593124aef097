package demo

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// demoBody is one stand-in of the demo.
type demoBody struct {
	name, maker, model, serial string
	begin                      *body.Beginning
	held                       bool   // by the virtual machine
	ready                      bool   // at first start, to have something that works
	told                       bool   // no bus shows it, so the bench is told of it
	through                    string // the handset through which it is reached
}

// demoBodies are the stand-ins of the demo, each with its first trouble. With --few,
// only the first two are used.
var demoBodies = []demoBody{
	{name: "heron-1", maker: "halden", model: "H3", serial: "HH3 0042 9A07", ready: true,
		begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}}},
	{name: "heron-2", maker: "halden", model: "H4", serial: "HH4 0077 3C1E"},
	{name: "ivory-1", maker: "ivory-reach", model: "OF", serial: "IR 55 1108", begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug", "rests": "100 minutes"}}},
	{name: "ivory-2", maker: "ivory-reach", model: "OM", serial: "IR 51 7730", held: true,
		begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}}},
	{name: "ivory-3", maker: "ivory-reach", model: "OF", serial: "IR 55 2214",
		begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}, Faults: []string{"stale-link"}}},
	{name: "whimbrel-1", maker: "ostler", model: "WT", serial: "OH W 4410"},
	{name: "whimbrel-2", maker: "ostler", model: "WO", serial: "OH W 3127", begin: &body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}},
	{name: "dunlin-1", maker: "ostler", model: "DH", serial: "OH D 0915", begin: &body.Beginning{Level: 4}},
	{name: "kestle-1", maker: "kestle", model: "K7", serial: "K 2 10031"},
	{name: "kestle-2", maker: "kestle", model: "K7", serial: "K 2 10032"},
	{name: "kestle-3", maker: "kestle", model: "K7", serial: "K 2 10057"},
	{name: "kestle-4", maker: "kestle", model: "K7", serial: "K 2 10058"},
	{name: "kestle-5", maker: "kestle", model: "K7", serial: "K 2 10061"},
	{name: "kestle-6", maker: "kestle", model: "K7", serial: "K 2 10063"},
	{name: "kittiwake-1", maker: "wick", model: "W2", serial: "W 2 0007", told: true},
	{name: "kittiwake-2", maker: "wick", model: "W2", serial: "W 2 0019", told: true, through: "heron-1", begin: &body.Beginning{Settings: map[string]string{"loose": "yes"}}},
}

// crewNumber is the number of the crew of Fellgate Rescue at the stand-in authority.
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
func scenario(cfg Config, ports [10]int, announcements netip.AddrPort, bench client.Bench, made sets, holds map[string]string) (sc standin.Scenario, offered []byte, err error) {
	at := func(i int) string { return fmt.Sprintf("127.0.0.1:%d", ports[i]) }
	sc = standin.Scenario{Dir: filepath.Join(cfg.State, "standins"), Host: hostName, Answer: cfg.Answer, Boot: cfg.Boot, Crew: crewNumber, System: system, Release: systemRelease,
		HubAddress: at(1), HostAddress: at(2), HandsAddress: at(3), MachineAddress: at(5), Socket: state.Socket(cfg.State, "standin"),
		Announcements: announcements}
	onHost := []setOf{heron3Set}
	if !cfg.Few {
		onHost = append(onHost, ivorySet, tabletSet, kestleSet)
		raw, err := made.file(handsetSet)
		if err != nil {
			return sc, nil, err
		}
		sc.Service = [][]byte{raw}
	}
	if cfg.Unknown {
		onHost = append(onHost, slateSet)
	}
	if sc.Sets, err = made.onHost(onHost, map[string][]string{ivorySet.name: {"IR 51 7730", "IR 55 2214"}}); err != nil {
		return sc, nil, err
	}
	if offered, err = made.file(heron4Set); err != nil {
		return sc, nil, err
	}
	bodies := bodiesOf(cfg)
	for _, b := range bodies {
		e := standin.Entry{Name: b.name, Body: b.maker, Model: b.model, Serial: b.serial, Begin: b.begin, Held: b.held}
		if b.ready {
			begin := *b.begin
			begin.Admits = map[string]string{bench.Fingerprint: bench.Name}
			e.Begin = &begin
		}
		if text := holds[b.name]; text != "" {
			begin := body.Beginning{}
			if e.Begin != nil {
				begin = *e.Begin
			}
			begin.Statements = []string{text}
			e.Begin = &begin
		}
		if b.through != "" {
			e.Pair = "127.0.0.1:0"
		}
		for _, other := range bodies {
			if other.through == b.name {
				e.Beside = append(e.Beside, other.name)
			}
		}
		sc.Bodies = append(sc.Bodies, e)
	}
	return sc, offered, nil
}

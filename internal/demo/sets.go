package demo

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing/fstest"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/cms"
	core "earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/depot"
)

// system is that of the demo's host: each driver is kept there, signed, and bound to an
// interface.
const system, systemRelease = "vale", "3.2"

// setOf describes a driver set of the demo.
type setOf struct {
	name, version, maker string
	size                 int
	unsigned             bool
	ids                  []string
	systems              []driver.System
}

var (
	heron3Set  = setOf{name: "halden-link-3", version: "3.8", maker: "Halden", size: 200_000, ids: []string{"f3e0:0103"}}
	heron4Set  = setOf{name: "halden-link", version: "4.1", maker: "Halden", size: 1_400_000, ids: []string{"f3e0:0104"}}
	ivorySet   = setOf{name: "ivory-link", version: "2.2", maker: "Ivory Reach", size: 200_000, unsigned: true, ids: []string{"f3e0:0201-0202"}}
	tabletSet  = setOf{name: "whimbrel-link", version: "6.0", maker: "Ostler House", size: 200_000, ids: []string{"f3e0:0301"}}
	handsetSet = setOf{name: "dunlin-link", version: "6.0", maker: "Ostler House", size: 220_000, ids: []string{"f3e0:0302"}}
	kestleSet  = setOf{name: "kestle-link", version: "1.4", maker: "Kestle Works", size: 200_000, ids: []string{"f3e0:0401"}}
	slateSet   = setOf{name: "slate-link", version: "1.0", maker: "Gritstone", size: 120_000, ids: []string{"f3e1:0102"}}
	// Sets that look right and are not.
	heron5Set    = setOf{name: "halden-link-5", version: "5.0", maker: "Halden", size: 1_500_000, ids: []string{"f3e0:0105-0106"}}
	heron4OldSet = setOf{name: "halden-link-old", version: "4.0", maker: "Halden", size: 900_000, ids: []string{"f3e0:0104"}, systems: []driver.System{{Name: system, Below: "3"}}}
)

// sets makes the demo's driver sets, which are signed with the depot's key and kept in a
// directory, so that they are the same ones at the next start.
type sets struct {
	dir  string
	keys depot.Keys
}

func (s sets) file(d setOf) ([]byte, error) {
	name := filepath.Join(s.dir, d.name+"-"+d.version+".ebset")
	raw, err := os.ReadFile(name)
	if !errors.Is(err, fs.ErrNotExist) {
		return raw, err
	}
	if raw, err = s.pack(d); err != nil {
		return nil, fmt.Errorf("make driver set %s: %w", d.name, err)
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, err
	}
	return raw, os.WriteFile(name, raw, 0o600)
}

func (d setOf) manifest() driver.Manifest {
	m := driver.Manifest{Format: 1, Kind: "driver", Name: d.name, Version: d.version, Maker: d.maker, About: "For the device link of " + d.maker + "'s devices", Systems: d.systems}
	for _, id := range d.ids {
		m.Fits = append(m.Fits, driver.Match{USB: id, Class: "ff/00/00", Interface: usb.LinkName})
	}
	return m
}

func (s sets) pack(d setOf) ([]byte, error) {
	var seed [32]byte
	copy(seed[:], d.name+d.version)
	content := make([]byte, d.size)
	rand.NewChaCha8(seed).Read(content) //nolint:errcheck // it never fails
	root := fstest.MapFS{"link.drv": {Data: content}, "read-me.txt": {Data: []byte("Driver for the device link of " + d.ids[0] + ", made up for the demo.\n")}}
	var sign func([]byte) ([]byte, error)
	if !d.unsigned {
		sign = func(manifest []byte) ([]byte, error) { return cms.Sign(manifest, s.keys.Signer, s.keys.Key) }
	}
	var b bytes.Buffer
	err := driver.Pack(&b, d.manifest(), root, []string{"link.drv", "read-me.txt"}, sign)
	return b.Bytes(), err
}

// onHost are the sets that the host has from the beginning. The unsigned one is bound to some
// devices only, as somebody has chosen it for them.
func (s sets) onHost(all []setOf, bound map[string][]string) (out []standin.Set, err error) {
	for _, d := range all {
		raw, err := s.file(d)
		if err != nil {
			return nil, err
		}
		out = append(out, standin.Set{File: raw, Bound: bound[d.name]})
	}
	return out, nil
}

// inDepot are the sets that the depot offers.
func (s sets) inDepot(all ...setOf) (out []depot.Set, err error) {
	for _, d := range all {
		raw, err := s.file(d)
		if err != nil {
			return nil, err
		}
		m := d.manifest()
		out = append(out, depot.Set{File: raw, Offer: core.Offer{Kind: core.Driver, Name: m.Name, Version: m.Version, Maker: m.Maker, About: m.About, Fits: m.Fits, Systems: m.Systems,
			Unsigned: d.unsigned, File: core.File{SHA256: bundle.Digest(raw)}}})
	}
	return out, nil
}

package demo

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"earlybench.invalid/earlybench/client"
	core "earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin/depot"
)

// slowRate is that of the stand-in depot while it is slow, in bytes a second.
const slowRate = 1_500_000

// licence is that of the demo's support packs.
var licence = depot.Licence{Name: "Ostler House support licence 2", Text: `Ostler House support licence, version 2
Made up for the demo of Early Bench. Nobody is bound by it.

1. What it is for. You may use the files of this support pack to prepare
   devices with Ostler House's software for development, and to develop apps
   for them.
2. What it is not for. You may not put these files on devices of other makers,
   and not pass them on to people who have not accepted this licence.
3. As it is. The files come without any warranty. Whoever relies on them on a
   mountain in bad weather should take a paper map as well.
4. Its end. You may stop using the files at any time. Drop them then:
   earlybench support drop.
`}

// publisher is who signs what the demo's depot offers.
const publisher = "Upland Depot publishing"

// depotScenario is the stand-in depot of the demo; with few it has driver sets only.
func depotScenario(cfg Config, port int, made sets) (sc depot.Scenario, err error) {
	pack := func(release string, bytes int64, digest string) depot.Pack {
		if cfg.Smaller > 1 {
			bytes, digest = bytes/int64(cfg.Smaller), ""
		}
		return depot.Pack{Pack: core.Pack{Name: "ostler-support", Version: release + ".2", Maker: "Ostler House", About: "Files for release " + release,
			For: core.For{Family: "ostler", Release: release}}, Bytes: bytes, Digest: digest, Licence: &licence}
	}
	sc = depot.Scenario{Dir: filepath.Join(cfg.State, "standins", "depot"), Name: "Upland depot", Publisher: publisher,
		Address: fmt.Sprintf("127.0.0.1:%d", port), Socket: state.Socket(cfg.State, "depot"), Mode: depot.Slow, Rate: slowRate}
	if !cfg.Few {
		sc.Packs = []depot.Pack{
			pack("6.2", 380_000_000, "27e7671bcafdce6fe992a9663fa57bfd61fcbffc4369b7dc217ab8023cc1dede"),
			pack("6.1", 120_000_000, "4cb41a7f041ac04ff4a1b2fa3ce89d29114c6990c8d582c10fe346488fb267d1"),
		}
	}
	sc.Sets, err = made.inDepot(heron5Set, heron4OldSet)
	return sc, err
}

// startDepot starts the stand-in depot and adds it to the bench.
func (d *demo) startDepot(ctx context.Context, made sets) (at depot.Addresses, err error) {
	sc, err := depotScenario(d.cfg, d.ports[4], made)
	if err != nil {
		return at, err
	}
	if d.depot, err = spawn(d.cfg.Err, sc, &at, "standin", "serve-depot"); err != nil {
		return at, fmt.Errorf("start the stand-in depot: %w", err)
	}
	return at, d.addDepot(ctx, at.Depot)
}

// addDepot adds the stand-in depot to the bench, as its owner would.
func (d *demo) addDepot(ctx context.Context, address string) error {
	known, err := d.client.Depots(ctx)
	if err != nil {
		return fmt.Errorf("ask for the depots: %w", err)
	}
	found, err := d.client.LookAtDepot(ctx, address)
	if err != nil {
		return fmt.Errorf("look at the depot: %w", err)
	}
	if slices.ContainsFunc(known, func(k client.Depot) bool { return k.URL == found.URL && k.Publisher == found.Publisher }) {
		return nil
	}
	for _, k := range known { // it has another port than last time
		if k.Publisher == found.Publisher {
			if err := d.client.DropDepot(ctx, k.Name); err != nil {
				return err
			}
		}
	}
	if _, err := d.client.AddDepot(ctx, client.NewDepot{URL: address, Accept: found.Accept}); err != nil {
		return fmt.Errorf("add the depot: %w", err)
	}
	return nil
}

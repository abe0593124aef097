package depot

import (
	"bytes"
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/fetch"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	readEvery  = 5 * time.Minute
	retryEvery = 10 * time.Second // while one does not answer
)

// changed wakes Run, and tells of a change.
func (d *Depots) changed() { d.cfg.Changed() }

// Again makes Run ask all depots now.
func (d *Depots) Again() {
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// Run reads the indexes again from time to time, until ctx ends.
func (d *Depots) Run(ctx context.Context) {
	for {
		every := readEvery
		for _, v := range d.All() {
			if d.refresh(ctx, v.Record.Name) != nil {
				every = retryEvery
			}
		}
		short, cancel := context.WithTimeout(ctx, every)
		select {
		case <-short.Done():
		case <-d.wake:
		}
		cancel()
		if ctx.Err() != nil {
			return
		}
	}
}

// refresh reads the index of a depot.
func (d *Depots) refresh(ctx context.Context, name string) error {
	o := d.find(name)
	if o == nil {
		return nil
	}
	x, publisher, raw, header, err := read(ctx, o.client)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	d.keeping.Lock()
	defer d.keeping.Unlock()
	if d.find(name) != o { // it was dropped, or added anew, meanwhile
		return nil
	}
	r := o.record
	if err == nil {
		err = accepts(r, o.index, x, publisher)
	}
	if err == nil && !bytes.Equal(raw, r.Index) {
		r.Index, r.Read = raw, d.cfg.Clock.Now()
		if err := d.cfg.Store.SaveDepot(ctx, r); err != nil {
			d.cfg.Log.Error("keep a depot's index", "depot", name, "error", err)
			return err
		}
	}
	d.mu.Lock()
	before := o.view()
	if err == nil {
		o.record, o.index, o.state = r, x, fetch.Up
	} else if o.state = fetch.Up; problem.KindOf(err) == problem.Unavailable {
		o.state = fetch.Down
	}
	o.trouble = err
	if at, err := http.ParseTime(header.Get("Date")); err == nil {
		o.clock = clock.Read(at)
	}
	after := o.view()
	d.mu.Unlock()
	if before.State != after.State || before.Index != after.Index && !bytes.Equal(before.Record.Index, after.Record.Index) || (before.Trouble == nil) != (after.Trouble == nil) {
		d.tell(ctx, name)
	}
	return err
}

// accepts is an error for an index that is not the accepted publisher's, or older than the one
// before, with which somebody could bring back what has been withdrawn.
func accepts(r store.Depot, before, now *depot.Index, publisher *x509.Certificate) error {
	if key := cms.KeyOf(publisher); key != r.Publisher {
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The index of %s is not signed by the accepted publisher, but by %s, key %s.", r.Name, publisher.Subject.CommonName, key),
			Remedy: "It is not used. If the depot's owner has changed the key, drop the depot and add it again."}
	}
	if before != nil && now.Made.Before(before.Made) {
		return problem.Errorf(problem.Refused, "the index of %s is older than the last one, and is not used", r.Name)
	}
	return nil
}

func (d *Depots) find(name string) *one {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.all[name]
}

func (d *Depots) tell(ctx context.Context, name string) {
	if err := d.cfg.Store.Tell(ctx, "depot.changed", name); err != nil && ctx.Err() == nil {
		d.cfg.Log.Error("tell of a change", "depot", name, "error", err)
	}
	d.changed()
}

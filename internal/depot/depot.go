// Package depot reaches the depots that the owner has accepted: their indexes, licence texts
// and files, and whether each answers.
package depot

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/fetch"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what depots need. All fields are needed.
type Config struct {
	Store *store.Store
	Clock clock.Clock
	Log   *slog.Logger
	// Changed is called when an index or a state has changed. It must not block.
	Changed func()
}

// Depots are the depots on record. They are made by New, filled by Read, and looked at again
// while Run runs.
type Depots struct {
	cfg  Config
	wake chan struct{}

	keeping sync.Mutex // held while a record is changed, before mu

	mu  sync.Mutex
	all map[string]*one
}

type one struct {
	record   store.Depot
	client   *outside.Client
	index    *depot.Index
	state    fetch.State // of the index; "" before it was asked for
	transfer fetch.State // of the transfer that is running; "" for none
	rate     int64       // as it was measured last, bytes a second; 0: never
	trouble  error
	clock    clock.Other // as its last answer showed
}

// View is a depot as it is now.
type View struct {
	Record  store.Depot
	Index   *depot.Index // as it was read last; it is not changed
	State   fetch.State  // "" before it was asked for
	Rate    int64        // bytes a second, as it was measured last; 0: never
	Trouble error
	Clock   clock.Other // as its last answer showed
}

// New makes depots without any.
func New(cfg Config) *Depots {
	return &Depots{cfg: cfg, wake: make(chan struct{}, 1), all: map[string]*one{}}
}

// Read reads the records.
func (d *Depots) Read(ctx context.Context) error {
	records, err := d.cfg.Store.Depots(ctx)
	if err != nil {
		return fmt.Errorf("read the depots: %w", err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, r := range records {
		o, err := made(r)
		if err != nil {
			return fmt.Errorf("depot %s: %w", r.Name, err)
		}
		d.all[r.Name] = o
	}
	return nil
}

func made(r store.Depot) (*one, error) {
	c, err := outside.NewPinned(r.URL, r.Root)
	if err != nil {
		return nil, err
	}
	o := &one{record: r, client: c}
	o.index, err = depot.Parse(r.Index)
	return o, err
}

// All returns the depots, by name.
func (d *Depots) All() []View {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []View
	for _, o := range d.all {
		out = append(out, o.view())
	}
	slices.SortFunc(out, func(a, b View) int { return strings.Compare(a.Record.Name, b.Record.Name) })
	return out
}

func (o *one) view() View {
	v := View{Record: o.record, Index: o.index, State: o.state, Trouble: o.trouble, Rate: o.rate, Clock: o.clock}
	if o.transfer != "" {
		v.State = o.transfer
	}
	return v
}

// Found is a depot as it introduces itself, before anybody has accepted it.
type Found struct {
	URL       string
	Name      string
	Root      outside.Root
	Publisher string // SHA-256 of the key that signs its index
	Signer    string // how the publisher calls itself
	Offers    int
	Accept    string // identifies address, root and publisher: what is accepted

	index []byte
}

const readWithin = 10 * time.Second

// Look asks a depot who it is. Nothing of it is trusted or kept.
func (d *Depots) Look(ctx context.Context, address string) (*Found, error) {
	u, err := outside.Address(address)
	if err != nil {
		return nil, err
	}
	f := &Found{URL: u.String()}
	if f.Root, err = outside.RootOf(ctx, f.URL); err != nil {
		return nil, fmt.Errorf("depot %s: %w", u.Host, err)
	}
	c, err := outside.NewPinned(f.URL, f.Root.Pinned())
	if err != nil {
		return nil, err
	}
	defer c.Close()
	x, publisher, raw, _, err := read(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("depot %s: %w", u.Host, err)
	}
	f.Name, f.Publisher, f.Signer, f.Offers, f.index = outside.Name(x.Name, "depot"), cms.KeyOf(publisher), publisher.Subject.CommonName, len(x.Offers), raw
	sum := sha256.Sum256([]byte(f.URL + "\n" + f.Root.Fingerprint() + "\n" + f.Publisher))
	f.Accept = hex.EncodeToString(sum[:])
	return f, nil
}

// read reads an index and its publisher's certificate, and the answer's header.
func read(ctx context.Context, c *outside.Client) (*depot.Index, *x509.Certificate, []byte, http.Header, error) {
	raw, header, err := c.Read(ctx, depot.IndexPath, depot.MaxIndex, readWithin)
	if err != nil {
		return nil, nil, nil, nil, fmt.Errorf("read its index: %w", err)
	}
	signature, _, err := c.Read(ctx, depot.SignaturePath, cms.MaxBytes, readWithin)
	if err != nil {
		return nil, nil, nil, nil, fmt.Errorf("read the signature of its index: %w", err)
	}
	x, publisher, err := depot.Open(raw, signature)
	if err != nil {
		return nil, nil, nil, nil, problem.Errorf(problem.Refused, "%w", err)
	}
	return x, publisher, raw, header, nil
}

// Add puts a depot on record if accept is what [Depots.Look] finds. name may be "".
func (d *Depots) Add(ctx context.Context, address, name, accept string) (View, error) {
	f, err := d.Look(ctx, address)
	if err != nil {
		return View{}, err
	}
	if accept != f.Accept {
		return View{}, &problem.Problem{Kind: problem.Refused, Text: "The depot that was accepted is not the one that now answers at " + f.URL + ".",
			Remedy: "Look at it again, and accept what you see then."}
	}
	r := store.Depot{Name: f.Name, URL: f.URL, Publisher: f.Publisher, Signer: f.Signer, Index: f.index, Read: d.cfg.Clock.Now()}
	if name != "" {
		r.Name = name
	}
	r.Root = f.Root.Pinned()
	d.keeping.Lock()
	defer d.keeping.Unlock()
	d.mu.Lock()
	for _, o := range d.all {
		if o.record.Name == r.Name && o.record.URL != r.URL || o.record.Name != r.Name && o.record.URL == r.URL {
			d.mu.Unlock()
			return View{}, problem.Errorf(problem.Taken, "depot %s at %s was already added: drop it first, or give this one another name", o.record.Name, o.record.URL)
		}
	}
	d.mu.Unlock()
	o, err := made(r)
	if err != nil {
		return View{}, err
	}
	if err := d.cfg.Store.SaveDepot(ctx, r); err != nil {
		return View{}, fmt.Errorf("keep the depot: %w", err)
	}
	o.state = fetch.Up
	d.mu.Lock()
	d.all[r.Name] = o
	v := o.view()
	d.mu.Unlock()
	d.changed()
	return v, nil
}

// Drop forgets a depot. What was fetched from it is kept.
func (d *Depots) Drop(ctx context.Context, name string) error {
	d.keeping.Lock()
	defer d.keeping.Unlock()
	if err := d.cfg.Store.DropDepot(ctx, name); err != nil {
		return fmt.Errorf("depot %.60s: %w", name, err)
	}
	d.mu.Lock()
	o := d.all[name]
	delete(d.all, name)
	d.mu.Unlock()
	if o != nil {
		o.client.Close()
	}
	d.changed()
	return nil
}

// Licence reads a licence text, whose digest it checks.
func (d *Depots) Licence(ctx context.Context, name string, l *depot.Licence) ([]byte, error) {
	o := d.find(name)
	if o == nil {
		return nil, fmt.Errorf("depot %.60s: %w", name, store.ErrNotFound)
	}
	raw, _, err := o.client.Read(ctx, l.Path, l.Size, readWithin)
	if err != nil {
		return nil, fmt.Errorf("read licence %s of depot %s: %w", l.Name, name, err)
	}
	if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != l.SHA256 {
		return nil, problem.Errorf(problem.Refused, "depot %s has sent a text for licence %s that is not the one in its index", name, l.Name)
	}
	return raw, nil
}

// Fetch fetches a file into p, as [fetch.File] does. How it goes is this depot's state
// meanwhile.
func (d *Depots) Fetch(ctx context.Context, name string, f depot.File, p *store.Partial, sink fetch.Sink) error {
	o := d.find(name)
	if o == nil {
		return errors.Join(fmt.Errorf("depot %.60s: %w", name, store.ErrNotFound), p.Close())
	}
	defer func() {
		d.mu.Lock()
		o.transfer = ""
		d.mu.Unlock()
		d.tell(context.WithoutCancel(ctx), name)
		d.Again()
	}()
	told := sink.State
	sink.State = func(s fetch.State, rate int64, err error) {
		d.mu.Lock()
		was := o.transfer
		if o.transfer = s; rate > 0 {
			o.rate = rate
		}
		d.mu.Unlock()
		if was != s {
			d.tell(ctx, name)
		}
		told(s, rate, err)
	}
	err := fetch.File(ctx, o.client, f.Path, p, sink)
	if errors.Is(err, store.ErrOther) {
		return &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("Depot %s has sent a file that is not the one in its index. Nothing was saved.", name),
			Remedy: "Tell its owner; trying again only helps once the depot is fixed."}
	}
	return err
}

package rack

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/ways"
)

// Claim is what a way knows about the identity of a device. The key has been proven; all
// else is a hint.
type Claim struct {
	Key    string // fingerprint of a proven device key; "" while none is proven
	USB    string // vendor:product; "" where no bus tells
	Serial string // as a bus states it; "" where it states none
	// Address is where the device is reached, as the way names it, such as "loft 1-2". A
	// device without key and serial is taken to be the one that was last seen there.
	Address string
}

// ErrUnrecognised is a device that no prep sheet fits.
var ErrUnrecognised = problem.New(problem.NotFound, "no prep sheet fits the device")

// Resolve returns the keeper of the device that a way has reached, or puts a new device
// on record. Two devices that cannot be told apart stay two: a device is never taken for
// another one that is reached elsewhere at the same time.
func (r *Rack) Resolve(ctx context.Context, c Claim) (*keeper.Keeper, error) {
	r.resolving.Lock()
	defer r.resolving.Unlock()
	if c.Key != "" {
		if k := r.withKey(c.Key); k != nil {
			return k, nil
		}
	}
	if k := r.hinted(c); k != nil {
		return k, r.seenAt(ctx, k, c.Address)
	}
	id, err := usb.ParseID(c.USB)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnrecognised, err)
	}
	s := r.library().Fits(id)
	if s == nil {
		return nil, ErrUnrecognised
	}
	return r.add(ctx, s, store.Device{USB: c.USB, Serial: c.Serial, Key: c.Key, Place: c.Address})
}

func (r *Rack) withKey(key string) *keeper.Keeper {
	for _, k := range r.All() {
		if k.Device().Key == key {
			return k
		}
	}
	return nil
}

// hinted finds the device that the hints of a claim point to.
func (r *Rack) hinted(c Claim) *keeper.Keeper {
	var here, gone []*keeper.Keeper
	for _, k := range r.All() {
		d := k.Device()
		if d.USB != c.USB || d.Serial != c.Serial {
			continue
		}
		if c.Serial != "" {
			return k
		}
		if len(k.Ways()) > 0 {
			continue // it is reached elsewhere, so this is another
		}
		if d.Place == c.Address {
			here = append(here, k)
		}
		gone = append(gone, k)
	}
	switch {
	case len(here) > 0:
		return here[0]
	case len(gone) == 1: // the only one that is missing
		return gone[0]
	}
	return nil
}

func (r *Rack) seenAt(ctx context.Context, k *keeper.Keeper, address string) error {
	if k.Device().Place == address {
		return nil
	}
	return k.Change(ctx, store.DeviceChange{Place: &address})
}

// mostDevices bounds the rack: a host may show another serial each time.
const mostDevices = 2000

// add puts a device on record and gives it a handle of its own.
func (r *Rack) add(ctx context.Context, s *sheet.Series, d store.Device) (*keeper.Keeper, error) {
	if n := len(r.All()); n >= mostDevices {
		return nil, &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("The rack is full: it has %d devices.", n), Remedy: "Forget devices that are gone: earlybench rack drop DEVICE."}
	}
	d.ID = store.NewID()
	d.Family, d.Maker, d.Code, d.Model, d.Created = s.Family, s.Maker, s.Model.Code, s.Model.Name, r.cfg.Clock.Now()
	if d.Handle == "" {
		d.Handle = r.freeHandle(s.Model.Handle)
	}
	// Whoever asks may leave meanwhile: what is on disk is on the rack, too.
	if err := r.cfg.Store.AddDevice(context.WithoutCancel(ctx), d); err != nil {
		return nil, err
	}
	return r.keep(d, s), nil
}

// Add puts a device on record that no way has reached yet, such as a watch without
// a data port, by the code or the name of its model.
func (r *Rack) Add(ctx context.Context, handle, model string) (*keeper.Keeper, error) {
	var found *sheet.Series
	var names []string
	for _, s := range r.library().All() {
		if model != "" && (strings.EqualFold(s.Model.Code, model) || strings.EqualFold(s.Model.Name, model)) {
			found = s
		}
		names = append(names, fmt.Sprintf("%s (%s)", s.Model.Code, s.Model.Name))
	}
	if found == nil {
		return nil, problem.Errorf(problem.Invalid, "model %.60q: no prep sheet has it; there are %s", model, strings.Join(names, ", "))
	}
	if handle != "" {
		if err := checkHandle(handle); err != nil {
			return nil, err
		}
	}
	r.resolving.Lock()
	defer r.resolving.Unlock()
	return r.add(ctx, found, store.Device{Handle: handle})
}

func (r *Rack) freeHandle(stem string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	for n := 1; ; n++ {
		if h := fmt.Sprintf("%s-%d", stem, n); r.byHandle[h] == nil {
			return h
		}
	}
}

// proven finds the device to which a key belongs that was proven over one of k's ways.
func (r *Rack) proven(ctx context.Context, k *keeper.Keeper, w ways.Way, key string) (*keeper.Keeper, error) {
	r.resolving.Lock()
	defer r.resolving.Unlock()
	d := k.Device()
	if d.Key == key {
		return k, nil
	}
	if other := r.withKey(key); other != nil && (d.Key == "" || d.Serial == "") {
		return other, nil
	}
	switch {
	case d.Key == "" && w.Pins():
		return k, k.Change(ctx, store.DeviceChange{Key: &key, First: true})
	case d.Key == "":
		return nil, &problem.Problem{Kind: problem.Person, Text: "This device is new, and its key must not be pinned over this connection.", Remedy: "Connect it by cable once, or introduce it."}
	case d.Serial == "" && w.Pins(): // a hint was all that it was known by: it is another one
		s := k.Series()
		return r.add(ctx, s, store.Device{USB: d.USB, Key: key, Place: d.Place})
	}
	return nil, &device.KeyChanged{Pinned: d.Key, Shown: key}
}

// ended removes a device that was only seen and never linked, once its way continues at
// the device that it turned out to be.
func (r *Rack) ended(k *keeper.Keeper, w ways.Way, moved bool) {
	d := k.Device()
	if !moved || d.Key != "" || len(k.Ways()) > 0 {
		return
	}
	r.resolving.Lock()
	defer r.resolving.Unlock()
	to := r.reachedBy(w.Scope(), k)
	if to == nil {
		return
	}
	if err := r.cfg.Store.MergeDevice(r.ctx, d, to.Device()); err != nil {
		r.cfg.Log.Error("make one record of two", "from", d.Handle, "to", to.Device().Handle, "error", err)
		return
	}
	to.Facts().TakeOver(k.Facts())
	r.forget(k)
}

// Drop deletes a device that is not connected, with all that is known of it.
func (r *Rack) Drop(ctx context.Context, handle string) error {
	r.resolving.Lock()
	defer r.resolving.Unlock()
	k, err := r.Find(handle)
	if err != nil {
		return err
	}
	if len(k.Ways()) > 0 {
		return problem.Errorf(problem.Blocked, "%s is connected, so it would come back at once. Pull its cable or switch its wireless access off first; or retire it: earlybench retire %[1]s", handle)
	}
	release, err := k.Lease(ctx, "Drop "+handle, keeper.Exclusive)
	if err != nil {
		return err
	}
	defer release()
	if err := r.cfg.Store.DropDevice(ctx, k.Device()); err != nil {
		return err
	}
	r.forget(k)
	return nil
}

// forget removes a device that is not on record any more.
func (r *Rack) forget(k *keeper.Keeper) {
	d := k.Device()
	r.cfg.Book.Drop(facts.Subject{Kind: facts.Device, ID: d.ID})
	r.mu.Lock()
	delete(r.keepers, d.ID)
	if r.byHandle[d.Handle] == k {
		delete(r.byHandle, d.Handle)
	}
	r.ordered = nil
	r.mu.Unlock()
	k.Discard()
}

// reachedBy finds the device, other than the given one, that is reached by the way with
// a scope.
func (r *Rack) reachedBy(scope string, but *keeper.Keeper) *keeper.Keeper {
	for _, k := range r.All() {
		if k != but && k.Reaches(scope) {
			return k
		}
	}
	return nil
}

// Unrecognised is something on a bus or network that no sheet fits.
type Unrecognised struct {
	Name       string // by which people speak of it, for as long as it is there
	Host       string
	Port       string
	USB        string
	Interfaces []string
}

// SetUnrecognised records what is at an address and fits no sheet; nil for nothing.
func (r *Rack) SetUnrecognised(ctx context.Context, address string, u *Unrecognised) error {
	r.mu.Lock()
	before, was := r.unrecognised[address]
	if u == nil {
		delete(r.unrecognised, address)
	} else {
		next := *u
		if next.Name = before.Name; next.Name == "" {
			next.Name = r.unknownName()
		}
		r.unrecognised[address] = next
	}
	after, is := r.unrecognised[address]
	r.mu.Unlock()
	if was == is && before.USB == after.USB && slices.Equal(before.Interfaces, after.Interfaces) {
		return nil
	}
	return r.cfg.Store.Tell(ctx, "device.changed", "")
}

// unknownName returns a free name for something without a sheet. The lock is held.
func (r *Rack) unknownName() string {
	taken := map[string]bool{}
	for _, u := range r.unrecognised {
		taken[u.Name] = true
	}
	for n := 1; ; n++ {
		if name := fmt.Sprintf("unknown-%d", n); !taken[name] {
			return name
		}
	}
}

// Unrecognised returns what has no sheet, by name.
func (r *Rack) Unrecognised() []Unrecognised {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []Unrecognised
	for _, u := range r.unrecognised {
		out = append(out, u)
	}
	slices.SortFunc(out, func(a, b Unrecognised) int { return strings.Compare(a.Name, b.Name) })
	return out
}

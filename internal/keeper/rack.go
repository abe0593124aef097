// Package keeper holds the rack: for each device a keeper that owns what is
// known of it, its link, and the lease under which one piece of work at a time
// changes it. Observations come in from hosts and links; readiness comes out.
//
// Work (installing, copying, trying) runs outside, in the use cases.
package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/sets"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what a rack needs.
type Config struct {
	Store  *store.Store
	Clock  clock.Clock
	Sheets *sheet.Library
	Key    ssh.Signer // the bench's link key
	Bench  string     // the bench's name
	Log    *slog.Logger
}

// Rack is all devices that the bench knows. It is made by New and ends with
// Close.
type Rack struct {
	sharing     sync.Mutex
	sharedHosts map[string]bool // that several people use

	cfg Config
	ctx context.Context
	end context.CancelFunc

	mu      sync.Mutex
	keepers map[string]*Keeper // by the device's id
	lib     *sheet.Library
	unseen  *Keeper
	sets    []store.DriverSet
	seen    map[place]string  // what hangs where: the device's id
	strange map[place]Strange // what no sheet fits

	learning sync.Mutex
	cases    []store.Learned
	reckoned map[place]cause.Learned // by family and host
}

// place is where a device hangs.
type place struct{ host, busID string }

// Strange is something on a bus that no sheet fits.
type Strange struct {
	Name       string // by which people speak of it, for as long as it hangs there
	Host       string
	Port       string
	USB        string
	Interfaces []string

	host   store.Host
	device hostlink.Device
}

// New makes the rack of the devices on record.
func New(ctx context.Context, cfg Config) (*Rack, error) {
	r := &Rack{cfg: cfg, lib: cfg.Sheets, keepers: map[string]*Keeper{}, seen: map[place]string{}, strange: map[place]Strange{}}
	r.ctx, r.end = context.WithCancel(context.Background())
	var err error
	if r.sets, err = cfg.Store.DriverSets(ctx); err != nil {
		return nil, fmt.Errorf("read the driver sets: %w", err)
	}
	if err := r.readLearned(ctx); err != nil {
		return nil, err
	}
	if err := r.readDevices(ctx); err != nil {
		return nil, err
	}
	r.unseen, err = r.makeUnseen(ctx)
	return r, err
}

func (r *Rack) library() *sheet.Library {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.lib
}

// shared tells whether several people use a host.
func (r *Rack) shared(host string) bool {
	r.sharing.Lock()
	defer r.sharing.Unlock()
	return r.sharedHosts[host]
}

// SetShared tells the rack whether several people use a host.
func (r *Rack) SetShared(host string, shared bool) {
	r.sharing.Lock()
	defer r.sharing.Unlock()
	if r.sharedHosts == nil {
		r.sharedHosts = map[string]bool{}
	}
	r.sharedHosts[host] = shared
}

// Add puts a device on record that no bus shows, such as a watch without a data
// port, by the code or the name of its model.
func (r *Rack) Add(ctx context.Context, handle, model string) (*Keeper, error) {
	var found *sheet.Series
	var names []string
	for _, s := range r.library().All() {
		if model != "" && (strings.EqualFold(s.Model.Code, model) || strings.EqualFold(s.Model.Name, model)) {
			found = s
		}
		names = append(names, fmt.Sprintf("%s (%s)", s.Model.Code, s.Model.Name))
	}
	if found == nil {
		return nil, fmt.Errorf("model %.60q: %w: no prep sheet knows it; they know %s", model, ErrBad, strings.Join(names, ", "))
	}
	if handle == "" {
		handle = r.freeHandle(found.Model.Handle)
	}
	if !handleShape.MatchString(handle) || handle == unseenID {
		return nil, fmt.Errorf("handle %.60q: %w: write a lower-case letter, then up to 39 letters, digits and hyphens", handle, ErrBad)
	}
	id := store.NewID()
	return r.record(ctx, store.Device{ID: id, Handle: handle, Serial: "told " + id, Family: found.Family,
		Maker: found.Maker, Code: found.Model.Code, Model: found.Model.Name, Created: r.cfg.Clock.Now()})
}

// record puts a device on record and gives it a keeper.
func (r *Rack) record(ctx context.Context, dev store.Device) (*Keeper, error) {
	if err := r.cfg.Store.SaveDevice(ctx, dev); err != nil {
		return nil, err
	}
	k, err := r.keeper(ctx, dev)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.keepers[dev.ID] = k
	return k, nil
}

// readDevices gives every device on record a keeper, and those that have one the
// sheets in force. A device whose sheet has gone keeps the one that it had.
func (r *Rack) readDevices(ctx context.Context) error {
	devices, err := r.cfg.Store.Devices(ctx)
	if err != nil {
		return fmt.Errorf("read the devices: %w", err)
	}
	for _, d := range devices {
		r.mu.Lock()
		k := r.keepers[d.ID]
		r.mu.Unlock()
		if k != nil {
			if s := r.library().Named(d.Family, d.Maker, d.Code); s != nil {
				if err := k.resheet(ctx, s); err != nil {
					return err
				}
			}
			continue
		}
		if k, err = r.keeper(ctx, d); err != nil {
			return err
		}
		if k != nil {
			r.mu.Lock()
			r.keepers[d.ID] = k
			r.mu.Unlock()
		}
	}
	return nil
}

// SetSheets goes over to another library: every device on record, and what no
// sheet fitted before, is looked at anew.
func (r *Rack) SetSheets(ctx context.Context, lib *sheet.Library) error {
	r.mu.Lock()
	r.lib = lib
	strange := maps.Clone(r.strange)
	r.mu.Unlock()
	if err := r.readDevices(ctx); err != nil {
		return err
	}
	unseen, err := r.makeUnseen(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.unseen = unseen
	for p := range strange {
		delete(r.strange, p)
	}
	r.mu.Unlock()
	for _, s := range strange {
		if err := r.attach(ctx, s.host, s.device); err != nil {
			r.cfg.Log.Error("look anew at what no sheet fitted", "error", err)
		}
	}
	return r.cfg.Store.Tell(ctx, "sheet.changed", "")
}

// Close ends all links and waits.
func (r *Rack) Close() {
	r.end()
	r.mu.Lock()
	keepers := slices.Collect(maps.Values(r.keepers))
	r.mu.Unlock()
	var detaching sync.WaitGroup
	for _, k := range keepers {
		detaching.Go(k.Detach)
	}
	detaching.Wait()
}

// All returns the keepers, by handle.
func (r *Rack) All() []*Keeper {
	type named struct {
		handle string
		*Keeper
	}
	r.mu.Lock()
	all := make([]named, 0, len(r.keepers))
	for _, k := range r.keepers {
		all = append(all, named{k.Device().Handle, k})
	}
	r.mu.Unlock()
	slices.SortFunc(all, func(a, b named) int { return strings.Compare(a.handle, b.handle) })
	out := make([]*Keeper, len(all))
	for i, n := range all {
		out[i] = n.Keeper
	}
	return out
}

// called finds the keeper of a handle; nil if there is none.
func (r *Rack) called(handle string) *Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range r.keepers {
		if k.Device().Handle == handle {
			return k
		}
	}
	return nil
}

// Find returns the keeper of a handle. The handle unseen is that of a device that
// does not show up at all.
func (r *Rack) Find(handle string) (*Keeper, error) {
	if handle == unseenID {
		return r.Unseen(), nil
	}
	if k := r.called(handle); k != nil {
		return k, nil
	}
	var names []string
	for _, k := range r.All() {
		names = append(names, k.Device().Handle)
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("device %q: %w; the rack is empty", handle, store.ErrNotFound)
	}
	return nil, fmt.Errorf("device %q: %w; there are %s", handle, store.ErrNotFound, strings.Join(names, ", "))
}

// Strange returns what hangs on a bus and has no sheet.
func (r *Rack) Strange() []Strange {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := slices.Collect(maps.Values(r.strange))
	slices.SortFunc(out, func(a, b Strange) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Bus takes what a host says hangs on it; nothing is said of other hosts. With
// a bus of no devices it is told that the host has gone.
func (r *Rack) Bus(ctx context.Context, h store.Host, bus hostlink.Bus) {
	r.mu.Lock()
	here := map[place]hostlink.Device{}
	for _, d := range bus.Devices {
		here[place{h.Name, d.BusID}] = d
	}
	var gone []*Keeper
	for p, id := range r.seen {
		if _, ok := here[p]; !ok && p.host == h.Name {
			gone = append(gone, r.keepers[id])
			delete(r.seen, p)
		}
	}
	before := maps.Clone(r.strange)
	for p := range r.strange {
		if _, ok := here[p]; !ok && p.host == h.Name {
			delete(r.strange, p)
		}
	}
	r.mu.Unlock()
	for _, k := range gone {
		k.Detach()
	}
	defer r.tellStrange(ctx, before)
	for _, d := range bus.Devices {
		if err := r.attach(ctx, h, d); err != nil {
			r.cfg.Log.Error("a device was plugged in", "host", h.Name, "port", d.Port, "error", err)
		}
	}
}

// tellStrange tells others when what no sheet fits is not what it was.
func (r *Rack) tellStrange(ctx context.Context, before map[place]Strange) {
	r.mu.Lock()
	same := maps.EqualFunc(before, r.strange, func(a, b Strange) bool { return a.USB == b.USB && slices.Equal(a.Interfaces, b.Interfaces) })
	r.mu.Unlock()
	if same {
		return
	}
	if err := r.cfg.Store.Touch(ctx, ""); err != nil {
		r.cfg.Log.Error("tell of a change", "error", err)
	}
}

func (r *Rack) attach(ctx context.Context, h store.Host, d hostlink.Device) error {
	p := place{h.Name, d.BusID}
	k, err := r.identify(ctx, d)
	if err != nil {
		return err
	}
	r.mu.Lock()
	if k == nil {
		name := r.strange[p].Name
		if name == "" {
			name = r.strangeName()
		}
		s := Strange{Name: name, Host: h.Name, Port: d.Port, USB: d.USB, host: h, device: d}
		for _, i := range d.Interfaces {
			s.Interfaces = append(s.Interfaces, printable(i.Class+" "+i.Name))
		}
		r.strange[p] = s
		r.mu.Unlock()
		return nil
	}
	delete(r.strange, p)
	known := r.seen[p] != ""
	r.seen[p] = k.Device().ID
	r.mu.Unlock()
	if !known {
		r.appeared(ctx, h.Name)
	}
	k.Attach(Attachment{Host: h, BusID: d.BusID, Port: d.Port, Plugging: d.Plugging, Run: d.Run, Interfaces: d.Interfaces})
	return nil
}

// identify finds the device by what its descriptor says, which is a hint until
// its key is seen, or puts a new one on record. It returns nil for one that no
// sheet fits.
func (r *Rack) identify(ctx context.Context, d hostlink.Device) (*Keeper, error) {
	for _, k := range r.All() {
		if dev := k.Device(); dev.USB == d.USB && dev.Serial == d.Serial {
			return k, nil
		}
	}
	id, err := usb.ParseID(d.USB)
	if err != nil {
		return nil, err
	}
	s := r.library().Fits(id)
	if s == nil {
		return nil, nil
	}
	dev := store.Device{ID: store.NewID(), Handle: r.freeHandle(s.Model.Handle), USB: d.USB, Serial: d.Serial, Family: s.Family,
		Maker: s.Maker, Code: s.Model.Code, Model: s.Model.Name, Created: r.cfg.Clock.Now()}
	return r.record(ctx, dev)
}

// printable takes what steers terminals out of what a device calls itself, and
// bounds it.
func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return -1
	}, s)
	return s[:min(len(s), 120)]
}

// strangeName is a name that nothing else without a sheet has. The lock is held.
func (r *Rack) strangeName() string {
	for n := 1; ; n++ {
		name := fmt.Sprintf("unknown-%d", n)
		if !slices.ContainsFunc(slices.Collect(maps.Values(r.strange)), func(s Strange) bool { return s.Name == name }) {
			return name
		}
	}
}

func (r *Rack) freeHandle(stem string) string {
	taken := map[string]bool{}
	for _, k := range r.All() {
		taken[k.Device().Handle] = true
	}
	for n := 1; ; n++ {
		if h := fmt.Sprintf("%s-%d", stem, n); !taken[h] {
			return h
		}
	}
}

var handleShape = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// ErrBad is a value that cannot be.
var ErrBad = errors.New("that cannot be")

// Change is what a person may change of a device's record; nil leaves it.
type Change struct {
	Handle   *string
	HandsURL *string
	Key      *string // the fingerprint to pin
}

// Set changes a device's record.
func (r *Rack) Set(ctx context.Context, handle string, c Change) error {
	k, err := r.Find(handle)
	if err != nil {
		return err
	}
	if handle == unseenID || c.Handle != nil && *c.Handle == unseenID {
		return fmt.Errorf("handle %s: %w: it means a device that does not show up at all", unseenID, ErrBad)
	}
	if c.Handle != nil && !handleShape.MatchString(*c.Handle) {
		return fmt.Errorf("handle %.60q: %w: write a lower-case letter, then up to 39 letters, digits and hyphens", *c.Handle, ErrBad)
	}
	return k.set(ctx, c)
}

// SetsChanged reads the driver sets anew and tells every device what fits it.
func (r *Rack) SetsChanged(ctx context.Context) error {
	all, err := r.cfg.Store.DriverSets(ctx)
	if err != nil {
		return fmt.Errorf("read the driver sets: %w", err)
	}
	r.mu.Lock()
	r.sets = all
	r.mu.Unlock()
	for _, k := range r.All() {
		k.offer()
	}
	return nil
}

// fitting finds the newest driver set for the bench link of a device.
func (r *Rack) fitting(usbID string) *store.DriverSet {
	r.mu.Lock()
	defer r.mu.Unlock()
	id, err := usb.ParseID(usbID)
	if err != nil {
		return nil
	}
	class := usb.Class{Class: usb.LinkClass}
	var best *store.DriverSet
	for i := range r.sets {
		m := &r.sets[i].Manifest
		if m.FitsInterface(id, class, usb.LinkName) && (best == nil || newer(m, &best.Manifest)) {
			best = &r.sets[i]
		}
	}
	return best
}

func newer(a, b *sets.Manifest) bool { return a.Version > b.Version }

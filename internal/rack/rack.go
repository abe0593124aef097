// Package rack holds the devices on record: who is who, and one keeper for each.
// Ways ask [Rack.Resolve] whose device they have reached; once a device has proven
// its key, the key alone decides.
package rack

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what a rack needs. All fields are needed.
type Config struct {
	Store  *store.Store
	Book   *facts.Book
	Clock  clock.Clock
	Sheets *sheet.Library
	Log    *slog.Logger
}

// Rack holds all devices that the bench knows. It is made by New, filled by Read, and
// ends with Close.
type Rack struct {
	cfg Config
	ctx context.Context
	end context.CancelFunc

	resolving sync.Mutex // held while it is found out who a device is; before mu

	mu           sync.Mutex // guards all below
	keepers      map[string]*keeper.Keeper
	byHandle     map[string]*keeper.Keeper
	ordered      []*keeper.Keeper // by handle; nil where it is to be made again
	lib          *sheet.Library
	unseen       *keeper.Keeper
	unrecognised map[string]Unrecognised // by place
	changed      []func(*keeper.Keeper)
	shared       map[string]bool // hosts that several people use
}

// New makes an empty rack.
func New(cfg Config) (*Rack, error) {
	r := &Rack{cfg: cfg, lib: cfg.Sheets, keepers: map[string]*keeper.Keeper{}, byHandle: map[string]*keeper.Keeper{},
		unrecognised: map[string]Unrecognised{}, shared: map[string]bool{}}
	r.ctx, r.end = context.WithCancel(context.Background())
	var err error
	r.unseen, err = r.makeUnseen()
	return r, err
}

// OnChange makes the rack call f with every device of which something other than a fact
// has changed. It must be called before Read, and f must not block.
func (r *Rack) OnChange(f func(*keeper.Keeper)) { r.changed = append(r.changed, f) }

// Read gives every device on record a keeper.
func (r *Rack) Read(ctx context.Context) error {
	devices, err := r.cfg.Store.Devices(ctx)
	if err != nil {
		return fmt.Errorf("read the devices: %w", err)
	}
	lib := r.library()
	for _, d := range devices {
		s := lib.Named(d.Family, d.Maker, d.Code)
		if s == nil {
			r.cfg.Log.Warn("no sheet fits a device on record", "device", d.Handle)
			continue
		}
		r.keep(d, s)
	}
	return nil
}

// keep makes the keeper of a device.
func (r *Rack) keep(d store.Device, s *sheet.Series) *keeper.Keeper {
	k := keeper.New(r.ctx, keeper.Config{Records: r.cfg.Store, Facts: r.cfg.Book.Of(facts.Subject{Kind: facts.Device, ID: d.ID}), Clock: r.cfg.Clock,
		Log: r.cfg.Log, Proven: r.proven, Changed: r.tell, Ended: r.ended}, d, s)
	r.mu.Lock()
	r.keepers[d.ID], r.byHandle[d.Handle], r.ordered = k, k, nil
	r.mu.Unlock()
	return k
}

func (r *Rack) tell(k *keeper.Keeper) {
	for _, f := range r.changed {
		f(k)
	}
}

func (r *Rack) library() *sheet.Library {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.lib
}

// SetSheets replaces the library of sheets. A device whose sheet is gone keeps the one
// that it had.
func (r *Rack) SetSheets(ctx context.Context, lib *sheet.Library) error {
	r.mu.Lock()
	r.lib = lib
	r.mu.Unlock()
	for _, k := range r.All() {
		d := k.Device()
		if s := lib.Named(d.Family, d.Maker, d.Code); s != nil {
			k.SetSeries(s)
		}
	}
	unseen, err := r.makeUnseen()
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.unseen = unseen
	r.mu.Unlock()
	r.tell(unseen)
	return r.cfg.Store.Tell(ctx, "sheet.changed", "")
}

// Close ends all ways and waits.
func (r *Rack) Close() {
	r.end()
	r.mu.Lock()
	keepers := slices.Collect(maps.Values(r.keepers))
	r.mu.Unlock()
	var closing sync.WaitGroup
	for _, k := range keepers {
		closing.Go(k.Close)
	}
	closing.Wait()
}

// All returns the keepers, by handle.
func (r *Rack) All() []*keeper.Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ordered == nil {
		r.ordered = make([]*keeper.Keeper, 0, len(r.byHandle))
		for _, handle := range slices.Sorted(maps.Keys(r.byHandle)) {
			r.ordered = append(r.ordered, r.byHandle[handle])
		}
	}
	return slices.Clone(r.ordered)
}

// ByID finds a keeper by the device's id; nil if there is none.
func (r *Rack) ByID(id string) *keeper.Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	if id == UnseenID {
		return r.unseen
	}
	return r.keepers[id]
}

// Find returns the keeper of the device with a handle. The handle unseen stands for a
// device that does not show up at all.
func (r *Rack) Find(handle string) (*keeper.Keeper, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if handle == UnseenID {
		return r.unseen, nil
	}
	if k := r.byHandle[handle]; k != nil {
		return k, nil
	}
	if len(r.byHandle) == 0 {
		return nil, fmt.Errorf("device %q: %w; the rack is empty", handle, store.ErrNotFound)
	}
	names := slices.Sorted(maps.Keys(r.byHandle))
	more := ""
	const most = 20
	if len(names) > most {
		names, more = names[:most], fmt.Sprintf(" and %d more", len(names)-most)
	}
	return nil, fmt.Errorf("device %q: %w; there are %s%s", handle, store.ErrNotFound, strings.Join(names, ", "), more)
}

// UnseenID is the id and handle that stand for a device that does not show up.
const UnseenID = "unseen"

// makeUnseen makes the keeper of the device that does not show up at all.
func (r *Rack) makeUnseen() (*keeper.Keeper, error) {
	base := r.library().Base("any")
	if base == nil {
		return nil, fmt.Errorf("there is no sheet %q for devices that do not show up", "any")
	}
	return keeper.New(r.ctx, keeper.Config{Records: r.cfg.Store, Facts: r.cfg.Book.Of(facts.Subject{Kind: facts.Device, ID: UnseenID}), Clock: r.cfg.Clock,
		Log: r.cfg.Log, Proven: r.proven, Changed: r.tell, Ended: r.ended},
		store.Device{ID: UnseenID, Handle: UnseenID}, &sheet.Series{Registry: base.Registry, Sheets: []*sheet.Sheet{base}}), nil
}

// Unseen returns the keeper for a device that does not show up at all. It only knows
// what people state.
func (r *Rack) Unseen() *keeper.Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.unseen
}

// SetShared records whether several people use a host.
func (r *Rack) SetShared(host string, shared bool) {
	r.mu.Lock()
	r.shared[host] = shared
	r.mu.Unlock()
	for _, k := range r.All() {
		if k.Host() == host {
			r.tell(k)
		}
	}
}

// Shared reports whether several people use a host.
func (r *Rack) Shared(host string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.shared[host]
}

// handleShape is the form of handles.
var handleShape = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// checkHandle returns an error for a handle that a device may not have.
func checkHandle(handle string) error {
	switch {
	case handle == UnseenID:
		return problem.Errorf(problem.Invalid, "handle %s is reserved for a device that does not show up at all", handle)
	case !handleShape.MatchString(handle):
		return problem.Errorf(problem.Invalid, "handle %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", handle)
	}
	return nil
}

// Change is what a person may change in a device's record; nil leaves a field as it is.
type Change struct {
	Handle   *string
	HandsURL *string
	Key      *string // the fingerprint to pin
}

// fingerprintShape is an SHA-256 fingerprint as OpenSSH prints it.
var fingerprintShape = regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}$`)

// mostHandsURL is how long the address of a hands page may be, in bytes.
const mostHandsURL = 2048

// checkHandsURL reports whether an address may be shown beside a device: it is one of this computer, since
// whoever is shown there could look like the bench. "" is none.
func checkHandsURL(text string) error {
	if text == "" {
		return nil
	}
	u, err := url.Parse(text)
	if err != nil || len(text) > mostHandsURL || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || plain.Line(text) != text {
		return problem.Errorf(problem.Invalid, "%.80q is not the address of a page, of up to %d bytes, such as http://localhost:7423/held/heron-2", text, mostHandsURL)
	}
	host := u.Hostname()
	if ip := net.ParseIP(host); host != "localhost" && !strings.HasSuffix(host, ".localhost") && (ip == nil || !ip.IsLoopback()) {
		return problem.Errorf(problem.Invalid, "%.80q is not on this computer: pages of stand-ins are at localhost", text)
	}
	return nil
}

// Set changes a device's record.
func (r *Rack) Set(ctx context.Context, handle string, c Change) error {
	k, err := r.Find(handle)
	if err != nil {
		return err
	}
	if handle == UnseenID {
		return checkHandle(handle)
	}
	if c.Handle != nil {
		if err := checkHandle(*c.Handle); err != nil {
			return err
		}
	}
	if c.Key != nil && !fingerprintShape.MatchString(*c.Key) {
		return problem.Errorf(problem.Invalid, "device key %.80q is not a fingerprint: give SHA256: and 43 characters, as shown by the device", *c.Key)
	}
	if c.HandsURL != nil {
		if err := checkHandsURL(*c.HandsURL); err != nil {
			return err
		}
	}
	r.resolving.Lock()
	defer r.resolving.Unlock()
	if err := k.Change(ctx, store.DeviceChange{Handle: c.Handle, HandsURL: c.HandsURL, Key: c.Key}); err != nil {
		return err
	}
	if c.Handle != nil {
		r.mu.Lock()
		if r.byHandle[handle] == k {
			delete(r.byHandle, handle)
		}
		r.byHandle[*c.Handle], r.ordered = k, nil
		r.mu.Unlock()
	}
	return nil
}

package rack

import (
	"context"
	"fmt"
	"strings"

	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Introduced pins the key of a device after an introduction, and returns its keeper. as is the
// handle of the record that it is; "" has it found: by the serial that the device claims, or a
// new record.
func (r *Rack) Introduced(ctx context.Context, key string, d introduction.Description, as string) (*keeper.Keeper, error) {
	r.resolving.Lock()
	defer r.resolving.Unlock()
	if k := r.withKey(key); k != nil {
		return k, nil
	}
	k, err := r.introducedAs(key, d, as)
	if err != nil {
		return nil, err
	}
	if k == nil {
		s := r.series(d)
		if s == nil {
			return nil, fmt.Errorf("family %.40q, model %.40q: %w", d.Family, d.Model, ErrUnrecognised)
		}
		if k, err = r.add(ctx, s, store.Device{Key: key, Serial: d.Serial}); err == nil {
			r.tell(k)
		}
		return k, err
	}
	change := store.DeviceChange{Key: &key, First: true}
	if k.Device().Serial == "" && d.Serial != "" {
		change.Serial = &d.Serial
	}
	return k, k.Change(ctx, change)
}

// CheckIntroduction reports what is in the way of introducing a device as the one with a handle,
// before anybody types words. "" stands for any record.
func (r *Rack) CheckIntroduction(key string, d introduction.Description, as string) error {
	k, err := r.introducedAs(key, d, as)
	if err == nil && k == nil && r.series(d) == nil {
		err = &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("No prep sheet fits the device, which says that its family is %.40q and its model %.40q.", d.Family, d.Model),
			Remedy: "Write one: earlybench sheet new."}
	}
	return err
}

// introducedAs finds the record that a device is introduced as; nil for a new one.
func (r *Rack) introducedAs(key string, d introduction.Description, as string) (*keeper.Keeper, error) {
	if as != "" {
		k, err := r.Find(as)
		if err != nil {
			return nil, err
		}
		own := k.Device()
		switch {
		case own.Family != d.Family || own.Code != d.Model:
			return nil, &problem.Problem{Kind: problem.Invalid, Text: fmt.Sprintf("%s is a %s (%s, %s), and the device says that it is a %.40s of the family %.40s.", as, own.Model, own.Family, own.Code, d.Model, d.Family),
				Remedy: "Introduce it without giving a device, or give another one."}
		case own.Serial != "" && d.Serial != "" && own.Serial != d.Serial:
			return nil, &problem.Problem{Kind: problem.Invalid, Text: fmt.Sprintf("%s has the serial %q, and the device says that it has %.40q.", as, own.Serial, d.Serial),
				Remedy: "Introduce it without giving a device, or give another one."}
		case own.Key != "" && own.Key != key:
			return nil, pinned(own.Handle, key)
		}
		return k, nil
	}
	if d.Serial == "" {
		return nil, nil
	}
	for _, k := range r.All() {
		if own := k.Device(); own.Family == d.Family && own.Code == d.Model && own.Serial == d.Serial {
			if own.Key != "" && own.Key != key {
				return nil, pinned(own.Handle, key)
			}
			return k, nil
		}
	}
	return nil, nil
}

func pinned(handle, key string) error {
	return &problem.Problem{Kind: problem.Changed, Text: fmt.Sprintf("The device says that it is %s, but shows a different device key.", handle),
		Remedy: fmt.Sprintf("If %[1]s was wiped, pin its new key: earlybench rack set %[1]s --device-key %[2]s. If not, another device is pretending to be it.", handle, key)}
}

// series is the sheets of the model that a device states.
func (r *Rack) series(d introduction.Description) *sheet.Series {
	for _, s := range r.library().All() {
		if s.Family == d.Family && strings.EqualFold(s.Model.Code, d.Model) {
			return s
		}
	}
	return nil
}

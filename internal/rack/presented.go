package rack

import (
	"context"
	"fmt"
	"strings"

	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Presented returns the keeper of a device that an adapter has recognised, or puts a new one on record. It
// proves no key: a serial, or where none is told the place at which it was seen last, says who it is.
func (r *Rack) Presented(ctx context.Context, family, model, serial, place string) (*keeper.Keeper, error) {
	r.resolving.Lock()
	defer r.resolving.Unlock()
	s := r.series(introduction.Description{Family: family, Model: model})
	if s == nil {
		return nil, fmt.Errorf("family %.40q, model %.40q: %w", family, model, ErrUnrecognised)
	}
	for _, k := range r.All() {
		d := k.Device()
		if d.Family != family || !strings.EqualFold(d.Code, model) || d.Serial != serial || d.Key != "" {
			continue
		}
		if serial != "" || d.Place == place && len(k.Ways()) == 0 {
			return k, r.seenAt(ctx, k, place)
		}
	}
	k, err := r.add(ctx, s, store.Device{Serial: serial, Place: place})
	if err == nil {
		r.tell(k)
	}
	return k, err
}

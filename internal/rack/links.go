package rack

import "earlybench.invalid/earlybench/internal/keeper"

// Link is a way by which a device is reached.
type Link struct {
	Handle string
	keeper.Reached
}

// Links returns the ways by which devices are reached now, by handle.
func (r *Rack) Links() []Link {
	var out []Link
	for _, k := range r.All() {
		for _, w := range k.Ways() {
			out = append(out, Link{k.Device().Handle, w})
		}
	}
	return out
}

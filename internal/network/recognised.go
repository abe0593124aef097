package network

import (
	"sync"

	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Recogniser recognises devices on record by the names under which they are heard. The zero value
// is ready. Its methods may be called from any goroutine.
type Recogniser struct {
	mu    sync.Mutex
	known map[string]*link.Recogniser // by device key
}

// Recognise finds the device on record that is heard under a name; nil for none. It is only a hint:
// anybody may repeat a name.
func (r *Recogniser) Recognise(rack Rack, name string) *keeper.Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := rack.All()
	if len(r.known) > 2*len(all) { // keys that were pinned once
		r.known = nil
	}
	for _, k := range all {
		d := k.Device()
		if d.Key == "" || Retired(d) {
			continue
		}
		known := r.known[d.Key]
		if known == nil {
			known = link.NewRecogniser(d.Key)
			if r.known == nil {
				r.known = map[string]*link.Recogniser{}
			}
			r.known[d.Key] = known
		}
		if known.Recognises(name) {
			return k
		}
	}
	return nil
}

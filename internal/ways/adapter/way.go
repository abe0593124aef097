package adapter

import (
	"context"
	"fmt"
	"sync"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/ways"
)

// Way is the way to one device by an adapter, for as long as that speaks for it.
type Way struct {
	part    *part
	adapter *adapter.Adapter
	scope   string
	once    sync.Once
	began   chan struct{} // closed when Run has begun
	ended   chan struct{} // closed by stop
	done    chan struct{} // closed when Run has ended
}

func newWay(d *part, a *adapter.Adapter, k *keeper.Keeper, n int) *Way {
	return &Way{part: d, adapter: a, scope: fmt.Sprintf("adapter:%s/%d", k.Device().ID, n), began: make(chan struct{}), ended: make(chan struct{}), done: make(chan struct{})}
}

// Kind is adapter.
func (w *Way) Kind() ways.Kind { return ways.Adapter }

// Place is the adapter and the candidate as which it reaches the device.
func (w *Way) Place() ways.Place {
	return ways.Place{Port: w.part.place()}
}

// Scope is that of the time for which the device is there.
func (w *Way) Scope() string { return w.scope }

// Pins is false: such a device proves no key.
func (w *Way) Pins() bool { return false }

func (w *Way) stop() { w.once.Do(func() { close(w.ended) }) }

// Run lets the adapter speak for the device until the device is gone or the adapter ends.
func (w *Way) Run(ctx context.Context, to ways.Sink) error {
	defer close(w.done)
	close(w.began)
	s := w.adapter.Open(w.part.candidate.Device)
	defer s.Close()
	to.Observe(fact.Fact{Key: fact.AdapterSeen, Value: fact.Of(true), Source: fact.Host, At: w.part.runner.adapters.cfg.Clock.Now()})
	to.Up(s)
	select {
	case <-ctx.Done():
	case <-w.ended:
	case <-s.Done():
		if err := s.Gone(); err != nil {
			w.part.runner.says(fmt.Sprintf("%s: %v", w.part.candidate.Device, err))
		}
	}
	return nil
}

package adapter

import (
	"context"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/plain"
)

// runner runs one adapter: its program once for each candidate, so that a problem with one
// device, or with the program for it, does not affect the others.
type runner struct {
	adapters  *Adapters
	dir       string
	manifest  *adapter.Manifest
	sheet     string
	family    string
	sheetText []byte
	digest    string
	end       context.CancelFunc
	ended     chan struct{}

	mu      sync.Mutex
	version string
	log     []string
	parts   map[string]*part // by what the candidate is called
}

// lookEvery is how often candidates are looked for.
const lookEvery = 250 * time.Millisecond

// mostParts is how many programs of one adapter run at once, whatever is announced on the network.
const mostParts = 64

// run looks for candidates until ctx ends.
func (r *runner) run(ctx context.Context) {
	heard, err := r.listen()
	if err != nil {
		r.says("wrong: " + err.Error())
	}
	defer heard.close()
	for {
		r.look(ctx, heard)
		if clock.Sleep(ctx, clock.System{}, lookEvery) != nil {
			break
		}
	}
	for _, d := range r.partsWhere(func(string, *part) bool { return true }) {
		d.leave()
	}
}

// look starts candidates that have appeared, and ends those that have gone or were replaced.
func (r *runner) look(ctx context.Context, heard *announced) {
	here := map[string]candidate{}
	for _, list := range [][]candidate{r.files(), r.usb(), heard.list()} {
		for _, c := range list {
			if _, twice := here[c.Device]; !twice && len(here) < mostParts {
				here[c.Device] = c
			}
		}
	}
	gone := r.partsWhere(func(device string, d *part) bool {
		now, ok := here[device]
		return !ok || !now.is(d.candidate)
	})
	for _, d := range gone {
		d.leave()
	}
	for device, c := range here {
		r.mu.Lock()
		if r.parts[device] == nil && ctx.Err() == nil {
			d := &part{runner: r, candidate: c, ended: make(chan struct{})}
			r.parts[device] = d
			var running context.Context
			running, d.end = context.WithCancel(ctx)
			go func() {
				defer close(d.ended)
				d.run(running)
			}()
		}
		r.mu.Unlock()
	}
	if len(gone) > 0 {
		r.adapters.tell()
	}
}

// partsWhere takes out the parts for which is is true.
func (r *runner) partsWhere(is func(string, *part) bool) (out []*part) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for device, d := range r.parts {
		if is(device, d) {
			out = append(out, d)
			delete(r.parts, device)
		}
	}
	return out
}

// mostLog is how many lines of an adapter's log are kept.
const mostLog = 50

// says stores a line of the adapter's log, or of its mistakes.
func (r *runner) says(line string) {
	line = plain.Cut(plain.Line(line), 500)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.log = append(r.log, r.adapters.cfg.Clock.Now().Format("15:04:05 ")+line)
	if len(r.log) > mostLog {
		r.log = slices.Delete(r.log, 0, len(r.log)-mostLog)
	}
}

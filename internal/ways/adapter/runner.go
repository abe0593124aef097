package adapter

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/plain"
)

// runner runs one adapter: its program once for each device file that is there, so that what is wrong with one
// device, or with what the program does for it, harms no other.
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
	parts   map[string]*part // by path of the device file
}

// lookEvery is how often it is looked which device files are there.
const lookEvery = 250 * time.Millisecond

// run looks for device files until ctx ends.
func (r *runner) run(ctx context.Context) {
	for {
		r.look(ctx)
		if clock.Sleep(ctx, clock.System{}, lookEvery) != nil {
			break
		}
	}
	for _, d := range r.partsWhere(func(string, *part) bool { return true }) {
		d.leave()
	}
}

// look begins with device files that have appeared, and ends with those that have gone, or are others now.
func (r *runner) look(ctx context.Context) {
	here := map[string]os.FileInfo{}
	for _, path := range r.files() {
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			here[path] = info
		}
	}
	gone := r.partsWhere(func(path string, d *part) bool {
		info, ok := here[path]
		return !ok || !os.SameFile(info, d.info)
	})
	for _, d := range gone {
		d.leave()
	}
	for path, info := range here {
		r.mu.Lock()
		if r.parts[path] == nil && ctx.Err() == nil {
			d := &part{runner: r, path: path, info: info, ended: make(chan struct{})}
			r.parts[path] = d
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
	for path, d := range r.parts {
		if is(path, d) {
			out = append(out, d)
			delete(r.parts, path)
		}
	}
	return out
}

// files are the device files that the adapter may use and that are there.
func (r *runner) files() []string {
	var out []string
	for _, pattern := range r.manifest.Rights.Files {
		found, _ := filepath.Glob(pattern)
		out = append(out, found...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// mostLog is how many lines of an adapter's log are kept.
const mostLog = 50

// says keeps a line of the adapter's log, or of what it did wrong.
func (r *runner) says(line string) {
	line = plain.Cut(plain.Line(line), 500)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.log = append(r.log, r.adapters.cfg.Clock.Now().Format("15:04:05 ")+line)
	if len(r.log) > mostLog {
		r.log = slices.Delete(r.log, 0, len(r.log)-mostLog)
	}
}
